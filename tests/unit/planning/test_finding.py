"""The search for an edge as a value: what it tests under several loads, how far it thinks it has to go, and when it ends."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable
from contextlib import suppress
from dataclasses import replace
from itertools import pairwise
from random import Random

import pytest

from yondle.analysis.runs import Run
from yondle.app.machine.machines import choose_rig, make_machine
from yondle.model.rigs import RigDeclaration
from yondle.model.verdicts import Verdict
from yondle.planning.climb import GoBack, Move, Tried, Try
from yondle.planning.edge_plans import EdgeLine, Proof, find_edge, load_check, prove, typical_run
from yondle.planning.edge_search import NextTest
from yondle.planning.finding import FAILURES_TELL, Edge, EdgeSearch, Found, lasting_s

LOADS = ("mixed_load", "memory_check", "stacking")
EDGES = {"mixed_load": 44.0, "memory_check": 46.5, "stacking": 42.0}
WIDTH = 0.6
RUN_IN = "at what is recommended"


@pytest.fixture(scope="module")
def declaration() -> RigDeclaration:
    return make_machine(choose_rig("heron"), None, None).rig.declaration


def searched(search: EdgeSearch, seed: int, ask: Callable[[], float] = lambda: 0.0) -> list[tuple[Run, float]]:
    """Search a machine whose edges are known; gives every run, and what was told before it when asked."""
    chance, made = Random(seed), list[tuple[Run, float]]()
    while (test := search.next_test()) is not None:
        left, load = ask(), search.load_of(test)
        lasts = lasting_s(test.notch, EDGES[load], WIDTH) * chance.expovariate(1.0)
        failed = lasts < test.seconds
        run = Run(load, search.value_of(test.notch), min(lasts, test.seconds), int(failed), failed)
        search.learn([run])
        made.append((run, left))
    return made


def test_under_several_loads_each_is_tested_and_the_worst_decides(declaration: RigDeclaration) -> None:
    knob = declaration.knob("core_clock")
    search = EdgeSearch(Edge(knob.id, LOADS), declaration)
    runs = [run for run, _ in searched(search, 3)]
    assert {run.load for run in runs} == set(LOADS)
    found = search.found()
    highest = EDGES["stacking"] + WIDTH * math.log(1.0 / 8.0)
    assert highest - 5 <= knob.notch_of(found.value) <= highest
    assert knob.low + (EDGES["stacking"] - 2) * knob.step <= found.edge[1] <= knob.low + 47 * knob.step
    alone = [run for load in LOADS for run, _ in searched(EdgeSearch(Edge(knob.id, (load,)), declaration), 3)]
    assert sum(run.failures for run in runs) < sum(run.failures for run in alone)
    assert sum(run.seconds for run in runs) < sum(run.seconds for run in alone)


def test_where_a_change_counts_as_an_hour_more_is_tested_between_two(declaration: RigDeclaration) -> None:
    def changes(change_s: float) -> tuple[int, float]:
        search = EdgeSearch(Edge("core_clock", ("mixed_load",)), declaration, change_s=change_s)
        runs = [run for run, _ in searched(search, 5)]
        moved = sum(one.value != next_.value for one, next_ in pairwise(runs))
        return moved, sum(run.seconds for run in runs) / max(moved, 1)

    (usual, usual_s), (by_hand, by_hand_s) = changes(0.0), changes(3600.0)
    assert by_hand < usual
    assert by_hand_s > usual_s


def test_the_time_left_falls_to_nothing_at_the_end(declaration: RigDeclaration) -> None:
    search = EdgeSearch(Edge("core_clock", ("mixed_load",)), declaration)
    made = searched(search, 5, search.seconds_left)
    took = [run.seconds for run, _ in made]
    halfway = len(made) // 2
    assert made[halfway][1] == pytest.approx(sum(took[halfway:]), rel=1.0)
    assert made[-1][1] < 0.5 * made[halfway][1]
    assert search.seconds_left() == 0.0


def test_a_knob_of_ten_thousand_values_is_searched_in_strides(declaration: RigDeclaration) -> None:
    knob = replace(declaration.knob("core_clock"), step=0.16, digits=2)
    fine = replace(declaration, knobs=tuple(knob if k.id == knob.id else k for k in declaration.knobs))
    search = EdgeSearch(Edge(knob.id, ("mixed_load",)), fine)
    assert knob.notches == 10_000
    assert search.notches <= 500
    for value, seconds, failures in ((4400.0, 3600.0, 0), (4500.0, 3600.0, 0), (4620.0, 60.0, 1)):
        search.learn([Run("mixed_load", value, seconds, failures)])
    found = search.found()
    assert 4400.0 <= found.value <= 4620.0
    assert found.value == knob.checked(found.value)
    assert found.edge[0] < found.edge[1]


def test_what_fails_by_its_own_record_is_not_recommended_although_more_than_that_held(
    declaration: RigDeclaration,
) -> None:
    search = EdgeSearch(Edge("core_clock", ("mixed_load",)), declaration)
    search.learn([Run("mixed_load", 4800.0, 7200.0)] * 3)
    assert search.found().value >= 4800.0
    search.learn([Run("mixed_load", 4300.0, 2.0, 1, True)])
    assert search.found().contradicted_from is None
    search.learn([Run("mixed_load", 4300.0, 2.0, 1, True)] * 2)
    found = search.found()
    assert (found.value, found.contradicted_from) == (4275.0, 4300.0)
    test = search.next_test()
    assert test is None or "Mixed load" in search.why(test, declaration)


def test_what_could_not_be_reached_bounds_the_search_and_each_refusal_takes_twice_as_much_off(
    declaration: RigDeclaration,
) -> None:
    knob = declaration.knob("core_clock")
    search = EdgeSearch(Edge(knob.id, ("mixed_load",), to=knob.at(50)), declaration)

    def most() -> int:
        return search._most

    assert most() == 50
    search.learn([Run("mixed_load", knob.at(30), 600.0), Run("memory_check", knob.at(40), 600.0)])
    search.stay_below(knob.at(48), None)
    assert (most(), search.held_back_from) == (47, knob.at(48))
    search.stay_below(knob.at(47), None)
    assert (most(), search.held_back_from) == (45, knob.at(47))
    search.stay_below(knob.at(49), None)
    assert (most(), search.held_back_from) == (45, knob.at(47)), "what was known stays"
    search.stay_below(knob.at(36), None)
    assert most() == 30, "but never below what held"
    search.stay_below(knob.at(44), knob.at(25) + 1.0)
    assert most() == 25, "unless it is known that no more was reached"
    told = search.found()
    assert (told.runs, told.recalled, told.failures, told.loaded_s) == (1, 0, 0, 600.0)
    search.take(knob.at(20), Tried(Verdict.HELD_BACK, declaration.stock, 1, 1, reached=knob.at(12)))
    assert (most(), search.found().held_back) == (12, 1)
    search.take(knob.at(10), Tried(Verdict.HELD, declaration.stock, 1, 1, (Run("mixed_load", knob.at(10), 60.0, 1),)))
    assert (search.found().held_back, search.found().failures) == (1, 1)


def test_what_takes_the_machine_down_is_dearer_than_a_wrong_result_and_what_is_corrected_ends_nothing(
    declaration: RigDeclaration,
) -> None:
    def price(failures: int, down: bool, corrected: int = 0) -> float:
        search = EdgeSearch(Edge("core_clock", ("mixed_load",)), declaration)
        search.learn([Run("mixed_load", 4800.0, 60.0, failures, down, 1.0, corrected)] * 3)
        return search._chooser()._prices.failure_s

    wrong, crash = price(1, False), price(1, True)
    assert wrong == pytest.approx(crash / 4.0), "one in four was a crash, with the one that is taken to come"
    assert price(5, False, 5) == pytest.approx(crash)


@pytest.mark.parametrize(
    ("held", "failed", "chance", "words"),
    [
        (3, 2, 0.5, "if it holds, 3 notches more can be recommended; if it fails, 2 notches fewer (50 % to hold)"),
        (1, 0, 0.9, "if it holds, 1 notch more can be recommended (90 % to hold)"),
        (0, 1, 0.05, "if it fails, 1 notch fewer can be recommended (5 % to hold)"),
        (0, 0, 0.7, "either end narrows where the edge lies (70 % to hold)"),
        (3, 2, 0.049, "it will fail, and how soon tells how steep the edge is"),
    ],
)
def test_why_a_test_comes_next_is_told_by_what_it_would_change(
    declaration: RigDeclaration, held: int, failed: int, chance: float, words: str
) -> None:
    search = EdgeSearch(Edge("core_clock", ("stacking", "mixed_load")), declaration)
    now = search.knob.notch_of(search.found().value)
    test = NextTest(1, 40, 600.0, 1.0, chance, now + held, now - failed)
    value = search.knob.text(search.knob.at(40)).replace("\u202f", " ")
    assert search.why(test, declaration).replace("\u202f", " ") == f"10 min of Mixed load at {value}: {words}"


def test_edges_along_a_second_knob_are_searched_from_the_ends_inward(declaration: RigDeclaration) -> None:
    voltage = declaration.knob("core_voltage")
    values = tuple(voltage.at(voltage.notch_of(voltage.stock) + n) for n in (4, 0, 1, 3, 2, 0, 999))
    line = EdgeLine(Edge("core_clock", ("mixed_load",), along="core_voltage", at=values), declaration)
    assert [round((v - voltage.stock) / voltage.step) for v in line.values] == [0, 4, 2, 1, 3]
    first = line.begin(line.values[0])
    seen = ((20, 3600.0, 0, 0), (22, 1800.0, 4, 4), (24, 20.0, 1, 0))
    first.learn([Run("mixed_load", first.knob.at(n), s, f, f > c, 1.0, c) for n, s, f, c in seen])
    second = line.begin(line.values[1])
    untold = EdgeSearch(line.part, declaration)
    spreads = (search.believed()["mixed_load"].fatal.edge_spread for search in (second, untold))
    assert next(spreads) < next(spreads)
    corrected = second.believed()["mixed_load"].corrected
    assert corrected is not None, "what was corrected at one voltage is looked for at the other"
    assert corrected.edge_spread < untold.believed()["mixed_load"].fatal.edge_spread
    assert untold.believed()["mixed_load"].corrected is None
    with pytest.raises(ValueError, match="second knob"):
        EdgeLine(Edge("core_clock", ("mixed_load",)), declaration)


def test_a_proof_loads_each_for_its_share_an_hour_at_a_time_and_ends_with_a_failure(
    declaration: RigDeclaration,
) -> None:
    undone: list[str] = []
    start = Tried(Verdict.HELD, declaration.stock, 1, 1)
    climb = prove(Proof(("stacking", "mixed_load", "memory_check"), 7.5), declaration, start, undone)
    first = next(climb)
    assert isinstance(first, Try)
    assert (first.values, first.why.replace("\u202f", " ")) == ({}, "proof: 2 h 30 min of Stacking")
    assert first.check is not None
    (stage,) = first.check.stages
    assert (stage.workloads, stage.rounds, stage.pass_s) == (("stacking",), 3, 3000.0)
    climb.send(start)
    with pytest.raises(StopIteration):
        climb.send(Tried(Verdict.DOWN, declaration.stock, 1, 2))
    assert [words.replace("\u202f", " ") for words in undone] == ["2 h 30 min of Memory check, after a failure"]


@pytest.mark.parametrize(("notch", "fails"), [(30, False), (46, True)])
def test_a_dry_run_takes_the_edge_to_lie_halfway_to_the_risky_end(
    declaration: RigDeclaration, notch: int, fails: bool
) -> None:
    knob = declaration.knob("core_clock")
    start, edge = knob.at(20), (20 + knob.notches) / 2
    test = Try({knob.id: knob.at(notch)}, "", load_check(declaration, "mixed_load", 600.0), 1, knob.id)
    lasts = 3600.0 * math.exp((edge - notch) / 0.6)
    run = typical_run(knob, start, test)
    assert (run.load, run.value, run.failures, run.down) == ("mixed_load", knob.at(notch), int(fails), fails)
    assert run.seconds == pytest.approx(min(lasts, 600.0))


@pytest.mark.parametrize("fails", [False, True])
def test_what_is_recommended_but_hardly_ran_runs_its_share_first(declaration: RigDeclaration, fails: bool) -> None:
    """Near the safe end of the range: after three failures the safest value is recommended, which nobody has run."""
    knob, moves = declaration.knob("core_clock"), list[Move]()

    def answered(move: Move) -> tuple[Run, ...]:
        if not isinstance(move, Try) or move.check is None:
            return ()
        value, seconds = move.values[knob.id], move.check.stages[0].pass_s or 0.0
        lasts = lasting_s(knob.notch_of(value), 5.0, WIDTH)
        if RUN_IN in move.why:
            lasts = 5.0 if fails else math.inf
        return (Run("mixed_load", value, min(lasts, seconds), int(lasts < seconds), lasts < seconds),)

    going = find_edge(Edge(knob.id, ("mixed_load",)), declaration, Tried(Verdict.HELD, declaration.stock, 1, 1))
    move = next(going)
    with suppress(StopIteration):
        while True:
            moves.append(move)
            ran = answered(move)
            verdict = Verdict.DOWN if any(run.failures for run in ran) else Verdict.HELD
            move = going.send(Tried(verdict, declaration.stock, 1, 2, ran, sum(run.seconds for run in ran)))
    own = [each for each in moves if isinstance(each, Try) and RUN_IN in each.why]
    assert [(each.values[knob.id], each.check.stages[0].pass_s) for each in own if each.check] == [(knob.low, 3600.0)]
    assert isinstance(moves[-1], GoBack) if fails else moves[-1] is own[0]


def test_a_room_that_will_be_warmer_takes_off_what_a_kelvin_costs_on_this_chip(declaration: RigDeclaration) -> None:
    def told(rooms: tuple[float, ...], warmest: float | None) -> Found:
        """A chip that held two minutes when cool where it fails within one when warm: heat matters on it."""
        search = EdgeSearch(Edge("core_clock", ("mixed_load",)), declaration)
        at = search.knob.at
        search.recall(Tried(Verdict.HELD, declaration.stock, 1, 1, (), room_c=warmest))
        held, fell = (
            ((40, 120.0, 0.0), (36, 3600.0, 0.2), (40, 120.0, 0.0)),
            ((40, 40.0, 1.0), (40, 30.0, 1.0), (43, 2.0, 0.0)),
        )
        runs = [Run("mixed_load", at(n), s, 0, False, w) for n, s, w in held]
        runs += [Run("mixed_load", at(n), s, 1, True, w) for n, s, w in fell]
        for run, room in zip(runs, (*rooms, *rooms[-1:] * 6), strict=False):
            search.take(run.value, Tried(Verdict.HELD, declaration.stock, 1, 1, (run,), run.seconds, room_c=room))
        return search.found()

    same, warm, warming = told((20.0,), 20.0), told((20.0,), 28.0), told((20.0, 21.0), None)
    assert (same.room_c, same.warmer_k) == (20.0, 0.0)
    assert (warm.room_c, warm.warmer_k) == (28.0, 8.0)
    lost = [cool - hot for (_, cool), (_, hot) in zip(same.chances, warm.chances, strict=True)]
    assert min(lost) >= -1e-9
    assert max(lost) > 0.05
    assert 1.0 < warming.warmer_k <= 8.0, "a room that rose by a kelvin in the first hour goes on rising"
    assert told((), 28.0).room_c is None


def test_a_setting_that_failed_often_enough_is_not_tried_again(declaration: RigDeclaration) -> None:
    """Hours at 5 800 MT/s, and 6 400 that fails after seconds: the law fits neither, and asked there for ever."""
    search = EdgeSearch(Edge("memory_rate", ("mixed_load",)), declaration)
    seen = (
        (7200.0, 0.5, 1, 0),
        (6200.0, 203.0, 1, 0),
        (6200.0, 30.0, 2, 2),
        (6200.0, 120.0, 2, 2),
        (5800.0, 3600.0, 0, 0),
    )
    search.learn([Run("mixed_load", value, s, failed, False, 0.3, fixed) for value, s, failed, fixed in seen])
    search.learn([Run("mixed_load", 5800.0, 600.0, 0, False, 0.3)] * 4)
    search.learn([Run("mixed_load", 6400.0, 1.0, 1, True, 0.3), Run("mixed_load", 6400.0, 7.0, 1, False, 0.3)])
    failures = Counter({6400.0: 2})
    for i in range(40):
        test = search.next_test()
        if test is None:
            break
        value = search.value_of(test.notch)
        holds = value <= 6000.0
        failures[value] += not holds
        seconds = test.seconds if holds else (14.0, 10.0, 25.0, 5.0)[i % 4]
        search.learn([Run("mixed_load", value, seconds, int(not holds), not holds and i % 2 == 0, 0.3)])
    assert search.next_test() is None
    assert max(failures.values()) <= FAILURES_TELL
    assert search.found().value in (5600.0, 5800.0, 6000.0)
