"""Plans without a machine: what the ladder and the climb would do next, told what happened."""

from __future__ import annotations

from collections.abc import Callable

from tests.conftest import quick_rig

from yondle.model.rigs import RigDeclaration
from yondle.model.steps import PassRecord
from yondle.model.verdicts import Verdict
from yondle.model.workloads import PassResult
from yondle.planning.climb import GoBack, Move, Tried, Try, climb, first_evening
from yondle.planning.ladder import MOST_REPEATS, RunPass, Settle, check_seconds, ladder, quick_check
from yondle.rigs.simulated.rig import declaration_of
from yondle.rigs.simulated.rigfile import parse_rig_file

HERON: RigDeclaration = declaration_of(parse_rig_file(quick_rig(), "heron"))
Answer = Callable[[RunPass], PassRecord]


def played(answer: Answer, passes: int = 2) -> list[Settle | RunPass]:
    steps = ladder(quick_check(HERON, passes), HERON)
    seen: list[Settle | RunPass] = []
    reply: PassRecord | None = None
    while True:
        try:
            order = steps.send(reply)
        except StopIteration:
            return seen
        seen.append(order)
        reply = answer(order) if isinstance(order, RunPass) else None


def record(order: RunPass, ok: bool = True, disturbed: str = "") -> PassRecord:
    result = PassResult(ok, 1.0 if ok else None, order.seconds)
    return PassRecord(order.number, order.stage, order.workload, order.round, order.warm_up, 0.0, result, disturbed)


def test_the_ladder_goes_from_a_warm_up_over_score_passes_to_the_hard_load() -> None:
    orders = [o for o in played(record) if isinstance(o, RunPass)]
    assert [o.warm_up for o in orders] == [True] * 5 + [False] * 11
    assert orders[-1].workload == "mixed_load"
    assert [o.number for o in orders] == list(range(1, 17))
    assert {o.of for o in orders} == {16}
    assert sum(o.seconds for o in orders) == check_seconds(quick_check(HERON, 2), HERON)


def test_every_round_settles_first() -> None:
    orders = played(record)
    rounds = [i for i, o in enumerate(orders) if isinstance(o, RunPass) and o.workload in ("stacking", "mixed_load")]
    assert all(isinstance(orders[i - 1], Settle) for i in rounds)


def test_the_ladder_ends_at_the_first_failure() -> None:
    orders = played(lambda o: record(o, ok=o.workload != "sharpening"))
    assert [o.workload for o in orders if isinstance(o, RunPass)] == ["stacking", "sharpening"]


def test_disturbed_passes_are_repeated_but_not_for_ever() -> None:
    orders = [o for o in played(lambda o: record(o, disturbed="busy")) if isinstance(o, RunPass)]
    assert len(orders) == 16 + MOST_REPEATS
    assert not any(o.warm_up for o in orders if orders.count(o) > 1)


def played_climb(moves_of: Callable[[Tried], object], verdict_of: Callable[[dict[str, float]], Verdict]) -> list[Move]:
    """Play a climb on a machine of which only verdicts are known."""
    history = [HERON.stock]
    now = Tried(Verdict.HELD, HERON.stock, 0)
    moves = moves_of(now)
    made: list[Move] = []
    try:
        move = next(moves)  # type: ignore[call-overload]
        while True:
            made.append(move)
            if isinstance(move, GoBack):
                now = Tried(Verdict.HELD, history[move.step], move.step)
            else:
                setup = now.in_force.with_values(move.values)
                verdict = verdict_of(dict(setup))
                if verdict is Verdict.HELD:
                    history.append(setup)
                    now = Tried(verdict, setup, len(history) - 1)
                else:
                    now = Tried(verdict, now.in_force, now.position)
            move = moves.send(now)  # type: ignore[attr-defined]
    except StopIteration:
        return made


def test_a_climb_gives_the_clock_what_it_lacks_and_goes_on() -> None:
    relief = {Verdict.DOWN: ("core_voltage", 10)}

    def verdict(values: dict[str, float]) -> Verdict:
        return Verdict.HELD if values["core_clock"] <= 4350 + 5000 * (values["core_voltage"] - 1.2) else Verdict.DOWN

    made = played_climb(lambda start: climb(HERON, start, "core_clock", 4, relief, 4), verdict)
    tried = [m.values for m in made if isinstance(m, Try)]
    assert tried == [
        {"core_clock": 4300.0},
        {"core_clock": 4400.0},
        {"core_voltage": 1.25},
        {"core_clock": 4400.0},
        {"core_clock": 4500.0},
        {"core_clock": 4600.0},
    ]


def test_relief_that_did_not_help_is_undone_and_ends_the_climb() -> None:
    relief = {Verdict.DOWN: ("core_voltage", 10)}
    made = played_climb(
        lambda start: climb(HERON, start, "core_clock", 4, relief, 4),
        lambda values: Verdict.HELD if values["core_clock"] <= 4300 else Verdict.DOWN,
    )
    assert isinstance(made[-1], GoBack)
    assert made[-1].step == 1


def test_a_climb_never_goes_above_the_tuners_ceilings() -> None:
    made = played_climb(lambda start: first_evening(HERON, start), lambda _: Verdict.HELD)
    for move in made:
        for knob, value in move.values.items() if isinstance(move, Try) else ():
            assert value <= HERON.ceilings.get(knob, value)
    assert any(isinstance(m, Try) and m.values.get("core_clock") == 5000.0 for m in made)
