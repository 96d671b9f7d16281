"""Sweeps measured in rounds: what is visited in which order, and how they are read."""

from __future__ import annotations

import math
import re

import pytest

from yondle.app.plans.plans import StartPlan
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline
from yondle.model.plan_runs import Ended
from yondle.model.steps import SCORE_STAGE
from yondle.model.verdicts import Verdict
from yondle.views.tune.charting import chart
from yondle.views.tune.rounds import rounds_view

ROUNDS = """
format = "yondle-plan 1"
name = "rounds"
[[do]]
kind = "sweep"
knob = "{knob}"
from = {low}
to = {high}
by = {by}
rounds = 3
"""


def run(session: Session, knob: str, low: float, high: float, by: float) -> list[int]:
    """Run the sweep; gives the steps visited, in order."""
    session.do(RunBaseline(2))
    visited: list[int] = []
    text = ROUNDS.format(knob=knob, low=low, high=high, by=by)
    end = session.do(StartPlan(text, "rounds", lambda _, record: visited.append(record.step.number)))
    assert end.ended is Ended.DONE
    return visited


def test_every_value_is_visited_once_a_round_with_the_start_in_between(session: Session) -> None:
    visited = run(session, "core_clock", 4100, 4300, 50)
    assert session.snapshot.in_force == session.snapshot.step(1).step.setup
    tried = {r.step.number: r for r in session.snapshot.steps if r.step.parent == 1}
    compared = next(n for n, r in tried.items() if not r.step.changes)
    values = {n: r.step.setup["core_clock"] for n, r in tried.items() if n != compared}
    assert sorted(values.values()) == [4100, 4150, 4250, 4300]
    assert all(len(tried[n].attempts) == 3 for n in values)
    orders = [[n for n in visited if n in values][i : i + 4] for i in (0, 4, 8)]
    assert all(sorted(order) == sorted(values) for order in orders)
    assert len({tuple(order) for order in orders}) > 1
    assert visited[0] == compared
    assert len(tried[compared].attempts) == visited.count(compared) >= 7
    assert {p.stage for a in tried[compared].attempts for p in a.passes} == {SCORE_STAGE}


def test_a_clock_that_brings_something_is_read_as_a_gain_and_a_cap_as_nothing(session: Session) -> None:
    run(session, "core_clock", 4000, 4400, 200)
    knob, works = session.declaration.knob("core_clock"), session.declaration
    stacking = rounds_view(session.snapshot, knob, works.workload("stacking"))
    assert stacking is not None
    assert dict(stacking.gains)[4400].fraction == pytest.approx(math.expm1(0.9 * math.log(4400 / 4200)), abs=0.02)
    assert "4\u202f400\u202fMHz brought most" in stacking.sentence
    assert chart(session.snapshot, knob, works.workload("stacking")).sentence == stacking.sentence
    preview = rounds_view(session.snapshot, knob, works.workload("preview"))
    assert preview is not None
    assert "gains nothing that shows" in preview.sentence
    assert "To see 1\u202f% takes" in preview.sentence
    for work in works.benchmarks:
        view = rounds_view(session.snapshot, knob, work)
        assert view is not None
        said = re.search(r"([\d.]+)\u202f% would have.*takes (\d+) passes", view.sentence)
        assert said is None or (float(said[1]) > 1.0) == (int(said[2]) > 3), view.sentence


def test_a_value_that_fails_is_not_visited_again(session: Session) -> None:
    visited = run(session, "core_clock", 4300, 5000, 700)
    failed = [r for r in session.snapshot.steps if r.verdict in (Verdict.DOWN, Verdict.WRONG)]
    assert len(failed) == 1
    assert visited.count(failed[0].step.number) == 1


def test_where_a_restart_lies_between_all_passes_of_a_value_are_made_at_once(session: Session) -> None:
    run(session, "memory_rate", 5200, 5800, 200)
    tried = [r for r in session.snapshot.steps if r.step.parent == 1 and r.step.changes]
    assert [len(r.attempts) for r in tried] == [1] * len(tried)
    assert all(len(r.scores("stacking")) == 3 for r in tried)
