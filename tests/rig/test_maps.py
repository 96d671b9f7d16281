"""Two knobs together on the simulated rig: what is left over lies where the rig's model has it."""

from __future__ import annotations

import json
import math
from collections.abc import Iterator
from pathlib import Path

import pytest
from tests.conftest import quick_rig

from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import StartPlan
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline
from yondle.main import run
from yondle.rigs.simulated.rigfile import parse_rig_file
from yondle.rigs.simulated.world import World, fresh_state
from yondle.views.map.maps import MapView, map_of, pairs_measured, table_rows
from yondle.views.scaling.sensitivities import sensitivities
from yondle.views.shared.measured import settings_of
from yondle.views.shared.snapshot import Snapshot

CLOCKS, RATES = (4000.0, 4100.0, 4200.0, 4300.0, 4400.0), (5200.0, 5400.0, 5600.0, 5800.0, 6000.0)
GRID = """
format = "yondle-plan 1"
name = "grid"
passes = 5
[[do]]
kind = "steps"
steps = [{steps}]
"""


@pytest.fixture(scope="module")
def grid_book(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Heron at five core clocks and five memory rates, and one core clock far too high."""
    path = tmp_path_factory.mktemp("grid") / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(5))
    pairs = [(clock, rate) for rate in RATES for clock in CLOCKS] + [(5000.0, 6000.0)]
    steps = ", ".join(f"{{ core_clock = {clock}, memory_rate = {rate} }}" for clock, rate in pairs)
    session.do(StartPlan(GRID.format(steps=steps), "grid", lambda *_: None))
    session.close()
    return path


@pytest.fixture
def grid(grid_book: Path) -> Iterator[Session]:
    session = open_logbook(grid_book)
    yield session
    session.close()


def view_of(book: Snapshot, benchmark: str) -> MapView:
    declaration = book.declaration
    across, up = declaration.knob("core_clock"), declaration.knob("memory_rate")
    return map_of(book, settings_of(book), across, up, declaration.workload(benchmark))


def true_rate(benchmark: str, clock: float, rate: float) -> float:
    """Work a second at two settings, without the noise of figures."""
    rig = parse_rig_file(quick_rig(), "rig")
    state = fresh_state(rig)
    state.values.update(core_clock=clock, memory_rate=rate)
    world = World(rig, state)
    running = world.start(benchmark, 30.0)
    world.advance(30.0)
    return running.units


@pytest.mark.parametrize("benchmark", ["stacking", "star_match"])
def test_what_is_left_over_lies_where_the_model_has_it(grid: Session, benchmark: str) -> None:
    view = view_of(grid.snapshot, benchmark)
    assert view.table is not None
    assert (view.table.low, view.table.high) == ((4000.0, 5200.0), (4400.0, 6000.0))
    logs = {(c, r): math.log(true_rate(benchmark, c, r)) for c in (4000.0, 4400.0) for r in (5200.0, 6000.0)}
    truth = math.expm1(logs[4400.0, 6000.0] - logs[4400.0, 5200.0] - logs[4000.0, 6000.0] + logs[4000.0, 5200.0])
    assert view.table.left_over.low <= truth <= view.table.left_over.high
    assert len(table_rows(view)) == 4


def test_stars_answer_to_memory_and_not_to_the_core(grid: Session) -> None:
    stars, stacking = view_of(grid.snapshot, "star_match").table, view_of(grid.snapshot, "stacking").table
    assert stars is not None
    assert stacking is not None
    assert stars.second.low > 0.0
    assert stars.second.fraction > stars.first.fraction
    assert stacking.first.fraction > stacking.second.fraction


def test_what_shows_little_says_how_little_or_what_holds_it_back(grid: Session) -> None:
    told = sensitivities(grid.snapshot, settings_of(grid.snapshot))
    rows = {
        b.id: dict(zip((k.id for k in told.knobs), cells, strict=True))
        for b, cells in zip(told.benchmarks, told.cells, strict=True)
    }
    frames = rows["frames"]["memory_rate"]
    truth = math.log(true_rate("frames", 4200.0, 6000.0) / true_rate("frames", 4200.0, 5200.0)) / math.log(
        6000.0 / 5200.0
    )
    assert frames.low <= truth <= frames.high
    assert frames.sure or frames.words == "limited by graphics"
    assert rows["preview"]["memory_rate"].words == "capped, tells nothing"
    assert rows["star_match"]["memory_rate"].sure


def test_lines_are_drawn_only_inside_what_was_measured_and_the_edge_where_it_failed(grid: Session) -> None:
    import numpy as np

    assert pairs_measured(grid.snapshot, settings_of(grid.snapshot))[0][0].id == "core_clock"
    view = view_of(grid.snapshot, "stacking")
    assert view.surface is not None
    inside = view.surface.holds(np.array([4200.0, 4450.0, 3900.0]), np.array([5600.0, 5600.0, 5600.0]))
    assert inside.tolist() == [True, False, False]
    height = float(view.surface.height(np.array([4200.0]), np.array([5600.0]))[0])
    assert abs(height) < 1.0
    failed = next(p for p in view.points if p.x == 5000.0)
    assert failed.gain is None
    assert view.edge == ((4700.0, 6000.0),)


def test_the_command_line_tells_the_same_map(grid_book: Path, capsys: pytest.CaptureFixture[str]) -> None:
    session = open_logbook(grid_book)
    expected = view_of(session.snapshot, "stacking")
    session.close()
    assert run(["map", str(grid_book), "core_clock", "memory_rate", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["sentence"] == expected.sentence
    gains = {(p["across"], p["up"]): p["gain"]["fraction"] for p in told["points"] if p["gain"]}
    assert gains == {(p.x, p.y): p.gain.fraction for p in expected.points if p.gain is not None}
    assert run(["map", str(grid_book), "core_clock", "core_clock"]) == 2
    assert run(["map", str(grid_book), "core_clock", "memory_rate"]) == 0
    assert "went down" in capsys.readouterr().out
