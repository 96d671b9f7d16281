"""A machine that isn't as it was: a helper absent, a card pulled, a sensor gone, a knob that is new.

Every place, command and report goes on with the record; nothing is set that wasn't asked for, and what can't be done is said.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.conftest import quick_rig
from tests.fakes import ChangedRig, changed_session

from yondle.app.books.columns import Shelf
from yondle.app.plans.plans import go_on_with_plan, start_plan
from yondle.app.profiles.profiles import compared_to_stock, keep_profile, profiles, propose_profile, use_profile
from yondle.app.reports.reporting import report_of
from yondle.app.session.session import Session
from yondle.model.errors import KnownError
from yondle.model.events import PassOpened, Record
from yondle.model.knobs import Knob
from yondle.model.verdicts import Verdict
from yondle.views.compare.compare import compare
from yondle.views.kept import ViewCache
from yondle.views.record.log import LogRows
from yondle.views.scaling.curves import knobs_measured, scaling
from yondle.views.shared.measured import settings_of
from yondle.views.traces.traces import trace_of
from yondle.views.tune.charting import chart
from yondle.views.tune.step import step_view

GONE = frozenset({"fan_level", "processor_temperature", "star_match"})
SWEEP = """
format = "yondle-plan 1"
name = "fan levels"
passes = 2
[[do]]
kind = "sweep"
knob = "{knob}"
from = {low}
to = {high}
by = {by}
"""


def other_value(knob: Knob) -> float:
    return knob.at(knob.notch_of(knob.stock) + (-1 if knob.stock == knob.high else 1))


def look_everywhere(session: Session) -> None:
    """Make everything that the places show."""
    views = ViewCache(lambda: session.snapshot)
    assert views.rulers()
    for benchmark in session.declaration.benchmarks:
        assert len(list(views.trail(benchmark, None))) == len(session.steps)
        for knob in session.declaration.knobs:
            chart(session.snapshot, knob, benchmark)
    for record in session.steps:
        step_view(session.snapshot, record.step.number)
        for attempt in record.attempts:
            trace_of(session.snapshot, attempt.id)
    assert report_of(session)
    assert LogRows().rows([("this", session.snapshot)])
    settings = settings_of(session.snapshot)
    for knob in knobs_measured(session.snapshot, settings):
        scaling(session.snapshot, settings, knob)
    columns, missing = Shelf(session).columns(tuple(str(record.step.number) for record in session.steps))
    assert not missing
    assert compare(columns).rows


def test_what_came_to_a_machine_since_was_at_stock_before(tmp_path: Path) -> None:
    book = tmp_path / "book.yondle"
    session = changed_session(book, quick_rig(), without=GONE, knows=False)
    session.baseline(2)
    session.propose("core_clock", 4300)
    assert session.test(2).verdict is Verdict.HELD
    session.close()
    session = changed_session(book, quick_rig())
    assert session.notices == ()
    assert session.position is not None
    assert session.position.step.number == 2
    assert session.in_force["fan_level"] == session.declaration.knob("fan_level").stock
    look_everywhere(session)
    session.propose("fan_level", other_value(session.declaration.knob("fan_level")))
    assert session.test(2).verdict is Verdict.HELD
    session.close()


def test_settings_that_can_not_be_brought_back_leave_the_machine_as_it_is(tmp_path: Path) -> None:
    book = tmp_path / "book.yondle"
    session = changed_session(book, quick_rig())
    session.baseline(2)
    session.propose("core_clock", 4300)
    assert session.test(2).verdict is Verdict.HELD
    fan = session.declaration.knob("fan_level")
    session.propose("fan_level", other_value(fan))
    assert session.test(2).verdict is Verdict.HELD
    keep_profile(session, "Quiet")
    session.set_own_range("fan_level", None, fan.high - fan.step)
    session.set_limit("processor_temperature", 90.0)
    session.close()

    session = changed_session(book, quick_rig(), without=GONE)
    rig = session.machine.rig
    assert isinstance(rig, ChangedRig)
    assert rig.asked == []
    told = "\n".join(session.notices)
    assert "step 3" in told
    assert fan.text(other_value(fan)) in told
    assert "guards nothing" in told
    assert session.position is None
    assert session.in_force["core_clock"] == 4300.0
    look_everywhere(session)
    for act in (
        lambda: session.go_back(3),
        lambda: session.propose("fan_level", fan.stock),
        lambda: session.set_own_range("fan_level", None, None),
        lambda: session.try_from(3, {"core_clock": 4350.0}, None),
        lambda: use_profile(session, "Quiet"),
        lambda: propose_profile(session, "Quiet"),
    ):
        with pytest.raises(KnownError) as said:
            act()
        assert fan.name in said.value.problem or "step 3" in said.value.problem.lower()
    assert rig.asked == []
    compared_to_stock(session, profiles(session)[0])
    session.go_back(2)
    assert session.position is not None
    session.propose("core_clock", 4350)
    assert session.test(2).verdict is Verdict.HELD
    session.close()
    session = changed_session(book, quick_rig())
    assert session.go_back(3).verdict is Verdict.HELD
    session.close()


def test_a_plan_over_a_knob_that_is_gone_waits_for_it(tmp_path: Path) -> None:
    book = tmp_path / "book.yondle"
    session = changed_session(book, quick_rig())
    session.baseline(2)
    fan = session.declaration.knob("fan_level")
    text = SWEEP.format(knob="fan_level", low=fan.at(0), high=fan.at(4), by=fan.step)
    start_plan(session, text, "the plan", lambda *_: None, paused=lambda: len(session.steps) > 2)
    session.go_back(1)
    session.close()
    session = changed_session(book, quick_rig(), without=GONE)
    look_everywhere(session)
    with pytest.raises(KnownError, match="isn't offered"):
        go_on_with_plan(session, lambda *_: None)
    session.close()


def test_an_attempt_cut_off_over_a_knob_that_is_gone_sets_nothing(tmp_path: Path) -> None:
    book = tmp_path / "book.yondle"
    session = changed_session(book, quick_rig())
    session.baseline(2)
    session.propose("fan_level", other_value(session.declaration.knob("fan_level")))
    session.test(2)

    class Cut(Exception):
        pass

    def cut(record: Record) -> None:
        if isinstance(record, PassOpened):
            raise Cut

    session.propose("core_clock", 4300)
    session.subscribe(cut)
    with pytest.raises(Cut):
        session.test(2)
    session.close()
    session = changed_session(book, quick_rig(), without=GONE)
    rig = session.machine.rig
    assert isinstance(rig, ChangedRig)
    assert rig.asked == []
    assert session.resumed
    assert session.notices
    session.close()
