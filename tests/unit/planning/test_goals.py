"""Goals as values: what makes sense, what is believed before and after lessons, and which ways are worth trying."""

from __future__ import annotations

import math
from contextlib import suppress
from dataclasses import replace
from itertools import pairwise

import pytest

from yondle.analysis.runs import Run
from yondle.app.machine.machines import choose_rig, make_machine
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.verdicts import Verdict
from yondle.planning.climb import Tried, Try
from yondle.planning.goals.climbing import climb_goal
from yondle.planning.goals.goal import Goal, Kind, checked_goal, reach
from yondle.planning.goals.ground import Ground
from yondle.planning.goals.lessons import Gained, Lesson, Seen
from yondle.planning.goals.optimum import optimum
from yondle.planning.goals.ways import WayKind, worth_trying
from yondle.planning.plan_files import goal_text, parse_plan

GOAL = Goal(Kind.SCORE, (("stacking", 1.0),), ("mixed_load",))


@pytest.fixture(scope="module")
def declaration() -> RigDeclaration:
    return make_machine(choose_rig("heron"), None, None).rig.declaration


def lesson(declaration: RigDeclaration, brings: float | None = None, watts: float = 76.0, **values: float) -> Lesson:
    """Give what a test of stock with some values would teach: five minutes of the load without a failure."""
    stock = declaration.stock
    setup = stock.with_values(values)
    gained = (Gained("stacking", brings, 0.003**2),) if brings is not None else ()
    seen = (
        Seen("mixed_load", "package_power", watts), Seen("mixed_load", "wall_power", watts + 30.0),
        Seen("mixed_load", "processor_temperature", 10.0 + 0.6 * watts, cool=0.5),
    )  # fmt: skip
    return Lesson(setup, stock, Verdict.HELD, gained, seen, (Run("mixed_load", 0.0, 300.0),), 10.0)


def taught(declaration: RigDeclaration, goal: Goal = GOAL) -> Ground:
    """Give a ground that knows what stock draws, and what clock and voltage are worth."""
    ground = Ground(declaration, goal)
    clock = lesson(declaration, 0.9 * math.log(4300 / 4200), 78.0, core_clock=4300)
    voltage = lesson(declaration, 0.0, 88.0, core_voltage=1.3)
    ground.learn([lesson(declaration), clock, voltage])
    return ground


@pytest.mark.parametrize(
    ("goal", "says"),
    [
        (replace(GOAL, benchmarks=()), "names no benchmark"),
        (replace(GOAL, benchmarks=(("mixed_load", 1.0),)), "yields no figure"),
        (replace(GOAL, benchmarks=(("stacking", 0.0),)), "has to be above 0"),
        (replace(GOAL, benchmarks=(("preview", 1.0),), target=90.0), "can't go above 60"),
        (replace(GOAL, kind=Kind.TRADE, target=90.0), "a score of one benchmark"),
        (replace(GOAL, knobs=("cas",)), "no knob that this goal may touch"),
    ],
)
def test_a_goal_that_contradicts_itself_or_the_rig_is_refused(
    declaration: RigDeclaration, goal: Goal, says: str
) -> None:
    with pytest.raises(KnownError, match=says) as refused:
        checked_goal(goal, declaration)
    assert refused.value.remedy


def test_what_nothing_measures_is_no_goal(declaration: RigDeclaration) -> None:
    blind = replace(declaration, channels=())
    for kind, says in ((Kind.TRADE, "measures power"), (Kind.QUIET, "No fan"), (Kind.COOL, "No temperature")):
        with pytest.raises(KnownError, match=says):
            checked_goal(replace(GOAL, kind=kind), blind)


def test_a_goal_is_the_same_after_it_was_written_and_read(declaration: RigDeclaration) -> None:
    for goal in (
        GOAL,
        replace(
            GOAL, kind=Kind.QUIET, loss=0.035, hours=2.5, knobs=("core_clock", "fan_level"), restarts=True, hands=True
        ),
        replace(GOAL, benchmarks=(("stacking", 2.0), ("preview", 1.0)), loads=("mixed_load", "memory_check")),
        replace(GOAL, target=2000.0),
    ):
        assert parse_plan(goal_text(declaration, goal), "goal", declaration).parts == (goal,)


def test_an_enabler_is_told_with_what_it_frees_and_is_nothing_alone(declaration: RigDeclaration) -> None:
    ground = taught(declaration)
    ways = worth_trying(ground, declaration.stock)
    pair = next(way for way in ways if way.kind is WayKind.PAIR)
    alone = next(way for way in ways if way.kind is WayKind.EDGE and way.changes[0][0] == "core_clock")
    assert dict(pair.changes)["core_voltage"] > 1.2
    assert pair.changes[-1][0] == "core_clock"
    assert pair.brings > alone.brings > 0.0
    assert "moves the edge of core clock by about" in pair.reason
    voltage = declaration.stock.with_values({"core_voltage": 1.3})
    assert ground.outlook(voltage).utility <= ground.outlook(declaration.stock).utility
    assert len(ways) <= 5


def test_no_way_goes_beyond_the_tuners_own_limits(declaration: RigDeclaration) -> None:
    tight = replace(
        declaration, ceilings={"core_clock": 4325.0, "core_voltage": 1.22, "power_limit": 90.0, "fan_level": 60.0}
    )
    for kind in (Kind.SCORE, Kind.TRADE, Kind.QUIET, Kind.COOL):
        ground = taught(tight, replace(GOAL, kind=kind))
        for way in worth_trying(ground, tight.stock):
            for knob, value in way.changes:
                assert tight.allows(tight.knob(knob), value), (kind, knob, value)
        for change in tight.stock.changes_to(optimum(ground, tight.stock)):
            assert change.new in reach(tight, tight.knob(change.knob))


def test_what_went_down_there_is_not_proposed_again(declaration: RigDeclaration) -> None:
    ground, stock = taught(declaration), declaration.stock
    before = optimum(ground, stock, [declaration.knob("core_clock")])["core_clock"]
    gone = stock.with_values({"core_clock": before})
    for seconds in (0.5, 3.0, 8.0):
        ground.learn(
            [Lesson(gone, stock, Verdict.DOWN, runs=(Run("mixed_load", 0.0, seconds, 1, True),), of="core_clock")]
        )
    after = optimum(ground, stock, [declaration.knob("core_clock")])["core_clock"]
    assert after < before
    assert all(dict(way.changes).get("core_clock") != before for way in worth_trying(ground, stock))


def test_a_shift_that_was_seen_replaces_the_one_that_was_believed(declaration: RigDeclaration) -> None:
    knob, stock = declaration.knob("core_clock"), declaration.stock
    more = stock.with_values({"core_voltage": 1.3})
    ground = taught(declaration)
    believed, unsure = ground.edges.shift(knob, stock, more)
    for voltage, edge in ((1.2, 4500.0), (1.3, 4525.0)):
        home = stock.with_values({"core_voltage": voltage})
        for clock, run in (
            (edge - 75.0, Run("mixed_load", 0.0, 3600.0)), (edge + 50.0, Run("mixed_load", 0.0, 25.0, 1, True)),
            (edge + 75.0, Run("mixed_load", 0.0, 6.0, 1, True)),
        ):  # fmt: skip
            verdict = Verdict.DOWN if run.failures else Verdict.HELD
            ground.learn([Lesson(home.with_values({"core_clock": clock}), home, verdict, runs=(run,), of="core_clock")])
    seen, sure = ground.edges.shift(knob, stock, more)
    assert sure < 0.6 * unsure
    assert abs(seen - 1.0) < abs(believed - 1.0)
    assert -1.0 < seen < 4.0


def test_a_clock_that_a_limit_takes_back_is_no_gain(declaration: RigDeclaration) -> None:
    ground, stock = taught(declaration), declaration.stock
    limited = stock.with_values({"power_limit": 60.0})
    fast = limited.with_values({"core_clock": 4600.0})
    assert not ground.outlook(fast).fits
    assert ground.outlook(fast).score < ground.outlook(stock).score
    freed = optimum(ground, limited)
    assert freed["power_limit"] > 60.0


def test_with_nothing_left_that_is_worth_its_time_it_says_stop(declaration: RigDeclaration) -> None:
    fixed = replace(GOAL, knobs=("fan_level", "heat_limit"))
    ground = Ground(declaration, fixed)
    ground.learn([lesson(declaration), lesson(declaration, 0.0, 76.0, fan_level=100.0)])
    (only,) = worth_trying(ground, declaration.stock)
    assert only.kind is WayKind.STOP
    assert only.first is None


def test_the_quietest_lowers_the_fan_and_keeps_the_score(declaration: RigDeclaration) -> None:
    ground = taught(declaration, replace(GOAL, kind=Kind.QUIET))
    found = optimum(ground, declaration.stock)
    assert found["fan_level"] < declaration.stock["fan_level"]
    assert ground.outlook(found).score >= math.log1p(-0.02) - 1e-9


def test_proof_is_asked_for_where_what_is_in_force_ran_too_little(declaration: RigDeclaration) -> None:
    ground = taught(declaration)
    here = Setup.of({**declaration.stock, "core_clock": 4300.0})
    prove = next(way for way in worth_trying(ground, here) if way.kind is WayKind.PROVE)
    assert prove.seconds == pytest.approx(3600.0 - 300.0)
    ground.learn([Lesson(here, declaration.stock, Verdict.HELD, runs=(Run("mixed_load", 0.0, 3400.0),))])
    assert all(way.kind is not WayKind.PROVE for way in worth_trying(ground, here))


def test_a_knob_whose_effect_turns_is_left_where_it_is_best(declaration: RigDeclaration) -> None:
    ground = taught(declaration)
    for clock, brings in ((4300.0, 0.018), (4400.0, 0.03), (4600.0, -0.02), (4700.0, -0.06)):
        ground.learn([lesson(declaration, brings, 78.0, core_clock=clock)] * 3)
    found = optimum(ground, declaration.stock, [declaration.knob("core_clock")])["core_clock"]
    assert 4250.0 <= found <= 4550.0


def test_a_way_that_ends_at_the_tuners_own_limit_says_so(declaration: RigDeclaration) -> None:
    tight = replace(declaration, ceilings={**declaration.ceilings, "core_clock": 4300.0})
    ways = worth_trying(taught(tight), tight.stock)
    edge = next(way for way in ways if way.changes[-1][0] == "core_clock")
    assert edge.changes[-1][1] == 4300.0
    assert "your own limit" in edge.unknown


def test_without_a_load_to_hold_under_knobs_are_measured_and_nothing_is_searched(declaration: RigDeclaration) -> None:
    bare = replace(declaration, hard_load="")
    start = Tried(Verdict.HELD, bare.stock, 1, 1)
    going = climb_goal(replace(GOAL, loads=(), knobs=("core_clock", "core_voltage", "power_mode")), bare, start, [])
    moves, move = [], next(going)
    with suppress(StopIteration):
        for number in range(2, 60):
            moves.append(move)
            values = dict(move.values) if isinstance(move, Try) else {}
            there = bare.stock.with_values(values)
            taught = (Lesson(there, bare.stock, Verdict.HELD, (Gained("stacking", 0.01, 1e-5),)),) if values else ()
            move = going.send(Tried(Verdict.HELD, there, number, number, lessons=taught, at_s=200.0 * number))
    tries = [each for each in moves if isinstance(each, Try)]
    assert tries
    assert all(each.check is not None and each.check.scores and not each.of for each in tries)


def test_limits_that_were_wrong_are_kept_clear_of_by_more_each_time(declaration: RigDeclaration) -> None:
    """A night gets warmer: what follows it by steps of one size is late every time."""
    ground, knob = taught(declaration), declaration.knob("core_clock")
    values = [value for value in reach(declaration, knob) if value >= knob.stock]

    def hottest_that_fits() -> float:
        fit = [v for v in values if ground.outlook(declaration.stock.with_values({knob.id: v})).fits]
        return max(fit, default=0.0)

    def held_back(clock: float) -> Lesson:
        setup = declaration.stock.with_values({knob.id: clock})
        return Lesson(setup, declaration.stock, Verdict.HELD_BACK, ceiling=True)

    tops = [hottest_that_fits()]
    for _ in range(3):
        ground.learn([held_back(tops[-1])])
        tops.append(hottest_that_fits())
    lost = [before - after for before, after in pairwise(tops)]
    assert lost[0] > 0.0
    assert lost[0] < lost[1] < lost[2], tops
    ground.learn([held_back(values[-1])])
    assert hottest_that_fits() == tops[-1], "what was not expected to fit is no surprise"
