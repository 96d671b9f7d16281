"""This machine as a rig: readings from a stand-in tree, and a real climb over workers with the real benchmark."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest

from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import Machine
from yondle.app.session.proposing import Propose
from yondle.app.session.returning import ReturnTo
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.logbook.logbook import Logbook
from yondle.model.errors import KnownError
from yondle.model.verdicts import Verdict
from yondle.rigs.linux.proc import Proc
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost
from yondle.workloads.kernels.wide_arithmetic import DOUBLES, EXPECTED_CRC, Work

STAT = """cpu  1000 50 300 8000 100 10 20 5 0 0
cpu0 500 25 150 4000 50 5 10 0 0 0
intr 1 2 3
"""


@pytest.fixture
def tree(tmp_path: Path) -> Path:
    proc = tmp_path / "proc"
    (proc / "sys/kernel/random").mkdir(parents=True)
    (proc / "pressure").mkdir()
    (proc / "42").mkdir()
    (proc / "stat").write_text(STAT)
    (proc / "meminfo").write_text("MemTotal:       16777216 kB\nMemFree: 1 kB\nMemAvailable:    8388608 kB\n")
    (proc / "cpuinfo").write_text(
        "processor\t: 0\nmodel name\t: Calder C8\ncpu MHz\t\t: 4200.000\n\ncpu MHz\t: 4000.000\n"
    )
    (proc / "pressure/cpu").write_text("some avg10=1.50 avg60=0.00 avg300=0.00 total=1\n")
    (proc / "sys/kernel/random/boot_id").write_text("1234\n")
    fields = ["0"] * 50
    fields[11 + 2], fields[12 + 2] = "300", "100"
    (proc / "42/stat").write_text("42 (a (strange) name) " + " ".join(fields[2:]))
    return tmp_path


def test_readings_follow_the_kernels_documented_formats(tree: Path) -> None:
    proc, tick = Proc(tree), os.sysconf("SC_CLK_TCK")
    times = proc.cpu_times()
    assert times["cpu"].whole_s == pytest.approx(9485 / tick)
    assert times["cpu"].busy_s == pytest.approx((9485 - 8100) / tick)
    assert proc.clock_mhz() == 4100.0
    assert proc.processor() == "Calder C8"
    assert proc.memory_gib() == (8.0, 16.0)
    assert proc.pressure_percent("cpu") == 1.5
    assert proc.boot_id() == "1234"
    assert proc.process_s([42, 77]) == pytest.approx(400 / tick)


def test_what_a_machine_has_not_got_is_not_offered(tmp_path: Path) -> None:
    proc = Proc(tmp_path)
    assert (proc.clock_mhz(), proc.memory_gib(), proc.pressure_percent("cpu"), proc.cpu_times()) == (
        None,
        None,
        None,
        {},
    )
    rig = ThisRig(ChildHost(lambda: 0.0), lambda: 0.0, tmp_path)
    assert {c.id for c in rig.declaration.channels} >= {"in_use", "other_use"}
    assert "clock" not in {c.id for c in rig.declaration.channels}
    assert set(rig.sample()) == {None}


def test_wide_arithmetic_has_the_same_checksum_every_time_and_any_flipped_bit_changes_it() -> None:
    unit = Work()
    assert unit.run() == EXPECTED_CRC
    assert unit.run() == EXPECTED_CRC
    start, right = unit._start.copy(), unit.run(4)
    chance = np.random.default_rng(5)
    for bit in range(64):
        for at in chance.integers(0, DOUBLES, 4):
            unit._start = start.copy()
            unit._start.view(np.uint64)[at] ^= np.uint64(1 << bit)
            assert unit.run(4) != right, (bit, at)


@pytest.mark.skipif(len(os.sched_getaffinity(0)) < 2, reason="one processor: there is nothing to step")
def test_a_real_step_over_workers_with_the_real_benchmark(tmp_path: Path) -> None:
    clock = RealClock()
    host = ChildHost(clock.now)
    host.workloads = tuple(replace(work, pass_s=0.4) for work in host.workloads)
    host.usual, host.hard_load, host.loads_for = ("wide_arithmetic",), ("wide_arithmetic", 2.0), {}
    logbook = Logbook.create(tmp_path / "this.yondle", "this", "This machine", "")
    rig = ThisRig(host, clock.now)
    rig.declaration = replace(rig.declaration, others_at_most=100.0)
    session = Session(logbook, Machine(rig, clock, NobodyThere()))
    heard: list[str] = []
    session.subscribe(lambda record: heard.append(type(record).__name__))
    baseline = session.do(RunBaseline(2))
    assert baseline.verdict is Verdict.HELD, baseline.outcome
    session.do(Propose("workers", 1))
    step = session.do(TryProposal(2))
    assert step.verdict is Verdict.HELD, step.outcome
    facts = [p.result.measured.facts() for p in step.attempts[0].passes if p.result]
    assert {f["measured workers"] for f in facts} == {1}
    assert all(float(f["vector_bits"]) in (128, 256, 512) for f in facts)
    assert heard.count("Sampled") > 10
    with pytest.raises(KnownError, match="outside its range"):
        session.do(Propose("workers", 0))
    session.do(ReturnTo(1))
    assert session.snapshot.in_force == session.declaration.stock
    session.close()


def test_processors_taken_away_are_noticed_as_not_in_force(tmp_path: Path) -> None:
    rig = ThisRig(ChildHost(lambda: 0.0), lambda: 0.0)
    if not rig.declaration.knobs:
        pytest.skip("one processor: there is nothing to take away")
    before = os.sched_getaffinity(0)
    os.sched_setaffinity(0, {min(before)})
    try:
        assert rig.read_back()["workers"] == 1.0
    finally:
        os.sched_setaffinity(0, before)
