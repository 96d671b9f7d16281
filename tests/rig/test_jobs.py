"""Whole jobs on the simulated rig: what a tuner sees of them."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping
from pathlib import Path

import pytest
from tests.conftest import quick_rig
from tests.fakes import Answer, StubbornRig, stubborn_session

from yondle.analysis.margins import GainWord
from yondle.app.demo import RunEvening
from yondle.app.plans.plans import StartPlan, is_failure
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.opening import machine_file
from yondle.app.session.proposing import Propose
from yondle.app.session.remarks import WriteNote
from yondle.app.session.requests import EmergencyStop, GoOn, Pause, Stop
from yondle.app.session.returning import ReturnTo
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.engine.states import State
from yondle.model.acts import Act
from yondle.model.errors import KnownError
from yondle.model.events import (
    AttemptClosed,
    PassEnded,
    PassOpened,
    PutBackOpened,
    Record,
    Sampled,
    SettleOpened,
    StateChanged,
)
from yondle.model.profiles import Purpose
from yondle.model.rigs import KnobReply
from yondle.model.verdicts import Failure, Verdict
from yondle.planning.ladder import BAND_K
from yondle.views.shared.gains import benchmark_of, gain_of
from yondle.views.shared.steps import step_detail
from yondle.views.tune.charting import chart
from yondle.views.tune.rulers import ruler_marks, rulers
from yondle.views.tune.step import step_view
from yondle.views.tune.trail import Trail

MakeSession = Callable[..., Session]

LIMITS = """
format = "yondle-plan 1"
name = "limits"
[[do]]
kind = "sweep"
knob = "power_limit"
from = 50
to = 60
by = 10
rounds = 3
"""


def test_a_baseline_measures_every_benchmark_and_becomes_the_position(session: Session) -> None:
    record = session.do(RunBaseline(3))
    assert record.verdict is Verdict.HELD
    assert {b.id: len(record.scores(b.id)) for b in session.declaration.benchmarks} == dict.fromkeys(
        ("stacking", "sharpening", "star_match", "preview", "frames"), 3
    )
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1
    assert session.snapshot.verified is not None
    assert (session.snapshot.verified.as_set, session.snapshot.verified.of) == (27, 27)


@pytest.mark.parametrize("below", [26.0, 38.0])
def test_every_round_starts_in_the_band_of_temperatures_and_the_first_one_is_left_out(
    new_session: MakeSession, below: float
) -> None:
    """With a band near the room it is rested for, and a machine that comes in cold is warmed for a band far above it."""
    session = new_session(quick_rig(settle_below_c=str(below)))
    heard: list[Record] = []
    session.subscribe(heard.append)
    record = session.do(RunBaseline(2))
    index = [c.id for c in session.declaration.channels].index("processor_temperature")
    temperature, rounds = 0.0, {}
    for item in heard:
        if isinstance(item, Sampled):
            temperature = item.row[index] or 0.0
        if isinstance(item, PassOpened) and not item.warm_up:
            rounds.setdefault((item.stage, item.round), temperature)
    assert len(rounds) == 3
    assert all(below - BAND_K - 0.5 <= start <= below + 0.5 for start in rounds.values()), rounds
    assert any(isinstance(item, SettleOpened) for item in heard)
    warm_ups = [p for p in record.attempts[0].passes if p.warm_up]
    assert len(warm_ups) >= 5 if below < 30.0 else len(warm_ups) > 5
    assert not any(p.counts for p in warm_ups)


def test_a_step_that_holds_stays_in_force_with_a_gain_that_has_a_margin(session: Session) -> None:
    session.do(RunBaseline())
    session.do(Propose("core_clock", 4400))
    record = session.do(TryProposal())
    assert record.verdict is Verdict.HELD
    assert session.snapshot.in_force["core_clock"] == 4400.0
    gain = gain_of(session.snapshot, record, session.declaration.workload("stacking"))
    assert gain is not None
    assert gain.word is GainWord.GAIN
    assert gain.low < 0.0405 < gain.high
    capped = gain_of(session.snapshot, record, session.declaration.workload("preview"))
    assert capped is not None
    assert capped.word is GainWord.WITHIN_NOISE
    assert "at its cap" in dict(step_view(session.snapshot, 2).rows)["Preview"]


def test_a_step_that_takes_the_machine_down_is_named_and_the_last_held_setup_is_back(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4800))
    record = session.do(TryProposal(2))
    assert record.verdict is Verdict.DOWN
    assert record.outcome is not None
    assert record.outcome.failure in (Failure.FROZE, Failure.RESTARTED, Failure.NEVER_STARTED, Failure.PROGRAM_CRASHED)
    assert record.outcome.stage
    assert record.outcome.time_to_failure_s is not None
    assert session.snapshot.in_force == session.declaration.stock
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1
    assert session.machine.rig.read_back() == session.declaration.stock


def test_far_beyond_the_edge_a_live_value_freezes_the_machine_at_once(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 5000))
    record = session.do(TryProposal(2))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.FROZE
    assert record.outcome.stage == "setting"
    assert session.snapshot.in_force == session.declaration.stock


def test_a_limit_on_purpose_holds_and_one_nobody_asked_for_holds_back(session: Session) -> None:
    """A limit, a mode or a fan that was changed asks for what comes of it; a clock that was asked for and isn't there doesn't."""
    session.do(RunBaseline(2))
    for knob, value in (("power_limit", 60.0), ("power_mode", 0.0)):
        session.do(Propose(knob, value))
        record = session.do(TryProposal(2))
        assert record.verdict is Verdict.HELD, record.outcome
        assert record.outcome is not None
        assert record.outcome.reason.startswith("Held, limited by power limit: ")
        assert "of 4\u202f200\u202fMHz in " in record.outcome.reason
        assert session.snapshot.in_force[knob] == value
        row = next(r for r in Trail().rows(session.snapshot, None) if r.number == record.step.number)
        assert row.detail == "limited by power limit"
    session.do(KeepProfile("Silent", Purpose.QUIET))
    session.do(Propose("core_clock", 4100))
    assert session.do(TryProposal(2)).verdict is Verdict.HELD, (
        "what was short at home, and of which no more is asked, is no failure"
    )
    session.do(Propose("core_clock", 4300))
    record = session.do(TryProposal(2))
    assert record.verdict is Verdict.HELD_BACK
    assert record.outcome is not None
    assert record.outcome.reason.startswith("Core clock not held: ")
    assert session.snapshot.in_force["core_clock"] == 4100.0


def test_a_voltage_that_the_power_limit_makes_clocks_pay_for_is_held_back(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_voltage", 1.35))
    record = session.do(TryProposal(2))
    assert record.verdict is Verdict.HELD_BACK
    assert record.outcome is not None
    assert "power limit reached" in record.outcome.reason
    assert session.snapshot.in_force["core_voltage"] == 1.2


def test_a_baseline_limited_by_the_rig_itself_is_one_and_what_follows_is_compared_with_it(
    new_session: MakeSession,
) -> None:
    notebook = new_session(re.sub(r"(\[knobs\.power_limit\][^\[]*?stock = )\d+(\.\d+)?", r"\g<1>45.0", quick_rig()))
    baseline = notebook.do(RunBaseline(2))
    assert baseline.verdict is Verdict.HELD
    assert notebook.snapshot.baseline_step is not None
    assert step_detail(notebook.snapshot, baseline, None) == "limited by power limit"
    notebook.do(Propose("fan_level", 80.0))
    assert notebook.do(TryProposal(2)).verdict is Verdict.HELD
    notebook.do(Propose("core_clock", 4400))
    assert notebook.do(TryProposal(2)).verdict is Verdict.HELD_BACK, (
        "a clock that is asked for and not delivered proves nothing"
    )


def test_a_limit_swept_in_rounds_is_met_at_every_visit_from_the_first_pass_that_counts(
    new_session: MakeSession,
) -> None:
    slow = re.sub(r"^power_window_s = 8.0$", "power_window_s = 25.0", quick_rig(), flags=re.MULTILINE)
    session = new_session(slow)
    session.do(RunBaseline(2))
    session.do(StartPlan(LIMITS, "limits", lambda *_: None))
    for watts in (50.0, 60.0):
        record = next(r for r in session.snapshot.steps if r.step.setup["power_limit"] == watts)
        scores = record.scores("sharpening")
        assert len(record.attempts) == len(scores) == 3
        assert max(scores) / min(scores) < 1.06, "none of them rode on what the limiter had saved"
        for attempt in record.attempts:
            passes = [p for p in attempt.passes if p.workload == "sharpening" and p.result is not None]
            assert passes[-1].counts
            assert passes[-2].warm_up
            assert passes[-1].result is not None
            assert passes[-1].result.measured.mean["power_limited"] > 0.5


@pytest.mark.parametrize(
    ("sensor", "limit", "says"),
    [
        ("[sensors.processor_temperature]\nnoise = 0.25\nquantum = 0.25\nlimit = 88.0", "40.0", "Processor reached"),
        ("[sensors.package_power]\nnoise = 0.5\nquantum = 0.1\nlimit = 130.0", "70.0", "Package power reached"),
        (
            "[sensors.core_voltage_measured]\nnoise = 0.0012\nquantum = 0.001\nbias = 0.006\nlimit = 1.37",
            "1.1",
            "Core voltage",
        ),
    ],
)
def test_a_ceiling_stops_the_test_and_puts_the_machine_back(
    new_session: MakeSession, sensor: str, limit: str, says: str
) -> None:
    before = sensor.rsplit("limit = ", 1)[0]
    session = new_session(quick_rig().replace(sensor, f"{before}limit = {limit}"))
    record = session.do(RunBaseline(2))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.CEILING
    assert record.verdict is Verdict.HELD_BACK
    assert says in record.outcome.reason
    assert session.machine.rig.read_back() == session.declaration.stock


def test_a_guarded_sensor_that_falls_silent_stops_the_test(new_session: MakeSession) -> None:
    silent = "[sensors.processor_temperature]\ndropout_chance = 1.0\nlimit = 88.0\n[sensors.unused]"
    text = quick_rig().replace("[sensors.processor_temperature]\nnoise = 0.25\nquantum = 0.25\nlimit = 88.0", silent)
    session = new_session(text.replace("[sensors.unused]", ""))
    record = session.do(RunBaseline(2))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.SENSOR_LOST
    assert record.verdict is Verdict.UNPROVEN


def test_two_knobs_need_a_joint_step_on_purpose(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    with pytest.raises(KnownError, match="one step changes one knob"):
        session.do(Propose("core_voltage", 1.25))
    session.do(Propose("core_voltage", 1.22, joint=True))
    record = session.do(TryProposal(2))
    assert record.step.joint
    assert {c.knob for c in record.step.changes} == {"core_clock", "core_voltage"}
    row = Trail().rows(session.snapshot, benchmark_of(session.snapshot))[0]
    assert row.title.startswith("Joint:")


def test_what_can_not_be_proposed_says_why_and_changes_nothing(session: Session) -> None:
    for knob, value, says in (
        ("core_clock", 4601, "between its steps"),
        ("core_clock", 9000, "outside its range"),
        ("core_voltage", 1.375, "above your own limit"),
        ("colour", 1, "no knob called 'colour'"),
    ):
        with pytest.raises(KnownError, match=says):
            session.do(Propose(knob, value))
        assert session.proposal is None
    with pytest.raises(KnownError, match="no baseline"):
        session.do(TryProposal())


def test_proposing_the_value_in_force_takes_the_proposal_back(session: Session) -> None:
    session.do(Propose("core_clock", 4300))
    assert session.do(Propose("core_clock", 4200)) is None
    with pytest.raises(KnownError, match=r"Nothing is proposed|no baseline"):
        session.do(TryProposal())


def test_one_can_go_back_to_what_held_but_not_to_what_failed(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    session.do(Propose("core_clock", 4900))
    failed = session.do(TryProposal(2))
    with pytest.raises(KnownError, match="isn't put in force by itself"):
        session.do(ReturnTo(failed.step.number))
    session.do(ReturnTo(1))
    assert session.snapshot.in_force == session.declaration.stock
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1
    rows = Trail().rows(session.snapshot, benchmark_of(session.snapshot))
    assert [row.on_path for row in rows] == [False, False, True]


def test_testing_the_same_setup_again_is_another_attempt_of_the_same_step(session: Session) -> None:
    session.do(RunBaseline(2))
    for _ in range(2):
        session.do(Propose("core_clock", 4900))
        record = session.do(TryProposal(2))
    assert len(session.snapshot.steps) == 2
    assert len(record.attempts) == 2


class _Asking:
    """Asks something of the session when the engine reaches a state for the n-th time."""

    def __init__(self, session: Session, state: str, ask: Callable[[], None], nth: int = 1) -> None:
        self.states: list[str] = []
        self._state, self._ask, self._left = state, ask, nth
        session.subscribe(self)

    def __call__(self, record: Record) -> None:
        if isinstance(record, StateChanged):
            self.states.append(record.state)
            if record.state == self._state:
                self._left -= 1
                if self._left == 0:
                    self._ask()


STOPS = {"stop": Stop(), "emergency_stop": EmergencyStop()}


@pytest.mark.parametrize("state", ["OPENING", "APPLYING", "SETTLING", "PASSING"])
@pytest.mark.parametrize("how", ["stop", "emergency_stop"])
def test_stop_goes_back_and_emergency_stop_goes_to_stock_from_every_state(
    session: Session, state: str, how: str
) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    session.do(Propose("core_clock", 4400))
    asked = _Asking(session, state, lambda: session.do(STOPS[how]))
    record = session.do(TryProposal(2))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.STOPPED
    assert record.verdict is Verdict.UNPROVEN
    assert asked.states[-1] == State.RESTING.name
    assert session.engine.state is State.RESTING
    expected = 4300.0 if how == "stop" else 4200.0
    assert session.snapshot.in_force["core_clock"] == expected
    assert session.machine.rig.read_back() == session.snapshot.in_force


def test_a_pause_waits_with_the_load_off_and_keeps_the_setting(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    use = [c.id for c in session.declaration.channels].index("in_use")
    seen: list[float] = []

    def listen(record: Record) -> None:
        if isinstance(record, StateChanged) and record.state == "PASSING" and not seen:
            session.do(Pause())
        if isinstance(record, Sampled) and session.engine.state is State.PAUSED:
            value = record.row[use]
            seen.append(value if value is not None else -1.0)
            assert session.machine.rig.read_back()["core_clock"] == 4300.0
            if len(seen) == 20:
                session.do(GoOn())

    session.subscribe(listen)
    assert session.do(TryProposal(2)).verdict is Verdict.HELD
    assert len(seen) == 20
    assert max(seen) < 10


@pytest.mark.parametrize("how", ["stop", "emergency_stop"])
def test_a_paused_test_can_be_stopped(session: Session, how: str) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    _Asking(session, "PASSING", lambda: session.do(Pause()))
    _Asking(session, "PAUSED", lambda: session.do(STOPS[how]))
    assert session.do(TryProposal(2)).verdict is Verdict.UNPROVEN
    assert session.snapshot.in_force == session.declaration.stock


def refuses(values: Mapping[str, float]) -> tuple[KnobReply, ...] | None:
    return (
        (KnobReply("core_clock", values["core_clock"], False, "not while on battery"),)
        if values["core_clock"] > 4200
        else None
    )


def ignores(values: Mapping[str, float]) -> tuple[KnobReply, ...] | None:
    return tuple(KnobReply(k, v, True) for k, v in values.items()) if values["core_clock"] > 4200 else None


@pytest.mark.parametrize(("answer", "failure"), [(refuses, Failure.REFUSED), (ignores, Failure.NOT_IN_FORCE)])
def test_a_value_refused_or_not_in_force_is_never_called_set(tmp_path: Path, answer: Answer, failure: Failure) -> None:
    session = stubborn_session(tmp_path / "book.yondle", quick_rig(), answer)
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    record = session.do(TryProposal(2))
    assert record.outcome is not None
    assert record.outcome.failure is failure
    assert record.verdict is Verdict.REFUSED
    assert session.snapshot.in_force == session.declaration.stock
    session.close()


def test_a_rig_that_lost_its_settings_and_takes_them_no_more_is_not_said_to_have_them(tmp_path: Path) -> None:
    path = tmp_path / "book.yondle"
    session = stubborn_session(path, quick_rig(), lambda _: None)
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    session.close()
    machine_file(path).unlink()
    session = stubborn_session(path, quick_rig(), ignores)
    assert session.snapshot.in_force == session.declaration.stock
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 1
    session.close()


def test_a_benchmark_that_can_not_be_started_is_a_verdict_and_the_rig_goes_back(tmp_path: Path) -> None:
    session = stubborn_session(tmp_path / "book.yondle", quick_rig(), lambda _: None)
    session.do(RunBaseline(2))
    stubborn = session.machine.rig
    assert isinstance(stubborn, StubbornRig)
    stubborn.refuses_to_start = True
    session.do(Propose("core_clock", 4300))
    record = session.do(TryProposal(2))
    assert record.outcome is not None
    assert record.outcome.failure is Failure.NOT_RUN
    assert "no room for another process" in record.outcome.reason
    assert session.snapshot.in_force == session.declaration.stock
    session.close()


@pytest.mark.parametrize("clock", [4300, 4800, 5000], ids=["held", "went down", "never started"])
def test_intent_is_written_before_the_act_and_the_answer_after_it(session: Session, clock: float) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", clock))
    session.do(TryProposal(2))
    acts = session.logbook.journal(2)
    assert acts[:2] == [Act.STEP_OPENED, Act.APPLY_OPENED]
    assert acts[-3:] == [Act.VERDICT_GIVEN, Act.PUT_BACK_OPENED, Act.ATTEMPT_CLOSED]
    for opened, closed in ((Act.PASS_OPENED, Act.PASS_ENDED), (Act.SETTLE_OPENED, Act.SETTLED)):
        order = [act for act in acts if act in (opened, closed)]
        assert order == [opened, closed] * (len(order) // 2)
    passes = session.snapshot.steps[1].attempts[0].passes
    assert all(p.result is not None for p in passes)


def test_marks_are_strong_only_under_the_present_other_settings(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(Propose("core_voltage", 1.22))
    session.do(TryProposal(2))
    by_name = {view.knob.id: view for view in rulers(session.snapshot, ruler_marks(session.snapshot))}
    assert {(m.value, m.strong) for m in by_name["core_voltage"].marks} == {(1.2, True), (1.22, True)}
    assert {(m.value, m.strong) for m in by_name["core_clock"].marks} == {(4200.0, True)}
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    by_name = {view.knob.id: view for view in rulers(session.snapshot, ruler_marks(session.snapshot))}
    assert {(m.value, m.strong) for m in by_name["core_voltage"].marks} == {(1.2, False), (1.22, True)}


def test_the_evening_is_the_same_twice_and_tells_its_story(tmp_path: Path, new_session: MakeSession) -> None:
    stories = []
    for name in ("one", "two"):
        session = new_session("heron", name)
        session.do(RunEvening(lambda _move, _record: None))
        stories.append([(r.step, r.outcome, r.scores("stacking")) for r in session.snapshot.steps])
    assert stories[0] == stories[1]
    failures = [r for r in session.snapshot.steps if is_failure(r)]
    assert len({r.verdict for r in failures}) >= 2
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number < len(session.snapshot.steps)
    changed = {c.knob for r in session.snapshot.steps for c in r.step.changes}
    assert len(changed) >= 3
    view = chart(session.snapshot, session.declaration.knob("core_clock"), benchmark_of(session.snapshot))
    assert "Each +1 % of core clock has brought +0." in view.sentence
    assert view.elasticity is not None
    assert view.elasticity.low < 0.86 < view.elasticity.high + 0.03


def test_the_trace_of_an_attempt_is_complete_and_in_order(session: Session) -> None:
    heard: list[Record] = []
    session.subscribe(heard.append)
    session.do(RunBaseline(2))
    samples = [(r.t, r.row) for r in heard if isinstance(r, Sampled)]
    kept = [(t, row) for block in session.logbook.trace(1) for t, row in zip(block.times_s, block.rows, strict=True)]
    assert [t for t, _ in kept] == [t for t, _ in samples]
    assert kept[5][1] == pytest.approx(samples[5][1], rel=1e-6)
    assert any(isinstance(r, PassEnded) for r in heard)
    assert isinstance(heard[-1], StateChanged | AttemptClosed)
    assert any(isinstance(r, PutBackOpened) for r in heard)


def test_notes_stay_with_their_step(session: Session) -> None:
    session.do(RunBaseline(2))
    session.do(WriteNote(1, "  felt warm <b>not markup</b> "))
    assert step_view(session.snapshot, 1).notes[0].endswith("felt warm <b>not markup</b>")
    for text in ("", "x" * 4001):
        with pytest.raises(KnownError, match="A note has"):
            session.do(WriteNote(1, text))
