"""Plans that run by themselves and profiles that bring settings back exactly, on the simulated rig."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

import pytest
from tests.conftest import quick_rig

from yondle.app.books.export import logbook_text
from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import EndPlan, GoOnWithPlan, StartPlan
from yondle.app.profiles.profiles import (
    ImportProfile,
    KeepProfile,
    ProposeProfile,
    UseProfile,
    compared_to_stock,
    profile,
    profile_text,
)
from yondle.app.session.limits import LimitRange, LimitReading
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.requests import EmergencyStop, Stop
from yondle.app.session.returning import GoOnWaiting, ReturnTo, ReturnToStock
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.model.errors import KnownError
from yondle.model.events import PassOpened, Record
from yondle.model.plan_runs import Ended
from yondle.model.profiles import Purpose
from yondle.model.verdicts import Failure, Verdict
from yondle.views.shared.power import power_hint
from yondle.views.tune.step import answered_by, step_view

MakeSession = Callable[..., Session]

SWEEP = """
format = "yondle-plan 1"
name = "power"
passes = 2
[[do]]
kind = "sweep"
knob = "power_limit"
from = 70
to = 110
by = 20
[[do]]
kind = "steps"
steps = [{ memory_rate = 5800 }, { cas = 26 }, { core_clock = 4300 }]
"""


def nothing(*_: object) -> None:
    pass


def test_a_plan_runs_through_restarts_and_failures_to_its_end(session: Session) -> None:
    session.do(RunBaseline(2))
    heard: list[object] = []
    end = session.do(StartPlan(SWEEP, "sweep", lambda move, record: heard.append((move, record.verdict))))
    assert (end.ended, end.moves) == (Ended.DONE, 9)
    verdicts = [r.verdict for r in session.snapshot.steps[1:]]
    assert verdicts[0] is Verdict.HELD, "the sweep asked for less power"
    assert verdicts[3:] == [Verdict.HELD, Verdict.DOWN, Verdict.HELD]
    assert session.snapshot.in_force["core_clock"] == 4300.0
    assert session.snapshot.in_force["memory_rate"] == 5800.0
    assert session.machine.rig.read_back() == session.snapshot.in_force
    with pytest.raises(KnownError, match="No plan is under way"):
        session.do(EndPlan())


def test_a_plan_pauses_and_goes_on_where_it_was_after_the_program_has_ended(tmp_path: Path) -> None:
    path = tmp_path / "book.yondle"
    first = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    first.do(RunBaseline(2))
    made: list[object] = []
    end = first.do(StartPlan(SWEEP, "sweep", lambda *_: made.append(1), lambda: len(made) >= 2))
    assert end.ended is Ended.PAUSED
    with pytest.raises(KnownError, match="not finished"):
        first.do(StartPlan(SWEEP, "sweep", nothing))
    first.close()
    again = open_logbook(path)
    steps = len(again.snapshot.steps)
    end = again.do(GoOnWithPlan(nothing))
    assert (end.ended, end.moves) == (Ended.DONE, 9)
    assert len(again.snapshot.steps) == 7
    assert steps < 7
    again.close()


@pytest.mark.parametrize(
    ("rule", "says"),
    [
        ("failures = 1", "1 steps have failed"),
        ("hours = 0.1", "has run for"),
        ("verdicts = ['went down']", "is 'went down'"),
    ],
)
def test_stop_rules_end_a_plan(session: Session, rule: str, says: str) -> None:
    session.do(RunBaseline(2))
    end = session.do(StartPlan(SWEEP.replace("[[do]]", f"[stop]\n{rule}\n[[do]]", 1), "sweep", nothing))
    assert end.ended is Ended.RULE
    assert says in end.reason
    assert len(session.snapshot.steps) < 7


@pytest.mark.parametrize("gravely", [False, True], ids=["stop", "emergency stop"])
def test_a_plan_that_was_stopped_goes_on_with_the_step_it_was_stopped_in(session: Session, gravely: bool) -> None:
    session.do(RunBaseline(2))
    left = [4]

    def stop(record: Record) -> None:
        if isinstance(record, PassOpened) and record.number == 3:
            left[0] -= 1
            if left[0] == 0:
                session.do(EmergencyStop() if gravely else Stop())

    session.subscribe(stop)
    end = session.do(StartPlan(SWEEP, "sweep", nothing))
    assert end.ended is Ended.STOPPED
    assert session.snapshot.steps[-1].outcome is not None
    assert session.snapshot.steps[-1].outcome.failure is Failure.STOPPED
    stopped, steps = session.snapshot.steps[-1].step.number, len(session.snapshot.steps)
    if not gravely:
        session.do(ReturnTo(1))
    assert session.snapshot.in_force == session.declaration.stock
    end = session.do(GoOnWithPlan(nothing))
    assert (end.ended, end.moves) == (Ended.DONE, 9)
    assert session.snapshot.step(stopped).verdict is Verdict.HELD
    assert len(session.snapshot.step(stopped).attempts) == 2
    assert len(session.snapshot.steps) == 7
    assert steps < 7
    assert session.snapshot.in_force["core_clock"] == 4300.0
    assert session.snapshot.in_force["memory_rate"] == 5800.0


def test_a_plan_that_waits_for_the_tuner_goes_on_after_the_entry(tmp_path: Path) -> None:
    session = create_logbook(tmp_path / "asks.yondle", RigChoice("simulated", "Heron", quick_rig()), asks=True)
    session.do(RunBaseline(2))
    end = session.do(StartPlan(SWEEP, "sweep", nothing))
    assert end.ended is Ended.WAITING
    assert session.snapshot.waiting is not None
    assert session.do(GoOnWaiting()) is not None
    end = session.do(GoOnWithPlan(nothing))
    assert end.ended is Ended.WAITING, "the next entry"
    assert session.snapshot.waiting is not None
    assert session.snapshot.waiting.values == {"cas": 26.0}
    session.close()


def test_a_changed_limit_is_noticed_when_a_plan_goes_on(session: Session) -> None:
    session.do(RunBaseline(2))
    made: list[object] = []
    session.do(StartPlan(SWEEP, "sweep", lambda *_: made.append(1), lambda: len(made) >= 3))
    session.do(LimitRange("power_limit", 80, 120))
    with pytest.raises(KnownError, match="limit or the plan has changed"):
        session.do(GoOnWithPlan(nothing))
    session.do(EndPlan())


def test_the_same_plan_with_the_same_seed_gives_the_same_logbook(new_session: MakeSession) -> None:
    texts = []
    for name in ("one", "two"):
        session = new_session(name=name)
        session.do(RunBaseline(2))
        session.do(StartPlan(SWEEP, "sweep", nothing))
        texts.append(logbook_text(session.snapshot))
    assert texts[0] == texts[1]


def test_a_profile_brings_every_knob_back_exactly(session: Session, tmp_path: Path) -> None:
    session.do(RunBaseline(2))
    for values in ({"memory_rate": 5800.0, "trcd": 39.0, "cas": 39.0 + 1}, {"core_clock": 4350.0}):
        for knob, value in values.items():
            session.do(Propose(knob, value, joint=len(values) > 1))
        assert session.do(TryProposal(2)).verdict is Verdict.HELD
    session.do(KeepProfile("Planet night", Purpose.DAILY))
    kept = session.snapshot.in_force
    session.do(ReturnToStock())
    session.do(UseProfile("planet night"))
    assert session.snapshot.in_force == kept
    assert session.machine.rig.read_back() == kept
    compared = compared_to_stock(session.snapshot, profile(session.snapshot, "Planet night"))
    assert ("Memory rate", "5\u202f600\u202fMT/s", "5\u202f800\u202fMT/s") in compared.knobs
    assert any(name == "First word" for name, _, _ in compared.derived)
    assert any(name == "Stacking" for name, _ in compared.gains)
    file = tmp_path / "night.toml"
    file.write_text(profile_text(session.snapshot, profile(session.snapshot, "Planet night")))
    assert 'power_mode = "Balanced"' in file.read_text()
    file.write_text(file.read_text().replace("Planet night", "From a file").replace("4350.0", "4375.0"))
    made = session.do(ImportProfile(file))
    with pytest.raises(KnownError, match="'Planet night' with other settings"):
        session.do(KeepProfile("planet NIGHT", step=1))
    assert made.setup["core_clock"] == 4375.0
    assert [p.name for p in session.snapshot.profiles] == ["From a file", "Planet night"]
    with pytest.raises(KnownError, match="hasn't been tested"):
        session.do(UseProfile("From a file"))
    session.do(ProposeProfile("From a file"))
    assert session.proposal is not None
    assert [c.knob for c in session.proposal.changes] == ["core_clock"]


@pytest.mark.parametrize(
    ("before", "after", "says"),
    [
        ('rig = "heron"', 'rig = "bittern"', "profile of 'bittern'"),
        ("core_clock = 4200.0", "core_clock = 4201.0", "between its steps"),
        ('power_mode = "Balanced"', 'power_mode = "Loud"', "one of Quiet"),
        ("yondle-profile 1", "yondle-profile 7", "format"),
        ("[settings]", "[settings", "no valid TOML"),
    ],
)
def test_a_faulty_profile_is_refused_and_nothing_kept(
    session: Session, tmp_path: Path, before: str, after: str, says: str
) -> None:
    session.do(RunBaseline(2))
    text = profile_text(session.snapshot, session.do(KeepProfile("Stock", Purpose.OTHER)))
    file = tmp_path / "x.toml"
    file.write_text(text.replace(before, after, 1).replace('"Stock"', '"Other"'))
    with pytest.raises(KnownError) as refusal:
        session.do(ImportProfile(file))
    assert says in str(refusal.value)
    assert [p.name for p in session.snapshot.profiles] == ["Stock"]


def test_what_did_not_hold_is_no_profile_and_the_battery_hints_at_one(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("power_limit", 60))
    limited = session.do(TryProposal(2))
    session.do(KeepProfile("Frugal", step=limited.step.number))
    session.do(Propose("core_clock", 4500))
    held_back = session.do(TryProposal(2))
    with pytest.raises(KnownError, match="hasn't held"):
        session.do(KeepProfile("No", step=held_back.step.number))
    session.do(ReturnTo(1))
    assert power_hint(session.snapshot) == ""
    session.do(Propose("fan_level", 35))
    session.do(TryProposal(2))
    session.do(KeepProfile("Hush", Purpose.QUIET))
    assert power_hint(session.snapshot) == "", "it is in force"
    session.do(ReturnTo(1))
    assert power_hint(session.snapshot) == "On battery use 'Hush'."


def test_own_limits_hold_everywhere_and_outlive_the_program(session: Session) -> None:
    session.do(LimitRange("core_voltage", 1.1, 1.22))
    session.do(LimitReading("processor_temperature", 80.0))
    with pytest.raises(KnownError, match=r"above your own limit of 1\.220"):
        session.do(Propose("core_voltage", 1.25))
    with pytest.raises(KnownError, match="is at 4\u202f200\u202fMHz now"):
        session.do(LimitRange("core_clock", None, 4000))
    path = session.logbook.path
    session.close()
    again = open_logbook(path)
    assert again.declaration.own_range(again.declaration.knob("core_voltage")) == (1.1, 1.22)
    assert {x.channel: x.most for x in again.declaration.limits}["processor_temperature"] == 80.0
    again.do(LimitRange("core_voltage", None, None))
    again.do(LimitReading("processor_temperature", None))
    assert "core_voltage" not in again.declaration.ceilings
    assert all(x.channel != "processor_temperature" for x in again.declaration.limits)
    again.close()


def test_what_was_done_about_a_failure_is_told(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4650))
    failed = session.do(TryProposal(2))
    assert failed.verdict is not Verdict.HELD
    session.do(Propose("core_voltage", 1.25))
    session.do(TryProposal(2))
    answer = answered_by(session.snapshot, failed)
    assert answer is not None
    assert answer.step.number == 3
    shown = step_view(session.snapshot, 2)
    assert "Points to the processor" in shown.signs
    assert "Then tried Core voltage 1.250, step 3." in shown.signs


def test_a_suspended_machine_disturbs_the_pass_which_is_repeated(session: Session) -> None:
    session.do(RunBaseline(2))
    virtual = session.machine.virtual
    assert virtual is not None
    slept: list[float] = []

    def nap(record: Record) -> None:
        if isinstance(record, PassOpened) and record.stage == "mixed_load" and not slept:
            slept.append(1.0)
            virtual.suspend(7200.0)

    session.subscribe(nap)
    session.do(Propose("core_clock", 4300))
    record = session.do(TryProposal(2))
    loads = [p for p in record.attempts[0].passes if p.stage == "mixed_load"]
    assert record.verdict is Verdict.HELD
    assert [p.disturbed for p in loads] == ["the machine was suspended for 2\u202fh", ""]


def test_a_clock_set_back_changes_no_order_and_is_recorded(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    path = tmp_path / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    session.close()
    text = quick_rig(starts_at="2026-10-17T18:30:00+01:00")
    from yondle.app.machine.machines import make_machine
    from yondle.app.session.opening import machine_file
    from yondle.logbook.logbook import Logbook

    logbook = Logbook(path)
    earlier = make_machine(RigChoice("simulated", "Heron", text), machine_file(path), None, logbook.last_time_s())
    session = Session(logbook, earlier)
    session.do(Propose("core_clock", 4300))
    record = session.do(TryProposal(2))
    assert str(record.attempts[0].conditions["clock"]).startswith("set back by 1\u202fh")
    assert record.attempts[0].started_s > session.snapshot.step(1).attempts[0].started_s
    assert [r.step.number for r in session.snapshot.steps] == [1, 2]
    session.close()


def test_a_second_failure_in_putting_back_ends_at_stock(session: Session) -> None:
    """The home that was measured in the evening no longer starts: the rig goes to stock and says so."""
    session.do(RunBaseline(2))
    session.do(Propose("memory_rate", 5800))
    session.do(TryProposal(2))
    edges = session.machine.rig.world.rig.memory_edge  # type: ignore[attr-defined]
    worse = edges.model_copy(update={"io_mt_s": 5200.0, "start_margin_mt_s": 200.0})
    rig = session.machine.rig.world.rig.model_copy(update={"memory_edge": worse})  # type: ignore[attr-defined]
    world = session.machine.rig.world  # type: ignore[attr-defined]
    world.rig = world.firmware._rig = rig
    session.do(Propose("cas", 38))
    record = session.do(TryProposal(2))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.STOPPED_IN_START
    assert session.snapshot.in_force == session.declaration.stock == session.machine.rig.read_back()
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1
