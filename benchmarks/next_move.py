"""How long it takes to choose the next move of a climb, and to say what is worth trying: 27 knobs, 500 tests."""

from __future__ import annotations

from collections.abc import Iterator
from random import Random

from benchmarks.measuring import Line, median_ms, seconds_of
from yondle.analysis.runs import Run
from yondle.app.machine.machines import choose_rig, make_machine
from yondle.model.knobs import Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.verdicts import Verdict
from yondle.planning.goals.goal import Goal, Kind
from yondle.planning.goals.ground import Ground
from yondle.planning.goals.lessons import Gained, Lesson, Seen
from yondle.planning.goals.optimum import optimum
from yondle.planning.goals.readings import READ_SPREAD
from yondle.planning.goals.ways import worth_trying

TESTS, GOES, MOST_NOTCHES, FAILS = 500, 9, 2, 0.15


def lines() -> Iterator[Line]:
    """Time the choice with everything learnt, and one more test before each."""
    declaration = make_machine(choose_rig("heron"), None, None).rig.declaration
    goal = Goal(
        Kind.SCORE, (("stacking", 1.0), ("star_match", 1.0)), ("mixed_load", "memory_check"), restarts=True, hands=True
    )
    chance, ground, here = Random(5), Ground(declaration, goal), declaration.stock

    def test() -> Setup:
        lesson = _lesson(declaration, chance, here)
        ground.learn([lesson])
        return lesson.setup if lesson.verdict is Verdict.HELD else here

    for _ in range(TESTS):
        here = test()

    def choose() -> None:
        test()
        optimum(ground, here)

    def tell() -> None:
        test()
        worth_trying(ground, here)

    learn = seconds_of(test, GOES)
    for what, work in (("the next move of a climb", choose), ("what is worth trying next", tell)):
        times = seconds_of(work, GOES)
        ratio = f"{min(times) / max(min(learn), 1e-9):.0f} times"
        yield Line(
            f"{what}: {len(ground.movable)} knobs, {TESTS} tests",
            median_ms(times),
            "taking in one test",
            ratio,
            "300 ms",
        )


def _lesson(declaration: RigDeclaration, chance: Random, home: Setup) -> Lesson:
    """Draw a test of one knob a notch or two away."""
    knob = chance.choice(declaration.knobs)
    notch = knob.notch_of(home[knob.id]) + chance.choice((-1, 1)) * chance.randint(1, MOST_NOTCHES)
    setup, failed = home.with_values({knob.id: knob.at(notch)}), chance.random() < FAILS
    seen = tuple(
        Seen("mixed_load", c.id, 50.0 + 10.0 * chance.random())
        for c in declaration.channels
        if c.quantity in READ_SPREAD
    )
    gained = () if failed else (Gained("stacking", chance.gauss(0.0, 0.01), 1e-5),)
    run = Run("mixed_load", 0.0, 60.0 * chance.random(), int(failed), failed)
    return Lesson(setup, home, Verdict.DOWN if failed else Verdict.HELD, gained, seen, (run,), 10.0)
