"""A machine that isn't as it was: a helper absent, a card pulled, a sensor gone, a knob that is new.

Every place, command and report goes on with the record; nothing is set that wasn't asked for, and what can't be done is said.
"""

from __future__ import annotations

from pathlib import Path

import pytest
from tests.conftest import quick_rig
from tests.fakes import ChangedRig, changed_session

from yondle.app.books.columns import Shelf
from yondle.app.plans.plans import GoOnWithPlan, StartPlan
from yondle.app.profiles.profiles import (
    KeepProfile,
    ProposeProfile,
    UseProfile,
    compared_to_stock,
)
from yondle.app.reports.reporting import report_of
from yondle.app.session.limits import LimitRange, LimitReading
from yondle.app.session.proposing import Propose
from yondle.app.session.returning import ReturnTo
from yondle.app.session.session import Session
from yondle.app.session.testing import CAME, RunBaseline, TryFrom, TryProposal
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
        assert len(list(views.trail(benchmark, None))) == len(session.snapshot.steps)
        for knob in session.declaration.knobs:
            chart(session.snapshot, knob, benchmark)
    for record in session.snapshot.steps:
        step_view(session.snapshot, record.step.number)
        for attempt in record.attempts:
            trace_of(session.snapshot, attempt.id)
    assert report_of(session.snapshot)
    assert LogRows().rows([("this", session.snapshot)])
    settings = settings_of(session.snapshot)
    for knob in knobs_measured(session.snapshot, settings):
        scaling(session.snapshot, settings, knob)
    columns, missing = Shelf(lambda: session.snapshot).columns(
        tuple(str(record.step.number) for record in session.snapshot.steps)
    )
    assert not missing
    assert compare(columns).rows


def test_what_came_to_a_machine_since_was_at_stock_before(tmp_path: Path) -> None:
    book = tmp_path / "book.yondle"
    session = changed_session(book, quick_rig(), without=GONE, knows=False)
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    assert session.do(TryProposal(2)).verdict is Verdict.HELD
    session.close()
    session = changed_session(book, quick_rig())
    assert session.snapshot.notices == ()
    assert session.snapshot.position is not None
    assert session.snapshot.position.step.number == 2
    assert session.snapshot.in_force["fan_level"] == session.declaration.knob("fan_level").stock
    look_everywhere(session)
    assert session.snapshot.step(2).step.unknown == ("fan_level",)
    assert ("Not known then", "Fan") in [(k, v.split(" ")[0]) for k, v in step_view(session.snapshot, 2).rows]
    session.do(Propose("fan_level", other_value(session.declaration.knob("fan_level"))))
    third = session.do(TryProposal(2))
    assert third.verdict is Verdict.HELD
    assert "fan" in str(third.attempts[-1].conditions[CAME]), "what came is recorded, once"
    session.do(Propose("core_clock", 4400))
    fourth = session.do(TryProposal(2))
    assert CAME not in fourth.attempts[-1].conditions
    both, _ = Shelf(lambda: session.snapshot).columns(("2", "4"))
    assert any("Not known of all" in words and "fan" in words for words in compare(both).caveats)
    alike, _ = Shelf(lambda: session.snapshot).columns(("1", "2"))
    assert not any("Not known of all" in words for words in compare(alike).caveats)
    session.close()


def test_settings_that_can_not_be_brought_back_leave_the_machine_as_it_is(tmp_path: Path) -> None:
    book = tmp_path / "book.yondle"
    session = changed_session(book, quick_rig())
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    assert session.do(TryProposal(2)).verdict is Verdict.HELD
    fan = session.declaration.knob("fan_level")
    session.do(Propose("fan_level", other_value(fan)))
    assert session.do(TryProposal(2)).verdict is Verdict.HELD
    session.do(KeepProfile("Quiet"))
    session.do(LimitRange("fan_level", None, fan.high - fan.step))
    session.do(LimitReading("processor_temperature", 90.0))
    session.close()

    session = changed_session(book, quick_rig(), without=GONE)
    rig = session.machine.rig
    assert isinstance(rig, ChangedRig)
    assert rig.asked == []
    told = "\n".join(session.snapshot.notices)
    assert "step 3" in told
    assert fan.text(other_value(fan)) in told
    assert "guards nothing" in told
    assert session.snapshot.position is None
    assert session.snapshot.in_force["core_clock"] == 4300.0
    look_everywhere(session)
    for act in (
        lambda: session.do(ReturnTo(3)),
        lambda: session.do(Propose("fan_level", fan.stock)),
        lambda: session.do(LimitRange("fan_level", None, None)),
        lambda: session.do(TryFrom(3, {"core_clock": 4350.0}, None)),
        lambda: session.do(UseProfile("Quiet")),
        lambda: session.do(ProposeProfile("Quiet")),
    ):
        with pytest.raises(KnownError) as said:
            act()
        assert fan.name in said.value.problem or "step 3" in said.value.problem.lower()
    assert rig.asked == []
    compared_to_stock(session.snapshot, session.snapshot.profiles[0])
    session.do(ReturnTo(2))
    assert session.snapshot.position is not None
    session.do(Propose("core_clock", 4350))
    assert session.do(TryProposal(2)).verdict is Verdict.HELD
    session.close()
    session = changed_session(book, quick_rig())
    assert session.do(ReturnTo(3)).verdict is Verdict.HELD
    session.close()


def test_a_plan_over_a_knob_that_is_gone_waits_for_it(tmp_path: Path) -> None:
    book = tmp_path / "book.yondle"
    session = changed_session(book, quick_rig())
    session.do(RunBaseline(2))
    fan = session.declaration.knob("fan_level")
    text = SWEEP.format(knob="fan_level", low=fan.at(0), high=fan.at(4), by=fan.step)
    session.do(StartPlan(text, "the plan", lambda *_: None, paused=lambda: len(session.snapshot.steps) > 2))
    session.do(ReturnTo(1))
    session.close()
    session = changed_session(book, quick_rig(), without=GONE)
    look_everywhere(session)
    with pytest.raises(KnownError, match="isn't offered"):
        session.do(GoOnWithPlan(lambda *_: None))
    session.close()


def test_an_attempt_cut_off_over_a_knob_that_is_gone_sets_nothing(tmp_path: Path) -> None:
    book = tmp_path / "book.yondle"
    session = changed_session(book, quick_rig())
    session.do(RunBaseline(2))
    session.do(Propose("fan_level", other_value(session.declaration.knob("fan_level"))))
    session.do(TryProposal(2))

    class Cut(Exception):
        pass

    def cut(record: Record) -> None:
        if isinstance(record, PassOpened):
            raise Cut

    session.do(Propose("core_clock", 4300))
    session.subscribe(cut)
    with pytest.raises(Cut):
        session.do(TryProposal(2))
    session.close()
    session = changed_session(book, quick_rig(), without=GONE)
    rig = session.machine.rig
    assert isinstance(rig, ChangedRig)
    assert rig.asked == []
    assert session.snapshot.resumed
    assert session.snapshot.notices
    session.close()
