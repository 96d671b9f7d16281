"""Scores against one knob on the simulated rig, held against what its model says; the command line tells the same figures."""

from __future__ import annotations

import json
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path

import pytest
from tests.conftest import quick_rig

from yondle.analysis.limiting import Bound
from yondle.analysis.shapes import CurveShape
from yondle.app.machine.machines import RigChoice, choose_rig
from yondle.app.plans.plans import StartPlan
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline
from yondle.main import run
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.views.scaling.curves import Curve, ScalingView, knobs_measured, scaling
from yondle.views.scaling.evidence import answer
from yondle.views.scaling.limits import limits
from yondle.views.scaling.sensitivities import Sensitivities, SensitivityCell, sensitivities
from yondle.views.scaling.target import _last_trend, _past, target
from yondle.views.shared.leveled import levels_of
from yondle.views.shared.measured import Settings, settings_of
from yondle.views.shared.showing import Measure, measures_for
from yondle.views.shared.snapshot import Snapshot

SWEEP = """
format = "yondle-plan 1"
name = "sweep"
passes = 4
[[do]]
kind = "sweep"
knob = "{knob}"
from = {low}
to = {high}
by = {by}
"""


@pytest.fixture(scope="module")
def swept_book(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Heron with its core clock from 3 900 to 4 300 MHz and its power limit from 45 to 100 W, each by itself."""
    path = tmp_path_factory.mktemp("swept") / "book.yondle"
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(5))
    for knob, low, high, by in (("core_clock", 3900, 4300, 50), ("power_limit", 45, 100, 5)):
        session.do(StartPlan(SWEEP.format(knob=knob, low=low, high=high, by=by), "sweep", lambda *_: None))
    session.close()
    return path


@pytest.fixture
def swept(swept_book: Path) -> Iterator[Session]:
    session = open_logbook(swept_book)
    yield session
    session.close()


def curve(view: ScalingView, benchmark: str) -> Curve:
    return next(c for c in view.curves if c.benchmark.id == benchmark)


def cell(book: Snapshot, benchmark: str, knob: str) -> SensitivityCell:
    told = sensitivities(book, settings_of(book))
    row = [b.id for b in told.benchmarks].index(benchmark)
    return told.cells[row][[k.id for k in told.knobs].index(knob)]


def test_what_hangs_on_the_core_answers_to_its_clock_and_what_hangs_on_memory_does_not(swept: Session) -> None:
    assert [k.id for k in knobs_measured(swept.snapshot, settings_of(swept.snapshot))] == ["core_clock", "power_limit"]
    view = scaling(swept.snapshot, settings_of(swept.snapshot), swept.declaration.knob("core_clock"))
    stacking, stars, preview = (curve(view, b) for b in ("stacking", "star_match", "preview"))
    assert stacking.answers
    assert stacking.reading is not None
    assert stacking.reading.whole is not None
    assert 0.7 < stacking.reading.whole.slope < 1.05
    assert curve(view, "sharpening").reading.whole.slope > 0.7  # type: ignore[union-attr]
    assert abs(stars.reading.whole.slope) < 0.35  # type: ignore[union-attr]
    assert preview.capped
    assert "tells nothing about core clock" in preview.sentence
    assert "Preview is capped" in view.sentence
    assert [p.value for p in stacking.points] == [3900.0 + 50 * i for i in range(9)]
    at_stock = next(p for p in stacking.points if p.value == 4200.0)
    assert at_stock.shown == pytest.approx(0.0, abs=0.01)
    assert at_stock.high - at_stock.low == pytest.approx(2 * view.noise["stacking"], rel=0.01)
    assert cell(swept.snapshot, "preview", "core_clock").words == "capped, tells nothing"
    assert cell(swept.snapshot, "stacking", "core_clock").sure


def test_a_power_limit_has_a_knee_and_above_it_is_next_to_nothing(swept: Session) -> None:
    view = scaling(swept.snapshot, settings_of(swept.snapshot), swept.declaration.knob("power_limit"))
    stacking = curve(view, "stacking")
    assert stacking.reading is not None
    assert stacking.reading.shape in (CurveShape.NEARLY_FLAT, CurveShape.KNEE)
    assert stacking.reading.place is not None
    assert 65.0 < stacking.reading.place < 80.0
    assert view.sentence.startswith("Past ")
    watts = scaling(swept.snapshot, settings_of(swept.snapshot), swept.declaration.knob("power_limit"), Measure.POWER)
    shown = [p.shown for p in curve(watts, "stacking").points]
    assert shown[-1] > shown[0] + 5.0
    per_watt = curve(
        scaling(swept.snapshot, settings_of(swept.snapshot), swept.declaration.knob("power_limit"), Measure.PER_WATT),
        "stacking",
    )
    assert per_watt.points[0].shown != per_watt.points[-1].shown
    cooler = curve(
        scaling(swept.snapshot, settings_of(swept.snapshot), swept.declaration.knob("power_limit"), Measure.PER_DEGREE),
        "stacking",
    )
    assert len(cooler.points) == len(per_watt.points)
    assert cooler.points[0].shown < cooler.points[3].shown
    assert Measure.PROPORTION not in measures_for(swept.declaration.knob("power_limit"), swept.declaration)


def test_points_under_other_settings_are_never_joined(swept: Session) -> None:
    view = scaling(swept.snapshot, settings_of(swept.snapshot), swept.declaration.knob("core_clock"))
    assert view.held == "All else held at stock"
    assert len(view.groups) == 1
    unmeasured = scaling(swept.snapshot, settings_of(swept.snapshot), swept.declaration.knob("cas"))
    assert not unmeasured.curves
    assert "sweep it" in unmeasured.sentence


def of_all(book: Snapshot) -> tuple[Settings, Sensitivities]:
    settings = settings_of(book)
    return settings, sensitivities(book, settings)


def test_what_limits_each_benchmark_is_told_with_its_evidence(swept: Session) -> None:
    starved = next(r.step.number for r in swept.snapshot.steps if r.step.setup["power_limit"] == 45.0)
    here = {each.benchmark.id: each.finding for each in limits(swept.snapshot, *of_all(swept.snapshot), 1)}
    assert here["stacking"].bound is Bound.PROCESSOR
    assert here["preview"].bound is Bound.CAP
    assert here["frames"].bound is Bound.GRAPHICS
    there = {each.benchmark.id: each.finding for each in limits(swept.snapshot, *of_all(swept.snapshot), starved)}
    assert (there["sharpening"].bound, there["sharpening"].words) == (Bound.LIMIT, "power limit")
    assert all(each.signs for each in there.values() if each.bound is not Bound.UNTOLD)


def test_a_target_is_followed_along_the_trend_and_what_stands_against_it_is_said(swept: Session) -> None:
    stacking = swept.declaration.workload("stacking")
    best = 150.0 / (1.0 + target(swept.snapshot, settings_of(swept.snapshot), stacking, 150.0).missing)
    near = target(swept.snapshot, settings_of(swept.snapshot), stacking, 1.01 * best)
    assert near.missing > 0.0
    clock = next(w for w in near.ways if w.knob.id == "core_clock")
    assert 4250.0 < clock.value < 4450.0
    assert clock.low <= clock.value <= clock.high
    assert clock.value > 4300.0, "what was measured fell short"
    assert "power_limit" not in [w.knob.id for w in near.ways], "its last piece is flat"
    far = target(swept.snapshot, settings_of(swept.snapshot), stacking, 300.0)
    assert [(w.knob.id, w.value, w.short) for w in far.ways] == [("core_clock", 4750.0, True)], (
        "as far as it was tested"
    )
    assert "no knob reaches it" in far.sentence
    steps = swept.declaration.knob("core_clock")
    assert (_past(steps, 4300.0, 4300.2), _past(steps, 4300.0, 4326.0)) == (4325.0, 4350.0)
    assert (_past(steps, 4300.0, 4299.0), _past(steps, 4300.0, 4260.0)) == (4275.0, 4250.0)
    few = _last_trend(
        levels_of(swept.snapshot, stacking), 1, stacking, *_few(swept, "power_limit", (45.0, 85.0, 100.0))
    )
    assert few is None, "of three values, too, only the last two tell where it leads"
    rising = _last_trend(levels_of(swept.snapshot, stacking), 1, stacking, *_few(swept, "power_limit", (45.0, 60.0)))
    assert rising is not None
    assert 0.9 < rising.slope < 1.3
    assert "all else as" not in near.sentence
    elsewhere = replace(swept.snapshot, in_force=swept.declaration.stock.with_values({"cores_in_use": 7.0}))
    away = next(
        w for w in target(elsewhere, settings_of(elsewhere), stacking, 1.01 * best).ways if w.knob.id == "core_clock"
    )
    assert away.value == clock.value
    assert ", all else as in step 9" in away.sentence, "it was not measured with seven cores"
    assert away.held["cores_in_use"] == 8.0
    done = target(swept.snapshot, settings_of(swept.snapshot), stacking, 150.0)
    assert done.ways == ()
    assert 0 < done.reached <= done.passes
    assert (
        "beyond its cap"
        in target(swept.snapshot, settings_of(swept.snapshot), swept.declaration.workload("preview"), 90.0).sentence
    )
    lower = target(swept.snapshot, settings_of(swept.snapshot), swept.declaration.workload("sharpening"), 2.0)
    assert lower.missing > 0.0
    for wrong in (0.0, -3.0, float("nan")):
        with pytest.raises(KnownError, match="no score"):
            target(swept.snapshot, settings_of(swept.snapshot), stacking, wrong)


def _few(session: Session, knob: str, values: tuple[float, ...]) -> tuple[list[Setup], list[tuple[float, list[float]]]]:
    """The setups and Stacking scores at some values of a knob, all else at stock."""
    setups = [session.declaration.stock.with_values({knob: v}) for v in values]
    settings = {s.setup: s for s in settings_of(session.snapshot)}
    return setups, [(s[knob], [f.score for f in settings[s].figures["stacking"]]) for s in setups]


def test_the_command_line_tells_the_same_figures(swept_book: Path, capsys: pytest.CaptureFixture[str]) -> None:
    session = open_logbook(swept_book)
    expected = scaling(session.snapshot, settings_of(session.snapshot), session.declaration.knob("core_clock"))
    session.close()
    assert run(["scaling", str(swept_book), "core_clock", "--json"]) == 0
    values = json.loads(capsys.readouterr().out)
    assert values["sentence"] == expected.sentence
    for given, own in zip(values["curves"], expected.curves, strict=True):
        assert given["sentence"] == own.sentence
        assert [p["shown"] for p in given["points"]] == [p.shown for p in own.points]
    assert run(["scaling", str(swept_book)]) == 0
    assert "capped" in capsys.readouterr().out
    assert run(["scaling", str(swept_book), "moonlight"]) == 2
    assert "no knob called" in capsys.readouterr().err
    assert run(["limits", str(swept_book), "1", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["preview"]["bound"] == str(Bound.CAP)
    assert run(["target", str(swept_book), "stacking", "219.5", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    session = open_logbook(swept_book)
    aim = target(session.snapshot, settings_of(session.snapshot), session.declaration.workload("stacking"), 219.5)
    session.close()
    assert (told["sentence"], told["missing"]) == (aim.sentence, aim.missing)


def test_a_bus_clock_that_drives_two_parts_says_of_neither(tmp_path: Path) -> None:
    session = create_logbook(tmp_path / "book.yondle", choose_rig("bittern"))
    declaration = session.declaration
    session.close()
    told = {k.id: answer(declaration, k, 0.9, 0.8, 1.0) for k in declaration.knobs}
    assert told["bus_clock"] is None
    assert told["core_ratio"] is not None
    assert told["core_ratio"].part is Bound.PROCESSOR
