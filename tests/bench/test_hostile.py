"""A bench that lies, floods or falls silent: it fills nothing, spoils nothing, and is told in a sentence."""

from __future__ import annotations

import resource
import sys
import time
from dataclasses import replace
from pathlib import Path

import pytest

from yondle.app.machine.clocks import RealClock
from yondle.model.errors import KnownError, MachineDownError
from yondle.rigs.bench import rig as rig_module
from yondle.rigs.bench.clock import BenchClock, related
from yondle.rigs.bench.line import MOST_WAITING
from yondle.rigs.bench.rig import BenchRig
from yondle.rigs.bench.ssh import address_of

HOST = """
import json, sys, time
from tests.bench.agent import DECLARATION
from yondle.rigs.bench.protocol import FORMAT, plain
def say(told): sys.stdout.write(json.dumps(told) + "\\n"); sys.stdout.flush()
now = lambda: time.clock_gettime(time.CLOCK_BOOTTIME)
for line in sys.stdin:
    asked = json.loads(line)
    answer = {"n": asked.get("n"), "ok": True, "t": now(), "wall": time.time(), "slept": 0.0}
    match asked["do"]:
        case "begin":
            say({**answer, "format": FORMAT, "boot": "b1", "declaration": plain(DECLARATION), "before": [1]})
        case "stream":
            say(answer)
            FLOOD
        case "beat":
            pass
        case "leave":
            sys.exit()
        case _:
            say({**answer, "values": {"clock": 4200.0, "fan": 40.0, "more": 1.0}, "facts": {"a": "b\\u0007" * 5000}})
"""


def bench(flood: str) -> BenchRig:
    return BenchRig(
        address_of("ssh://bench"), RealClock(), command=(sys.executable, "-c", HOST.replace("FLOOD", flood))
    )


def test_a_flood_of_samples_is_no_more_than_a_machine_gives(monkeypatch: pytest.MonkeyPatch) -> None:
    rig = bench(
        't = now()\n            while True: t += 1e-4; say({"is": "row", "t": t, "slept": 0, "row": [50.0, 1.0]})'
    )
    monkeypatch.setattr(rig_module, "BELIEVED_WITHIN_S", 1.0)
    rig.sample()
    size, began, times = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.monotonic(), set[float]()
    rig.patience.within_s = 0.0

    def taken() -> None:
        while time.monotonic() - began < 20.0:
            rig.clock.wait(0.1)
            times.add(rig.clock.now())
            rig.sample()

    with pytest.raises((KnownError, MachineDownError)):
        taken()
    rig.close()
    assert time.monotonic() - began < 10.0, "what is dated ahead is no sample, and a line of such is given up"
    assert len(times) <= 2.0 / 0.025 + 20, "a quarter of the interval apart at least"
    assert all(at < time.monotonic() + 3.0 for at in times)
    assert resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - size < 60_000, f"{MOST_WAITING} rows at most"


@pytest.mark.parametrize(
    "flood",
    [
        'say({"is": "row", "t": 1e300, "slept": 0, "row": [50.0, 1.0]})',
        'say({"is": "row", "t": now(), "slept": 0, "row": [50.0]})',
        'say({"is": "row", "t": now(), "slept": 0, "row": [10**400, 1.0]})',
        'say({"is": "over", "pass": 1, "result": {"ok": True, "score": "x"}})',
        'sys.stdout.write("[" * 100000 + "\\n"); sys.stdout.flush()',
        'sys.stdout.write("x" * 5000000); sys.stdout.flush()',
        "sys.exit(3)",
    ],
    ids=["date", "row", "number", "result", "depth", "length", "end"],
)
def test_what_is_no_word_of_the_protocol_ends_the_talk(flood: str) -> None:
    rig = bench(flood)
    rig.patience.within_s, rig.patience.gives_up = 0.0, lambda: True

    def sampled() -> None:
        for _ in range(20):
            rig.sample()
            rig.clock.wait(0.1)

    with pytest.raises((KnownError, MachineDownError)) as ended:
        sampled()
    assert str(ended.value)
    rig.close()


def test_what_it_says_is_short_and_printable_and_knobs_that_are_none_are_left_out() -> None:
    rig = bench("pass")
    assert dict(rig.read_back()) == {"clock": 4200.0, "fan": 40.0}
    told = str(rig.facts()["a"])
    assert len(told) == 2000
    assert told.isprintable()
    rig.close()


def test_a_bench_that_comes_back_without_a_knob_isnt_taken_for_what_it_was() -> None:
    rig = bench("pass")
    clock, fan = rig.declaration.knobs
    rig._must_be_the_same(replace(rig.declaration, knobs=(clock, fan, replace(fan, id="pump"))))
    with pytest.raises(KnownError, match="other sensors or knobs"):
        rig._must_be_the_same(replace(rig.declaration, knobs=(clock, replace(fan, id="pump"))))
    assert rig.away


def test_time_stands_at_the_last_sample_and_goes_on_without_one() -> None:
    class Own(RealClock):
        def __init__(self) -> None:
            super().__init__()
            self.at = 100.0

        def now(self) -> float:
            return self.at

        def wait(self, seconds: float) -> None:
            self.at += seconds

    own = Own()
    samples: list[tuple[float, float] | None] = [(99.9, 0.0), (100.0, 0.5), (100.1, 0.5)]
    clock = BenchClock(own, lambda _: samples.pop(0) if samples else None)
    clock.wait(0.1)
    own.at = 101.0
    assert clock.now() == 99.9, "a line that stutters stretches nothing"
    clock.wait(0.2)
    assert clock.now() == 100.1, "until so much has passed there"
    assert clock.slept_s() == pytest.approx(Own().slept_s() + 0.5, abs=0.01)
    clock.hold()
    own.at = 200.0
    assert clock.now() == 100.1, "nothing is known of what came after"
    clock.release()
    clock.delay_s = 0.3
    assert clock.now() == 199.7
    own.at = 199.0
    assert clock.now() == 199.7, "it never goes back"
    asked = iter([(10.0, 0.5), (10.5, 0.1), (11.0, 0.3)])

    def ask() -> tuple[float, float]:
        there, way = next(asked)
        own.at += way
        return there, 1000.0 + way

    own.at = 50.0
    best = related(ask, own.now, lambda: 940.0, times=3)
    assert best.within_s == pytest.approx(0.05), "the quickest"
    assert best.offset_s == pytest.approx(50.5 + 0.05 - 10.5)


def test_a_file_of_the_bench_is_its_own_users_word(tmp_path: Path) -> None:
    from yondle.app.machine.agent import own_files

    folder = tmp_path / "bench"
    folder.mkdir(mode=0o755)
    (folder / "w.toml").write_text('format = "yondle-workload 1"\nid = "spin"\n')
    (folder / "o.toml").write_text('format = "yondle-own 1"\n')
    (folder / "open.toml").write_text('format = "yondle-workload 1"\nid = "others"\n')
    (folder / "open.toml").chmod(0o666)
    workloads, own = own_files(folder)
    assert [text.splitlines()[1] for text in workloads] == ['id = "spin"']
    assert len(own) == 1
    folder.chmod(0o777)
    assert own_files(folder) == ((), ())
