"""The search for the edge on simulated rigs, held against what the rig keeps hidden."""

from __future__ import annotations

import tomllib
from collections.abc import Callable
from pathlib import Path

import pytest
from tests.conftest import quick_rig

from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import GoOnWithPlan, StartPlan, preview
from yondle.app.plans.reproducing import plan_again
from yondle.app.reports.reporting import report_of
from yondle.app.session.limits import LimitRange
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.proposing import Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.model.errors import KnownError
from yondle.model.plan_runs import Ended
from yondle.model.quantities import chance
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Verdict
from yondle.planning.climb import Move, Recall, Try
from yondle.planning.plan_files import parse_plan
from yondle.reports.markdown import markdown
from yondle.rigs.simulated.rigfile import rig_text
from yondle.views.edge.edge import EdgeView, edge_view
from yondle.views.edge.plan_runs import plan_views
from yondle.views.tune.step import step_view
from yondle.views.tune.trail import Trail

MakeSession = Callable[..., Session]

EDGE = """
format = "yondle-plan 1"
name = "the edge"
passes = 2
[[do]]
kind = "edge"
knob = "core_clock"
loads = ["mixed_load"]
standard = "session"
"""
RIG = quick_rig().replace("corrected_lead_mhz = 40.0\n", "")
"""Heron without errors that are corrected before a crash: its edge is the one the rig file names."""
EDGE_MHZ = (4500.0, 4700.0)
"""Between these lies the clock at which the mixed load fails once an hour at 1.25 V, with heat and load taken off."""


def roomy(session: Session) -> None:
    """Measure stock, then make room so that neither power nor heat holds the clock back."""
    session.do(RunBaseline(2))
    for knob, value in (("power_limit", 120.0), ("fan_level", 80.0), ("core_voltage", 1.25)):
        session.do(Propose(knob, value))
        assert session.do(TryProposal(2)).verdict is Verdict.HELD


def test_the_search_ends_at_a_setting_that_held_near_the_hidden_edge(new_session: MakeSession) -> None:
    session = new_session(RIG)
    roomy(session)
    seen: list[tuple[Move | None, StepRecord]] = []
    start = session.snapshot.position
    assert start is not None
    end = session.do(StartPlan(EDGE, "edge", lambda move, record: seen.append((move, record))))
    assert end.ended is Ended.DONE
    assert isinstance(seen[0][0], Recall)
    tests = [(move, record) for move, record in seen if isinstance(move, Try)]
    assert all(record.step.parent == start.step.number for _, record in tests)
    assert any(record.verdict is Verdict.DOWN for _, record in tests)
    recommended = session.snapshot.in_force["core_clock"]
    assert EDGE_MHZ[0] - 150 <= recommended <= EDGE_MHZ[1]
    last = tests[-1][1]
    assert last.verdict is Verdict.HELD
    assert "recommended" in str(last.attempts[-1].conditions["asked because"])
    assert last.scores("stacking")
    assert session.machine.rig.read_back() == session.snapshot.in_force


def test_a_search_left_in_the_middle_goes_on_as_if_it_had_not_been(tmp_path: Path) -> None:
    def values(session: Session) -> list[tuple[float, str]]:
        made = ((a, r.step.setup["core_clock"]) for r in session.snapshot.steps for a in r.attempts)
        asked = [(a.id, value, a) for a, value in made if "asked because" in a.conditions]
        return [(value, str(a.conditions["asked because"])) for _, value, a in sorted(asked, key=lambda one: one[0])]

    whole = create_logbook(tmp_path / "whole.yondle", RigChoice("simulated", "Heron", RIG))
    roomy(whole)
    whole.do(StartPlan(EDGE, "edge", lambda *_: None))
    expected = values(whole)
    whole.close()
    path = tmp_path / "cut.yondle"
    cut = create_logbook(path, RigChoice("simulated", "Heron", RIG))
    roomy(cut)
    made: list[object] = []
    assert cut.do(StartPlan(EDGE, "edge", lambda *_: made.append(1), lambda: len(made) >= 5)).ended is Ended.PAUSED
    cut.close()
    again = open_logbook(path)
    assert again.do(GoOnWithPlan(lambda *_: None)).ended is Ended.DONE
    assert values(again)[:6] == expected[:6]
    assert len({value for value, _ in values(again)}) > 3
    assert again.snapshot.position is not None
    assert again.snapshot.position.verdict is Verdict.HELD
    again.close()


def test_a_line_of_edges_rises_with_the_voltage_and_each_search_tells_the_next(new_session: MakeSession) -> None:
    session = new_session(RIG)
    roomy(session)
    start, tests = session.snapshot.position, dict[float, int]()
    views: list[EdgeView] = []

    def after(move: Move | None, record: StepRecord) -> None:
        if isinstance(move, Try):
            voltage = record.step.setup["core_voltage"]
            tests[voltage] = tests.get(voltage, 0) + 1
        run = session.logbook.keeping.open_plan_run() if len(tests) == 4 else None
        view = edge_view(session.snapshot, run) if run is not None else None
        views.extend([view] if view is not None else [])

    line = EDGE + 'along = "core_voltage"\nat = [1.15, 1.2, 1.25, 1.3]\n'
    assert session.do(StartPlan(line, "line", after)).ended is Ended.DONE
    assert session.snapshot.position is start or session.snapshot.position == start
    assert session.machine.rig.read_back() == session.snapshot.in_force
    assert list(tests) == [1.15, 1.3, 1.2, 1.25]
    assert tests[1.2] + tests[1.25] < tests[1.15] + tests[1.3]
    points = views[-1].line
    assert [p.at for p in points] == [1.15, 1.2, 1.25, 1.3]
    assert [p.recommended for p in points] == sorted(p.recommended for p in points)
    slope = (points[-1].recommended - points[0].recommended) / 0.15
    assert 1500.0 < slope < 3500.0
    assert EDGE_MHZ[0] - 150 <= points[2].recommended <= EDGE_MHZ[1]
    assert "(4 of 4)" in views[-1].searching
    assert "to go at this value" in views[-3].coming
    joint = [r for r in session.snapshot.steps if len(r.step.changes) > 1]
    assert joint
    assert all(r.step.joint for r in joint)


def test_a_line_out_of_time_tells_nothing_of_values_it_did_not_come_to(new_session: MakeSession) -> None:
    session = new_session(RIG)
    roomy(session)
    views: list[EdgeView] = []

    def after(*_: object) -> None:
        run = session.logbook.keeping.open_plan_run()
        view = edge_view(session.snapshot, run) if run is not None else None
        views.extend([view] if view is not None else [])

    line = EDGE + 'along = "core_voltage"\nat = [1.15, 1.2, 1.25]\nhours = 0.05\n'
    assert session.do(StartPlan(line, "line", after)).ended is Ended.DONE
    assert [p.at for p in views[-1].line] == [1.15]


def test_tests_that_begin_cool_do_not_flatter_a_clock_that_drives_core_and_memory(new_session: MakeSession) -> None:
    """Bittern's bus clock: soaked with heat it meets *daily* up to 108 MHz; cool it holds for minutes at 115."""
    session = new_session(rig_text("bittern")[0])
    session.do(RunBaseline(2))
    text = EDGE.replace('"core_clock"', '"bus_clock"').replace('"session"', '"daily"')
    assert session.do(StartPlan(text, "edge", lambda *_: None)).ended is Ended.DONE
    tried = [r.step.setup["bus_clock"] for r in session.snapshot.steps]
    assert max(tried) > 112.0
    assert 100.0 < session.snapshot.in_force["bus_clock"] <= 108.0


def test_room_below_the_edge_is_kept_and_told(new_session: MakeSession) -> None:
    session = new_session(RIG)
    roomy(session)
    views: list[EdgeView] = []

    def after(*_: object) -> None:
        run = session.logbook.keeping.open_plan_run()
        view = edge_view(session.snapshot, run) if run is not None else None
        views.extend([view] if view is not None else [])

    session.do(StartPlan(EDGE + "room = 2\n", "edge", after))
    assert session.snapshot.in_force["core_clock"] == views[-1].recommended
    assert "With 2 notches of room" in views[-1].verdict
    best = max(value for value, chance in views[-1].chances if chance >= 0.91)
    assert best - views[-1].recommended == 50.0


def test_a_search_respects_the_tuners_own_limit(new_session: MakeSession) -> None:
    session = new_session(RIG)
    roomy(session)
    session.do(LimitRange("core_clock", None, 4400.0))
    session.do(StartPlan(EDGE, "edge", lambda *_: None))
    assert max(r.step.setup["core_clock"] for r in session.snapshot.steps) <= 4400.0
    assert session.snapshot.in_force["core_clock"] == 4400.0


def test_what_a_search_would_take_is_told_before_anything_is_set(new_session: MakeSession) -> None:
    session = new_session(RIG)
    roomy(session)
    told = preview(session.snapshot, parse_plan(EDGE, "edge", session.declaration))
    assert 5 <= told.tests <= 60
    assert 600 <= told.seconds <= 6 * 3600


@pytest.mark.parametrize(
    ("old", "new", "says"),
    [
        ('"core_clock"', '"fan_level"', "no risky end"),
        ('["mixed_load"]', "[]", "loads"),
        ('["mixed_load"]', '["sunshine"]', "sunshine"),
        ('"session"', '"certified"', "standard"),
        ('"session"', '"session"\nroom = -1', "room"),
        ('"session"', '"session"\nalong = "core_voltage"', "two of its values"),
        ('"session"', '"session"\nalong = "core_clock"\nat = [4200, 4300]', "another knob"),
        ('"session"', '"session"\nalong = "core_voltage"\nat = [1.2, 9.9]', "outside its range"),
        ('"session"', '"session"\nroom = 1\nalong = "core_voltage"\nat = [1.2, 1.3]', "no room"),
    ],
)
def test_a_search_that_makes_no_sense_is_refused_in_words(session: Session, old: str, new: str, says: str) -> None:
    with pytest.raises(KnownError, match=says):
        parse_plan(EDGE.replace(old, new), "edge", session.declaration)


NIGHT = """
format = "yondle-plan 1"
name = "night"
passes = 2
[stop]
hours = 12
failures = 40
[[do]]
kind = "steps"
steps = [{ power_limit = 120 }, { fan_level = 80 }, { core_voltage = 1.25 }]
[[do]]
kind = "edge"
knob = "core_clock"
loads = ["mixed_load"]
style = "careful"
[[do]]
kind = "sweep"
knob = "fan_level"
from = 60
to = 80
by = 10
rounds = 2
[[do]]
kind = "proof"
loads = ["mixed_load"]
hours = 4
"""


def test_a_night_searches_sweeps_and_proves_and_leaves_a_whole_record(tmp_path: Path) -> None:
    """Interrupted twice on its way; what it recommends lasts four hours of proof, and every attempt has its verdict."""
    path = tmp_path / "night.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", RIG))
    session.do(RunBaseline(2))
    made: list[str] = []
    searched: list[EdgeView] = []

    def after(move: Move | None, record: StepRecord) -> None:
        made.append(type(move).__name__)
        run = session.logbook.keeping.open_plan_run()
        view = edge_view(session.snapshot, run) if run is not None else None
        searched.extend([view] if view is not None else [])

    end = session.do(StartPlan(NIGHT, "night", after, lambda: len(made) >= 7))
    for stop_at in (15, 10_000):
        assert end.ended is Ended.PAUSED
        session.close()
        session = open_logbook(path)
        end = session.do(GoOnWithPlan(after, lambda at=stop_at: len(made) >= at))
    assert (end.ended, end.reason) == (Ended.DONE, "all of it")
    attempts = [a for r in session.snapshot.steps for a in r.attempts]
    assert all(a.outcome is not None for a in attempts)
    assert any(a.outcome.verdict is Verdict.DOWN for a in attempts if a.outcome is not None)
    position = session.snapshot.position
    assert position is not None
    proven = position.attempts[-1]
    assert proven.outcome is not None
    assert proven.outcome.verdict is Verdict.HELD
    assert sum(p.result.duration_s for p in proven.passes if p.result is not None) == pytest.approx(4 * 3600, rel=0.01)
    assert "4\u202fh of Mixed load" in proven.outcome.reason
    assert max(run.seconds for run in searched[-1].runs) <= 3600.0
    assert searched[-1].recommended == session.snapshot.in_force["core_clock"]
    assert session.machine.rig.read_back() == session.snapshot.in_force
    _what_was_found_stays(path, session, searched[-1])
    session.close()


def _what_was_found_stays(path: Path, session: Session, seen: EdgeView) -> None:
    """The edge with its probability, and the hours of proof, stand in record, trail, step, report and plan after the night."""
    at = session.snapshot.position
    assert at is not None
    session.close()
    again = open_logbook(path)
    try:
        (found,) = again.snapshot.findings
        assert (found.knob, found.left_at, found.step) == ("core_clock", seen.recommended, at.step.number)
        assert found.sure_there == pytest.approx(dict(seen.chances)[seen.recommended])
        assert found.runs == len(seen.runs)
        assert found.recalled < found.runs
        assert found.failures > 0
        row = next(r for r in Trail().rows(again.snapshot, None) if r.number == at.step.number)
        sure = chance(found.sure_there)
        assert row.detail.startswith(f"recommended, {sure}")
        assert "4\u202fh" in row.detail
        rows = dict(step_view(again.snapshot, at.step.number).rows)
        assert rows["Edge search"].endswith(sure)
        assert rows["Mixed load"].startswith("4\u202fh")
        report = markdown(report_of(again.snapshot))
        assert f"with {sure} probability, estimated under the model" in report
        assert "| Stacking | " in report.split("## What it brought")[1].split("##")[0], "an equal step has figures"
        plan = tomllib.loads(plan_again(again.snapshot))
        assert [part["kind"] for part in plan["do"]] == ["steps", "edge", "sweep", "proof"]
        (view,) = plan_views(again.snapshot, again.logbook.keeping.plan_runs())
        assert view.end == "done: all of it"
        assert any(sure in line for line in view.lines)
    finally:
        again.close()
