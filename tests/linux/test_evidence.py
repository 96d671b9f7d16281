"""What the machine itself says goes into the verdict: another boot, crash records, its log, throttling, memory errors."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

from tests.linux import trees

from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import Machine
from yondle.app.session.proposing import Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryAgain, TryProposal
from yondle.logbook.logbook import Logbook
from yondle.model.measured import Measured
from yondle.model.verdicts import Failure, Verdict
from yondle.model.workloads import PassResult
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost

MCE = "2,9,9,-;mce: [Hardware Error]: CPU 1: Machine Check: 0 Bank 5\n"


class TreeRun:
    """A pass that is over at once, after something happened to the machine."""

    def __init__(self, happens: Callable[[], None], facts: dict[str, str | float]) -> None:
        self._happens, self._facts = happens, facts
        self.pid, self.alive = 1, False

    def poll(self) -> PassResult | None:
        self._happens()
        return PassResult(True, 100.0, 1.0, measured=Measured.of(dict(self._facts)))

    def stop(self) -> None:
        return


class TreeHost(ChildHost):
    """Runs nothing; `happens` is what goes on meanwhile."""

    def __init__(self, clock: RealClock) -> None:
        super().__init__(clock.now, clock.wake)
        self.usual, self.hard_load, self.loads_for = ("whole_numbers",), ("", 0.0), {}
        self.happens: Callable[[], None] = lambda: None
        self.facts: dict[str, str | float] = {}

    def start(self, workload: str, seconds: float, cpus: list[int]) -> TreeRun:
        return TreeRun(self.happens, self.facts)


def open_on(root: Path, book: Path) -> tuple[Session, TreeHost]:
    clock = RealClock()
    host = TreeHost(clock)
    rig = ThisRig(host, clock.now, root)
    rig.declaration = replace(rig.declaration, sample_interval_s=0.01)
    logbook = Logbook(book) if book.exists() else Logbook.create(book, "this", "This machine", "")
    return Session(logbook, Machine(rig, clock, NobodyThere())), host


def test_a_machine_that_restarted_is_called_so_with_the_crash_record_it_kept(tmp_path: Path) -> None:
    root, book = trees.server(tmp_path / "root"), tmp_path / "this.yondle"
    session, host = open_on(root, book)

    def power_goes() -> None:
        raise SystemExit

    host.happens = power_goes
    try:
        session.do(RunBaseline(2))
    except SystemExit:
        session.close()
    (root / "proc/sys/kernel/random/boot_id").write_text("bbbb")
    (root / "sys/fs/pstore/dmesg-efi-1").touch()
    session, _ = open_on(root, book)
    outcome = session.snapshot.resumed[0].outcome
    assert outcome.failure is Failure.RESTARTED
    assert "dmesg-efi-1: Kernel panic - not syncing: Fatal machine check" in outcome.reason
    session.close()


def test_hardware_errors_throttling_and_memory_errors_decide_and_are_quoted(tmp_path: Path) -> None:
    root, book = trees.server(tmp_path / "root"), tmp_path / "this.yondle"
    trees.put(root, {"dev/kmsg": "6,0,0,-;nothing yet"})
    session, host = open_on(root, book)
    assert session.do(RunBaseline(2)).verdict is Verdict.HELD

    def logs() -> None:
        with (root / "dev/kmsg").open("a") as log:
            log.write(MCE)

    host.happens = logs
    step = session.do(TryAgain(1, 2))
    assert step.outcome is not None
    assert step.outcome.failure is Failure.ERRORS_CORRECTED
    last = step.attempts[-1].passes[-1].result
    assert last is not None
    assert str(last.measured.told["kernel log"]).startswith("mce: [Hardware Error]")

    def counts(file: str) -> Callable[[], None]:
        def happens() -> None:
            counter = root / file
            counter.write_text(str(int(counter.read_text()) + 1))

        return happens

    host.happens = counts("sys/devices/system/edac/mc/mc0/ce_count")
    outcome = session.do(TryAgain(1, 2)).outcome
    assert outcome is not None
    assert (outcome.failure, outcome.pointer.subsystem) == (Failure.ERRORS_CORRECTED, "memory"), outcome
    host.happens = counts("sys/devices/system/cpu/cpu2/thermal_throttle/core_throttle_count")
    session.do(Propose("workers", 1.0))
    outcome = session.do(TryProposal(2)).outcome
    assert outcome is not None
    assert outcome.failure is Failure.CLOCK_NOT_HELD
    assert "Throttled for heat" in outcome.reason
    session.close()


def test_stock_that_throttles_by_itself_is_a_baseline_that_says_so(tmp_path: Path) -> None:
    root = trees.server(tmp_path / "root")
    session, host = open_on(root, tmp_path / "this.yondle")
    counter = root / "sys/devices/system/cpu/cpu2/thermal_throttle/core_throttle_count"
    host.happens = lambda: counter.write_text(str(int(counter.read_text()) + 1)) and None
    baseline = session.do(RunBaseline(2))
    assert baseline.verdict is Verdict.HELD
    assert baseline.outcome is not None
    assert baseline.outcome.reason.startswith("Held, limited (Throttled for heat")
    session.close()


def test_a_clock_that_moved_disturbs_a_pass_unless_the_machine_throttled(tmp_path: Path) -> None:
    root = trees.server(tmp_path / "root")
    session, host = open_on(root, tmp_path / "this.yondle")
    host.facts = {"reference_moved": 7.0}
    passes = session.do(RunBaseline(2)).attempts[-1].passes
    assert passes[-1].disturbed == "the clock moved by 7 % in the pass"
    assert len(passes) == 7, "a warm-up, one to see what limits, two passes, and three of them repeated"
    session.close()
