"""What a command costs before it does anything: processor time of whole runs, against a bare interpreter in the same run."""

from __future__ import annotations

import resource
import statistics
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from pathlib import Path

from benchmarks.measuring import Line, ms, usual_environment
from yondle.app.demo import RunEvening
from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook

GOES = 7
COMPLETING = {"_YONDLE_COMPLETE": "complete_bash", "COMP_WORDS": "yondle st", "COMP_CWORD": "1"}


def lines() -> Iterator[Line]:
    """Measure and give the lines."""
    bare = _processor_s(["-c", "pass"])
    with tempfile.TemporaryDirectory() as folder:
        book = Path(folder) / "heron.yondle"
        session = create_logbook(book, choose_rig("heron"))
        session.do(RunEvening(lambda _move, _record: None))
        session.close()
        for what, arguments, extra, aim in (
            ("yondle --version, processor time", ["--version"], {}, "under 250 ms"),
            ("yondle --help, processor time", ["--help"], {}, "under 250 ms"),
            ("completing the name of a command, processor time", [], COMPLETING, "under 300 ms"),
            ("yondle status of Heron's evening, processor time", ["status", str(book)], {}, "under 800 ms"),
        ):
            took = _processor_s(["-m", "yondle.main", *arguments], extra)
            yield Line(what, ms(took), f"a bare interpreter: {ms(bare)}", f"{took / bare:.1f} x", aim)


def _processor_s(arguments: list[str], extra: dict[str, str] | None = None) -> float:
    """Give the median processor time of a run, after one that fills the caches."""
    environment, times = {**usual_environment(), **(extra or {})}, []
    for _ in range(GOES + 1):
        before = resource.getrusage(resource.RUSAGE_CHILDREN)
        subprocess.run([sys.executable, *arguments], env=environment, capture_output=True, check=False)
        after = resource.getrusage(resource.RUSAGE_CHILDREN)
        times.append(after.ru_utime + after.ru_stime - before.ru_utime - before.ru_stime)
    return statistics.median(times[1:])
