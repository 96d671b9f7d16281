"""Steps that take a restart or the tuner's hands, from proposal to put-back."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from tests.conftest import quick_rig

from yondle.app.machine.machines import RigChoice, choose_rig
from yondle.app.session.limits import LimitRange
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.returning import DropWaiting, GoOnWaiting, ReturnTo, ReturnToStock
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryAgain, TryProposal
from yondle.model.acts import Act
from yondle.model.errors import KnownError
from yondle.model.events import EntryOpened, Restarted, RestartOpened
from yondle.model.steps import StartAnswer, StepRecord
from yondle.model.verdicts import Failure, Verdict
from yondle.rigs.simulated.rig import SimulatedRig

MakeSession = Callable[..., Session]


def try_out(session: Session, joint: bool = False, **values: float) -> StepRecord:
    for knob, value in values.items():
        session.do(Propose(knob, value, joint=joint))
    return session.do(TryProposal(2))


def acts(session: Session, record: StepRecord) -> list[str]:
    return [
        act for act in session.logbook.journal(record.attempts[-1].id) if act in (Act.ENTRY_OPENED, Act.RESTART_OPENED)
    ]


def test_a_simulated_rigs_owner_enters_values_and_the_step_goes_on_after_the_restart(session: Session) -> None:
    session.do(RunBaseline(2))
    record = try_out(session, memory_rate=5800)
    assert record.verdict is Verdict.HELD, record.outcome
    assert acts(session, record) == [Act.ENTRY_OPENED, Act.RESTART_OPENED]
    assert session.snapshot.in_force["memory_rate"] == 5800.0
    assert record.derived["first_word_latency"] == pytest.approx(2000 * 40 / 5800)
    stages = [stage.name for stage in record.attempts[0].check.stages] if record.attempts[0].check else []
    assert stages == ["score passes", "memory_check", "mixed_load"]
    assert session.do(ReturnTo(1)).step.number == 1
    assert session.machine.rig.read_back() == session.declaration.stock


def test_several_firmware_knobs_are_entered_in_one_restart_as_a_joint_step(session: Session) -> None:
    session.do(RunBaseline(2))
    boot = session.machine.rig.boot_id()
    restarted: list[Restarted] = []
    session.subscribe(lambda each: restarted.append(each) if isinstance(each, Restarted) else None)
    record = try_out(session, joint=True, memory_rate=5800, cas=38, threads_per_core=1)
    assert restarted == [Restarted(record.attempts[0].id, session.machine.rig.boot_id())]
    assert record.step.joint
    assert acts(session, record) == [Act.ENTRY_OPENED, Act.RESTART_OPENED], "one entry, one restart"
    assert int(session.machine.rig.boot_id().split("-")[1]) == int(boot.split("-")[1]) + 1


def test_a_start_that_stops_is_named_with_its_code_and_what_it_points_to(session: Session) -> None:
    session.do(RunBaseline(2))
    try_out(session, core_clock=4300)
    record = try_out(session, memory_rate=6800)
    outcome = record.outcome
    assert outcome is not None
    assert (outcome.failure, outcome.stage, outcome.code) == (Failure.STOPPED_IN_START, "starting", "b7")
    assert outcome.pointer.subsystem == "memory"
    assert session.snapshot.in_force["core_clock"] == 4300.0
    assert session.machine.rig.read_back() == session.snapshot.in_force, (
        "the reset took the live clock, too; it was set again"
    )


def test_a_crash_keeps_firmware_values_and_putting_back_restarts_once_more(new_session: MakeSession) -> None:
    session = new_session(quick_rig(memory_load_s="600.0"))
    session.do(RunBaseline(2))
    record = try_out(session, memory_rate=6200)
    assert record.verdict in (Verdict.DOWN, Verdict.WRONG), record.outcome
    assert record.outcome is not None
    assert record.outcome.pointer.subsystem == "memory"
    assert record.outcome.last["memory_temperature"] > 10
    assert session.machine.rig.read_back() == session.declaration.stock


def test_refused_rounded_and_ignored_values_are_told_apart(session: Session) -> None:
    session.do(LimitRange("memory_voltage", None, None))
    session.do(RunBaseline(2))
    boot = session.machine.rig.boot_id()
    refused = try_out(session, memory_voltage=1.45)
    assert refused.outcome is not None
    assert refused.outcome.failure is Failure.REFUSED
    assert "at most 1.40" in refused.outcome.reason
    assert session.machine.rig.boot_id() == boot, "nothing to restart for"
    rounded = try_out(session, controller_voltage=1.085)
    assert rounded.outcome is not None
    assert "1.080\u202fV reads back (rounded to 1.080" in rounded.outcome.reason
    ignored = try_out(session, joint=True, graphics_clock=2265, graphics_power_limit=90)
    assert ignored.outcome is not None
    assert ignored.outcome.failure is Failure.NOT_IN_FORCE
    assert "90\u202fW reads back, but the limit acts at 70\u202fW" in ignored.outcome.reason


def test_the_tuner_is_waited_for_across_the_end_of_the_program(tmp_path: Path) -> None:
    path = tmp_path / "asks.yondle"
    session = create_logbook(path, choose_rig("heron"), asks=True)
    session.do(RunBaseline(2))
    heard: list[object] = []
    session.subscribe(heard.append)
    record = try_out(session, memory_rate=5800)
    assert record.outcome is None
    assert session.snapshot.waiting is not None
    assert session.snapshot.waiting.values == {"memory_rate": 5800.0}
    assert any(isinstance(r, EntryOpened) for r in heard)
    assert not any(isinstance(r, RestartOpened) for r in heard)
    for refused in (Propose("core_clock", 4300), ReturnTo(1), RunBaseline()):
        with pytest.raises(KnownError, match="waiting to be set by hand"):
            session.do(refused)
    session.close()
    again = open_logbook(path, asks=True)
    assert again.snapshot.resumed == ()
    assert again.snapshot.waiting is not None
    assert not again.snapshot.waiting.restarted
    done = again.do(GoOnWaiting())
    assert done is not None
    assert done.verdict is Verdict.HELD
    assert len(done.attempts) == 1, "the same attempt goes on"
    assert again.snapshot.waiting is None
    again.close()


@pytest.mark.parametrize(
    ("answer", "failure"),
    [
        (StartAnswer(Failure.STOPPED_IN_START, "the memory line", "b7"), Failure.STOPPED_IN_START),
        (StartAnswer(Failure.NEVER_STARTED), Failure.NEVER_STARTED),
        (StartAnswer(), Failure.NOT_IN_FORCE),
    ],
)
def test_after_a_restart_the_tuners_answer_decides(tmp_path: Path, answer: StartAnswer, failure: Failure) -> None:
    """The machine restarted on its own account while Yondle was gone, with nothing entered."""
    path = tmp_path / "asks.yondle"
    session = create_logbook(path, choose_rig("heron"), asks=True)
    session.do(RunBaseline(2))
    try_out(session, memory_rate=5800)
    rig = session.machine.rig
    session.machine.clock.wait(rig.restart())
    session.close()
    again = open_logbook(path, asks=True)
    assert again.snapshot.waiting is not None
    assert again.snapshot.waiting.restarted
    done = again.do(GoOnWaiting(answer))
    assert done is not None
    assert done.outcome is not None
    assert done.outcome.failure is failure
    if answer.code:
        assert "b7" in done.outcome.reason
        assert "the memory line" in done.outcome.reason
    assert again.snapshot.in_force == again.declaration.stock
    again.close()


def test_a_step_that_waits_can_be_dropped(tmp_path: Path) -> None:
    session = create_logbook(tmp_path / "drop.yondle", choose_rig("heron"), asks=True)
    session.do(RunBaseline(2))
    try_out(session, cas=38)
    dropped = session.do(DropWaiting())
    assert dropped is not None
    assert dropped.outcome is not None
    assert dropped.outcome.failure is Failure.STOPPED
    assert session.snapshot.waiting is None
    try_out(session, cas=38)
    assert session.snapshot.waiting is not None
    assert session.do(ReturnToStock()), "stock is one action away, whatever waits"
    assert session.snapshot.waiting is None
    session.do(Propose("core_clock", 4225))
    session.close()


def test_putting_back_waits_for_the_tuner_too_and_says_what_to_enter(tmp_path: Path) -> None:
    path = tmp_path / "back.yondle"
    session = create_logbook(path, choose_rig("heron"), asks=True)
    session.do(RunBaseline(2))
    try_out(session, memory_rate=5800)
    assert session.do(GoOnWaiting()) is not None
    session.do(ReturnTo(1))
    assert session.snapshot.waiting is not None
    assert (session.snapshot.waiting.step, session.snapshot.waiting.values) == (None, {"memory_rate": 5600.0})
    assert session.snapshot.verified is not None
    assert session.snapshot.verified.as_set < session.snapshot.verified.of
    session.close()
    again = open_logbook(path, asks=True)
    assert again.snapshot.waiting is not None
    assert again.do(GoOnWaiting()) is None
    assert again.snapshot.waiting is None
    assert again.snapshot.position is not None
    assert again.snapshot.position.step.number == 1
    assert again.machine.rig.read_back() == again.declaration.stock
    again.close()


def test_values_that_can_not_be_read_are_taken_as_told_until_a_reset(tmp_path: Path) -> None:
    session = create_logbook(tmp_path / "bittern.yondle", choose_rig("bittern"))
    session.do(RunBaseline(2))
    higher = try_out(session, core_voltage=1.2125)
    assert higher.verdict is Verdict.HELD, higher.outcome
    assert session.snapshot.in_force["core_voltage"] == 1.2125
    stopped = try_out(session, core_ratio=46)
    assert stopped.outcome is not None
    assert stopped.outcome.failure is Failure.NEVER_STARTED
    assert session.snapshot.in_force["core_voltage"] == 1.2125
    world = session.machine.rig.world.state.values  # type: ignore[attr-defined]
    assert world["core_voltage"] == 1.2125, "entered again after the reset, though nobody can read it"
    session.close()


def test_a_failed_step_is_tested_once_more_and_needs_two_holds_to_be_trusted(session: Session) -> None:
    session.do(RunBaseline(2))
    first = try_out(session, core_clock=4600)
    assert first.verdict in (Verdict.DOWN, Verdict.WRONG), first.outcome
    again = session.do(TryAgain(first.step.number, 2))
    assert again.step.number == first.step.number
    assert len(again.attempts) == 2
    assert session.snapshot.in_force == session.declaration.stock


def test_one_action_leads_back_to_stock(session: Session) -> None:
    session.do(RunBaseline(2))
    try_out(session, memory_rate=5800)
    try_out(session, core_clock=4300)
    assert session.do(ReturnToStock())
    assert session.machine.rig.read_back() == session.declaration.stock
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1


DIAL = quick_rig().replace("[knobs.fan_level]\n", '[knobs.fan_level]\nwhen = "by hand, at once"\nreadable = false\n')


def test_a_dial_is_set_by_hand_without_a_restart_and_stays_where_it_is_when_the_firmware_is_reset(
    new_session: MakeSession,
) -> None:
    session = new_session(DIAL)
    session.do(RunBaseline(2))
    boot = session.machine.rig.boot_id()
    record = try_out(session, fan_level=80)
    assert record.verdict is Verdict.HELD, record.outcome
    assert acts(session, record) == [Act.ENTRY_OPENED]
    assert session.machine.rig.boot_id() == boot
    asked: list[dict[str, float]] = []
    session.subscribe(lambda record: asked.append(record.values) if isinstance(record, EntryOpened) else None)
    assert try_out(session, memory_rate=6800).verdict is Verdict.DOWN, "it doesn't start, and the firmware is reset"
    assert asked
    assert all("fan_level" not in values for values in asked), "nobody is asked to set what is set"
    assert session.snapshot.in_force["fan_level"] == 80.0
    assert isinstance(session.machine.rig, SimulatedRig)
    assert session.machine.rig.world.state.values["fan_level"] == 80.0, "nobody turned it"


def test_what_is_set_at_once_waits_for_the_tuner_over_the_end_of_the_program_and_goes_on_when_he_says_so(
    tmp_path: Path,
) -> None:
    path = tmp_path / "dial.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", DIAL), asks=True)
    session.do(RunBaseline(2))
    try_out(session, fan_level=80)
    assert session.snapshot.waiting is not None
    assert not session.snapshot.waiting.restarts
    session.close()
    session = open_logbook(path, asks=True)
    assert session.snapshot.waiting is not None
    assert (session.snapshot.waiting.restarts, session.snapshot.waiting.restarted, session.snapshot.waiting.values) == (
        False,
        False,
        {"fan_level": 80.0},
    )
    record = session.do(GoOnWaiting())
    assert record is not None
    assert record.verdict is Verdict.HELD
    assert session.snapshot.in_force["fan_level"] == 80.0
    session.close()
