"""The search for an edge as a value: what it tests under several loads, how far it thinks it has to go, and when it ends."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from random import Random

import pytest

from yondle.analysis.hold import Run
from yondle.app.machine.machines import choose_rig, make_machine
from yondle.model.rigs import RigDeclaration
from yondle.planning.finding import Edge, EdgeSearch, lasting_s

LOADS = ("mixed_load", "memory_check", "stacking")
EDGES = {"mixed_load": 44.0, "memory_check": 46.5, "stacking": 42.0}
WIDTH = 0.6


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
