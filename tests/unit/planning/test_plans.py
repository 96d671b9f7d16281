"""Plans without a machine: what the ladder and the climb would do next, told what happened."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from itertools import pairwise, takewhile

import pytest
from tests.conftest import quick_rig

from yondle.app.demo import evening
from yondle.model.errors import KnownError
from yondle.model.knobs import When
from yondle.model.measured import Measured
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import COMPARED_STAGE, SCORE_STAGE, Check, PassRecord
from yondle.model.verdicts import Verdict
from yondle.model.workloads import PassResult
from yondle.planning.climb import Again, GoBack, Move, Tried, Try, climb
from yondle.planning.edge_plans import Proof
from yondle.planning.ladder import (
    BAND_K,
    IMPATIENT_S,
    LOOK_EVERY,
    MOST_PRELOADS,
    MOST_REPEATS,
    MOST_WARMING,
    PRELOAD_WINDOWS,
    RunPass,
    Settle,
    TakeUp,
    balanced,
    bracket_check,
    check_seconds,
    knowing,
    ladder,
    quick_check,
    step_check,
)
from yondle.planning.plan_files import parse_plan
from yondle.planning.plans import SETTLE_SHARE, Ladder, Plan, Steps, Sweep, SweepOrder, dry_run, moves, sweep_values
from yondle.rigs.simulated.rig import declaration_of
from yondle.rigs.simulated.rigfile import parse_rig_file

HERON: RigDeclaration = declaration_of(parse_rig_file(quick_rig(), "heron"))
Answer = Callable[[RunPass], PassRecord]


def played(
    answer: Answer,
    passes: int = 2,
    check: Check | None = None,
    reading: Callable[[list[Settle | RunPass | TakeUp]], float] = lambda _: 37.0,
) -> list[Settle | RunPass | TakeUp]:
    """What a ladder asks for, told the results of passes, and what the machine has come to when it has settled."""
    steps = ladder(check or quick_check(HERON, passes), HERON, HERON.stock)
    seen: list[Settle | RunPass | TakeUp] = []
    reply: PassRecord | float | None = None
    while True:
        try:
            order = steps.send(reply)
        except StopIteration:
            return seen
        seen.append(order)
        reply = answer(order) if isinstance(order, RunPass) else reading(seen) if isinstance(order, Settle) else None


def passes_of(orders: list[Settle | RunPass | TakeUp]) -> list[RunPass]:
    return [o for o in orders if isinstance(o, RunPass)]


def record(
    order: RunPass, ok: bool = True, disturbed: str = "", limited: float = 0.0, watts: float = 30.0
) -> PassRecord:
    measured = Measured(mean={"power_limited": limited, "package_power": watts})
    result = PassResult(ok, 1.0 if ok else None, order.seconds, measured=measured)
    return PassRecord(order.number, order.stage, order.workload, order.round, order.warm_up, 0.0, result, disturbed)


def test_the_ladder_goes_from_a_warm_up_over_score_passes_to_the_hard_load() -> None:
    orders = passes_of(played(record))
    assert [o.warm_up for o in orders] == [True] * 5 + [False] * 11
    assert orders[-1].workload == "mixed_load"
    assert [o.number for o in orders] == list(range(1, 17))
    assert {o.of for o in orders} == {16}
    assert sum(o.seconds for o in orders) == check_seconds(quick_check(HERON, 2), HERON)


def test_every_round_settles_first() -> None:
    orders = played(record)
    rounds = [i for i, o in enumerate(orders) if isinstance(o, RunPass) and o.number in (1, 6, 11, 16)]
    assert [i for i, o in enumerate(orders) if isinstance(o, Settle)] == [i - 1 for i in rounds]


@pytest.mark.parametrize("many", range(1, 8))
def test_over_the_rounds_every_benchmark_stands_everywhere_and_after_every_other_equally_often(many: int) -> None:
    names = tuple("abcdefg"[:many])
    rounds = many if many % 2 == 0 else 2 * many
    orders = [balanced(names, round_) for round_ in range(rounds)]
    assert all(sorted(order) == list(names) for order in orders)
    places = Counter((name, place) for order in orders for place, name in enumerate(order))
    after = Counter(pair for order in orders for pair in pairwise(order))
    assert len(places) == many**2
    assert len(set(places.values())) == 1
    assert len(after) == many * (many - 1)
    assert len(set(after.values())) <= 1
    orders_run = [[o.workload for o in passes_of(played(record)) if o.round == r and not o.warm_up] for r in (1, 2)]
    assert orders_run[0] != orders_run[1][:5]


def test_a_machine_that_is_too_cool_is_warmed_as_far_as_it_warms() -> None:
    def warming(seen: list[Settle | RunPass | TakeUp]) -> float:
        return min(25.0 + 0.8 * len(passes_of(seen)), 37.0)

    orders = played(record, reading=warming)
    warmed = [o for o in passes_of(orders) if o.warm_up and o.round == 1]
    assert warmed
    assert len(warmed) % LOOK_EVERY == 0
    first = next(i for i, o in enumerate(orders) if isinstance(o, RunPass) and not o.warm_up)
    assert warming(orders[:first]) >= HERON.settle_below - BAND_K
    assert len({o.workload for o in warmed}) > 1
    cold = [o for o in passes_of(played(record, reading=lambda _: 25.0)) if o.warm_up and o.round]
    assert len(cold) == LOOK_EVERY, "it was tried, and it brings nothing"
    slow = [o for o in passes_of(played(record, 60, reading=lambda seen: -999.0 + 2.0 * len(seen))) if o.warm_up]
    assert MOST_WARMING < len(slow) < MOST_WARMING + LOOK_EVERY + 5, "not for ever"


def test_what_is_too_warm_is_waited_for_once_and_then_only_a_little() -> None:
    waits = [o.at_most_s for o in played(record, 4, reading=lambda _: 55.0) if isinstance(o, Settle)]
    assert waits[0] == quick_check(HERON, 4).settle_at_most_s
    assert set(waits[1:]) == {IMPATIENT_S}


def test_without_a_band_the_first_scored_round_sets_it() -> None:
    check = replace(quick_check(HERON, 3), settle_below=None, settle_above=None)
    temperatures = iter((22.0, 31.0, 31.5, 34.0, 31.2, 31.0, 31.0))
    settles = [o for o in played(record, check=check, reading=lambda _: next(temperatures)) if isinstance(o, Settle)]
    assert [s.below for s in settles] == [None, None, 32.0, 32.0, 32.0]
    known = knowing(check, (), 40.0)
    assert (known.settle_above, known.settle_below) == (39.0, 41.0)
    assert knowing(quick_check(HERON, 3), (), 40.0).settle_below == HERON.settle_below


def test_what_a_limit_acts_in_runs_for_windows_of_the_limiter_before_it_counts() -> None:
    """Whether it was known before, shows in the warm-up, or only in a pass that counts."""

    def limits(order: RunPass) -> PassRecord:
        return record(order, limited=0.9 if order.workload == "sharpening" else 0.0)

    window = PRELOAD_WINDOWS * HERON.limiter_window_s
    for check in (
        quick_check(HERON, 3),
        knowing(quick_check(HERON, 3), ("sharpening",)),
        knowing(quick_check(HERON, 3), None),
    ):
        orders = passes_of(played(limits, check=check))
        counted = [i for i, o in enumerate(orders) if not o.warm_up and o.workload == "sharpening"]
        assert len(counted) == 3
        for i in counted:
            before = list(takewhile(lambda o: o.warm_up and o.workload == "sharpening", reversed(orders[:i])))
            assert sum(o.seconds for o in before) == window
        others = [o for o in orders if o.warm_up and o.workload == "stacking"]
        assert len(others) == (2 if check.probe else 1)
        if check.preload:
            assert sum(o.seconds for o in orders) == pytest.approx(check_seconds(check, HERON))
    first_seen = passes_of(played(lambda o: record(o, limited=0.9 if o.round > 1 else 0.0)))
    assert sum(o.warm_up for o in first_seen if o.round == 1) == 0


def test_a_load_of_hardly_more_than_the_limit_runs_until_the_limit_acts_and_one_below_it_does_not() -> None:
    """The mean comes to 85 W only after three windows of 90 W."""

    def preloads(of_limit: float, after: int) -> list[int]:
        """Play a benchmark that draws this share of the limit, which acts after so many passes in a row."""
        row = 0

        def ends(order: RunPass) -> PassRecord:
            nonlocal row
            row = row + 1 if order.workload == "stacking" else 0
            return record(
                order, limited=0.9 if row > after else 0.0, watts=of_limit * HERON.stock["power_limit"] * (row > 0)
            )

        orders = passes_of(played(ends, check=knowing(quick_check(HERON, 2), ())))
        counted = [i for i, o in enumerate(orders) if not o.warm_up and o.workload == "stacking"]
        before = (takewhile(lambda o: o.warm_up and o.workload == "stacking", reversed(orders[:i])) for i in counted)
        return [len(list(each)) for each in before]

    assert preloads(1.2, 0) == [1, 1], "it acts at once"
    assert preloads(1.05, 1) == [2, 2]
    assert preloads(0.98, 99) == [MOST_PRELOADS, 0], "it may yet act as the chip warms; it was seen that it does not"
    assert preloads(0.9, 99) == [0, 0]


def test_a_step_takes_turns_with_what_it_starts_from_and_ends_at_its_own_values() -> None:
    setup = HERON.stock.with_values({"core_clock": 4300.0})
    check = step_check(HERON, None, HERON.stock, setup)
    orders = played(record, check=check)
    at: list[str] = []
    home = False
    for order in orders:
        home = order.home if isinstance(order, TakeUp) else home
        if isinstance(order, RunPass):
            assert home == (order.stage == COMPARED_STAGE)
            if not order.warm_up and order.workload == "stacking":
                at.append("A" if home else "B")
    assert "".join(at) == "BBAAAB"
    warm_ups = [o.stage for o in passes_of(orders) if o.warm_up and o.workload == "stacking"]
    assert warm_ups == [SCORE_STAGE, COMPARED_STAGE, SCORE_STAGE], "what was changed is warmed up first"
    assert passes_of(orders)[-1].workload == "mixed_load"
    assert not home
    assert {o.of for o in passes_of(orders)} == {len(passes_of(orders))}
    assert sum(o.seconds for o in passes_of(orders)) == check_seconds(check, HERON)
    assert not step_check(HERON, None, HERON.stock, HERON.stock).alternates
    restarting = next(k for k in HERON.knobs if k.when is not When.LIVE)
    asked = step_check(
        HERON, None, HERON.stock, setup.with_values({restarting.id: HERON.stock[restarting.id] + restarting.step})
    )
    assert (asked.alternates, asked.stages[0].rounds) == (False, 5)


def test_the_ladder_ends_at_the_first_failure() -> None:
    orders = passes_of(played(lambda o: record(o, ok=o.workload != "sharpening")))
    assert [o.workload for o in orders] == ["stacking", "sharpening"]
    preloading = knowing(quick_check(HERON, 3), ("sharpening",))
    orders = passes_of(played(lambda o: record(o, ok=not o.round or not o.warm_up), check=preloading))
    assert [o.workload for o in orders].count("sharpening") == 3
    assert orders[-1].warm_up
    assert orders[-1].workload == "sharpening"


def test_disturbed_passes_are_repeated_but_not_for_ever() -> None:
    orders = passes_of(played(lambda o: record(o, disturbed="busy")))
    assert len(orders) == 16 + MOST_REPEATS
    assert not any(o.warm_up for o in orders if orders.count(o) > 1)


def played_climb(moves_of: Callable[[Tried], object], verdict_of: Callable[[dict[str, float]], Verdict]) -> list[Move]:
    """Play a climb on a machine of which only verdicts are known."""
    history = [HERON.stock]
    now = Tried(Verdict.HELD, HERON.stock, 0, 0)
    moves = moves_of(now)
    made: list[Move] = []
    try:
        move = next(moves)  # type: ignore[call-overload]
        while True:
            made.append(move)
            if isinstance(move, GoBack):
                now = Tried(Verdict.HELD, history[move.step], move.step, move.step)
            else:
                setup = now.in_force.with_values(move.values)
                verdict = verdict_of(dict(setup))
                if verdict is Verdict.HELD:
                    history.append(setup)
                    now = Tried(verdict, setup, len(history) - 1, len(history) - 1)
                else:
                    now = Tried(verdict, now.in_force, now.position, len(history))
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


def test_no_knob_relieves_itself_or_the_one_it_is_to_relieve() -> None:
    def verdict(values: dict[str, float]) -> Verdict:
        return Verdict.WRONG if values["core_clock"] > 4300 or values["core_voltage"] > 1.2 else Verdict.HELD

    for helps in ("core_clock", "core_voltage"):
        relief = {Verdict.WRONG: (helps, 8)}
        made = played_climb(
            lambda start, relief=relief: climb(HERON, start, "core_clock", 4, relief, 4),  # type: ignore[misc]
            verdict,
        )
        tried = [m.values for m in made if isinstance(m, Try)]
        assert len({str(values) for values in tried}) == len(tried), f"tested twice to no end: {tried}"


def test_a_climb_never_goes_above_the_tuners_ceilings() -> None:
    made = played_climb(lambda start: moves(evening(HERON), HERON, start), lambda _: Verdict.HELD)
    for move in made:
        for knob, value in move.values.items() if isinstance(move, Try) else ():
            assert value <= HERON.ceilings.get(knob, value)
    assert any(isinstance(m, Try) and m.values.get("core_clock") == 5000.0 for m in made)


def plan_of(*parts: Sweep | Ladder | Steps, once_more: int = 0) -> Plan:
    return Plan("test", parts, passes=3, once_more=once_more)


def test_a_sweep_tries_every_value_once_from_the_same_place_in_any_order() -> None:
    for order in SweepOrder:
        sweep = Sweep("power_limit", 55, 120, 15, order)
        made = played_climb(
            lambda start, sweep=sweep: moves(plan_of(sweep), HERON, start),  # type: ignore[misc]
            lambda values: Verdict.HELD if values["power_limit"] >= 70 else Verdict.HELD_BACK,
        )
        tried = [m.values["power_limit"] for m in made if isinstance(m, Try)]
        assert sorted(tried) == [55.0, 70.0, 100.0, 115.0], "85 is in force"
        assert (tried == sorted(tried)) == (order is SweepOrder.UP)
        assert sum(isinstance(m, GoBack) for m in made) == 3, "after each that held"
    assert sweep_values(sweep, HERON) == sweep_values(sweep, HERON), "shuffled the same way each time"


def test_a_failed_step_of_a_plan_is_tested_once_more_before_it_counts() -> None:
    ladder = Ladder("core_clock", 4500, 100)
    answers = iter([Verdict.DOWN, Verdict.UNPROVEN])
    going = moves(plan_of(ladder, once_more=1), HERON, Tried(Verdict.HELD, HERON.stock, 1, 1))
    assert isinstance(next(going), Try)
    again = going.send(Tried(next(answers), HERON.stock, 1, 2))
    assert isinstance(again, Again)
    assert again.step == 2
    with pytest.raises(StopIteration):
        going.send(Tried(next(answers), HERON.stock, 1, 2))


def test_a_weak_sign_is_looked_at_once_more_before_it_ends_a_ladder() -> None:
    """Scores that sag over a few passes end nothing by themselves: on a ladder of voltages they held when tried again."""
    going = moves(plan_of(Ladder("core_voltage", 1.15, -0.025)), HERON, Tried(Verdict.HELD, HERON.stock, 1, 1))
    first = next(going)
    again = going.send(Tried(Verdict.UNPROVEN, HERON.stock, 1, 2))
    assert isinstance(again, Again)
    assert again.step == 2
    assert isinstance(first, Try)
    held = HERON.stock.with_values(first.values)
    second = going.send(Tried(Verdict.HELD, held, 2, 2))
    assert isinstance(second, Try), "it held, so the ladder goes on"
    again = going.send(Tried(Verdict.UNPROVEN, held, 2, 3))
    assert isinstance(again, Again)
    with pytest.raises(StopIteration):
        going.send(Tried(Verdict.UNPROVEN, held, 2, 3))


def test_what_a_failure_made_needless_and_what_limits_leave_out_is_told() -> None:
    undone: list[str] = []
    plan = Plan("x", (Steps(((("core_voltage", 1.4),),)), Proof(("mixed_load", "memory_check"), 2.0)))
    going = moves(plan, HERON, Tried(Verdict.HELD, HERON.stock, 1, 1), undone)
    assert isinstance(next(going), Try), "the step above the tuner's limit is left out"
    with pytest.raises(StopIteration):
        going.send(Tried(Verdict.DOWN, HERON.stock, 1, 2))
    assert [words.replace("\u202f", " ") for words in undone] == [
        "Core voltage 1.400 V is above your own limit of 1.350 V",
        "1 h of Memory check, after a failure",
    ]


def test_rounds_that_would_restart_each_time_say_that_they_become_one() -> None:
    by_hand, live = Sweep("memory_rate", 5600, 6000, 200, rounds=3), Sweep("power_limit", 70, 85, 5, rounds=3)
    (words,) = dry_run(plan_of(by_hand, live), HERON, HERON.stock, unattended=True).otherwise
    assert words == "Memory rate takes a restart, so each value is visited once for 3 passes instead of in 3 rounds"


def test_a_dry_run_counts_tests_restarts_entries_and_what_the_limits_leave_out() -> None:
    plan = plan_of(
        Steps(((("memory_rate", 5800.0), ("cas", 38.0)), (("threads_per_core", 1.0),), (("core_voltage", 1.4),))),
        Sweep("core_clock", 4900, 5100, 100),
    )
    seen = dry_run(plan, HERON, HERON.stock, unattended=False)
    assert (seen.tests, seen.restarts, seen.entries) == (4, 2, 1)
    assert seen.waits_for_hands
    assert [words.replace("\u202f", " ") for words in seen.left_out] == [
        "Core voltage 1.400 V is above your own limit of 1.350 V",
        "Core clock 5 100 MHz is above your own limit of 5 000 MHz",
    ]
    assert seen.seconds > sum(check_seconds(quick_check(HERON, 3), HERON) for _ in range(4))
    ways = (Steps(((("core_clock", 4300.0),),)), Steps(((("cas", 38.0),),)), Steps(((("threads_per_core", 1.0),),)))
    live, by_hand, restart = (dry_run(plan_of(way), HERON, HERON.stock, unattended=False) for way in ways)
    assert (live.entries, by_hand.entries, restart.entries) == (0, 1, 0)
    quick = [dry_run(plan_of(way), replace(HERON, entry_s=0.0), HERON.stock, unattended=False).seconds for way in ways]
    told = [each.seconds for each in (live, by_hand, restart)]
    assert [a - b for a, b in zip(told, quick, strict=True)] == pytest.approx([0.0, HERON.entry_s, 0.0])
    down = dry_run(plan_of(Ladder("cores_in_use", 3.0, -1.0)), HERON, HERON.stock, unattended=False)
    four = dry_run(plan_of(Ladder("cores_in_use", 4.0, -1.0)), HERON, HERON.stock, unattended=False)
    assert (four.restarts, down.restarts) == (4, 4 + 1 + 2), (
        "stock is measured again before the fifth, and is a restart away"
    )
    again, fifth = bracket_check(HERON), quick_check(HERON, 3, HERON.stock.with_values({"cores_in_use": 3.0}))
    loads = (1.0 + SETTLE_SHARE) * (check_seconds(again, HERON) + check_seconds(fifth, HERON))
    assert down.seconds - four.seconds == pytest.approx(loads + 3 * HERON.restart_s)
    climbing = Ladder("core_clock", 4500.0, 100.0, ((Verdict.WRONG, "core_voltage", 0.05),))
    assert dry_run(plan_of(climbing), HERON, HERON.stock, unattended=False).tests == 3, "every step of it holds"


@pytest.mark.parametrize(
    ("text", "says"),
    [
        ("format = 'yondle-plan 9'", "format"),
        ("[[do]]\nkind = 'dance'", "do.0"),
        ("[[do]]\nkind = 'sweep'\nknob = 'soul'\nfrom = 1\nto = 2", "no knob called 'soul'"),
        ("[[do]]\nkind = 'sweep'\nknob = 'cas'\nfrom = 30\nto = 41", "between its steps"),
        ("[[do]]\nkind = 'sweep'\nknob = 'cas'\nfrom = 30\nto = 40\nby = 3", "multiple of its step"),
        ("[[do]]\nkind = 'steps'\nsteps = [{ power_mode = 'Loud' }]", "one of Quiet, Balanced, Full"),
        ("[[do]]\nkind = 'ladder'\nknob = 'cas'\nto = 30\nby = -2\nmood = 1", "mood"),
        ("[[do", "no valid TOML"),
    ],
)
def test_a_faulty_plan_is_refused_with_the_place_and_the_reason(text: str, says: str) -> None:
    head = "" if text.startswith("format") else "format = 'yondle-plan 1'\nname = 'x'\n"
    with pytest.raises(KnownError) as refusal:
        parse_plan(head + text, "x.toml", HERON)
    assert says in str(refusal.value)


def test_a_plan_names_choices_and_climbs_down_as_well_as_up() -> None:
    text = """
format = "yondle-plan 1"
name = "quiet"
[[do]]
kind = "steps"
steps = [{ power_mode = "Quiet" }]
[[do]]
kind = "ladder"
knob = "cas"
to = 34
by = -2
"""
    made = played_climb(lambda start: moves(parse_plan(text, "x", HERON), HERON, start), lambda _: Verdict.HELD)
    assert [m.values for m in made if isinstance(m, Try)] == [
        {"power_mode": 0.0}, {"cas": 38.0}, {"cas": 36.0}, {"cas": 34.0},
    ]  # fmt: skip
