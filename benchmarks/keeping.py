"""What the service that keeps profiles costs: processor time, memory and wake-ups of the real process on a stand-in machine."""

from __future__ import annotations

import json
import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from tests.linux.trees import desktop, put

from benchmarks.measuring import Line
from yondle.rigs.linux import root as helper_root

FOR_S = 120.0
"""Twelve of its wakes."""


def lines() -> Iterator[Line]:
    """Let it keep a profile for a while and read what the kernel counted."""
    with tempfile.TemporaryDirectory() as folder:
        root = put(desktop(Path(folder)), {"run/systemd/system/there": "", "dev/kmsg": ""})
        source = Path(helper_root.__file__).parent
        code = (
            f"import sys; sys.path.insert(0, {str(source)!r}); from pathlib import Path; from helper import keeper, keeping;"
            f"keeping._system = lambda *_: None; usual = keeper.Keeper.__init__.__defaults__;"
            f"keeper.Keeper.__init__.__defaults__ = ({os.getuid()}, *usual[1:]);"
            f"root = Path({str(root)!r});"
            f"keeping.main(sys.argv[1:], root, {os.getuid()}) if len(sys.argv) > 1 else keeper.live(root)"
        )
        profile = {"name": "Daily", "logbook": "5f0c", "step": 1, "values": {"core_clock_most": 4600.0}}
        request = json.dumps({"for": "both", "profile": profile, "instead": False}) + "\n"
        subprocess.run(
            [sys.executable, "-I", "-c", code, "set"], input=request, text=True, check=True, capture_output=True
        )
        service = subprocess.Popen([sys.executable, "-I", "-c", code], stdout=subprocess.DEVNULL)
        time.sleep(2.0)
        began, used, woken = time.monotonic(), _used_s(service.pid), _switches(service.pid)
        time.sleep(FOR_S)
        passed = time.monotonic() - began
        share = (_used_s(service.pid) - used) / passed
        woke = (_switches(service.pid) - woken) / passed
        resident = int(_status(service.pid, "VmRSS")) / 1024
        service.terminate()
        service.wait()
    yield Line("the service that keeps a profile, at rest", f"{100 * share:.3f} % of a core", "", "", "under 0.05 %")
    yield Line("its memory", f"{resident:.1f} MiB", "", "", "under 15 MB")
    yield Line("its wake-ups", f"one in {1 / woke:.0f} s" if woke else "none", "", "", "at most one in 10 s")


def _used_s(pid: int) -> float:
    fields = Path(f"/proc/{pid}/schedstat").read_text().split()
    return int(fields[0]) / 1e9


def _switches(pid: int) -> int:
    return int(_status(pid, "voluntary_ctxt_switches"))


def _status(pid: int, name: str) -> str:
    lines_ = Path(f"/proc/{pid}/status").read_text().splitlines()
    return next(line.split()[1] for line in lines_ if line.startswith(f"{name}:"))
