"""Two samples side by side on the simulated rig: who is better where, what it costs, and what nobody may be told."""

from __future__ import annotations

import json
import math
import shutil
from collections.abc import Iterator
from pathlib import Path

import pytest
from tests.rig.test_scaling_curves import SWEEP

from yondle.app.books.columns import (
    AddReference,
    CompareThese,
    DropReference,
    KeepPrice,
    Shelf,
    compared,
    prices,
)
from yondle.app.books.reading import read_book
from yondle.app.demo import RunNeighbours
from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import StartPlan
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.limits import ChooseBenchmarks
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.main import run
from yondle.model.errors import KnownError
from yondle.rigs.simulated.rigfile import parse_rig_file, rig_text
from yondle.rigs.simulated.world import World, fresh_state
from yondle.views.compare.compare import CompareView, Row, best_first, compare, details, ordered
from yondle.views.compare.efficiency import battery_of, efficiency
from yondle.views.compare.machines import knobs_shared, machines
from yondle.views.shared.measured import settings_of

LIMITS = [float(w) for w in range(50, 106, 5)]
JOBS, PASS_S = ("stacking", "sharpening"), 60.0
TUNED = {
    "memory_rate": 6400.0, "cas": 36.0, "trcd": 38.0, "trp": 36.0, "tras": 70.0, "trfc": 700.0, "memory_voltage": 1.25,
    "controller_voltage": 1.15,
}  # fmt: skip
PASSES = 5
ALL = ("stacking", "sharpening", "star_match", "preview")


def rig_of(name: str) -> str:
    """A shipped rig with short checks and long passes of two jobs: a short one is mostly the burst a power limit lets through."""
    text = (
        rig_text(name)[0]
        .replace("hard_load_s = 180.0", "hard_load_s = 60.0")
        .replace("memory_load_s = 180.0", "memory_load_s = 60.0")
    )
    for job in JOBS:
        head, section = text.split(f"[workloads.{job}]")
        text = f"{head}[workloads.{job}]{section.replace('pass_s = 12.0', f'pass_s = {PASS_S}', 1)}"
    return text


@pytest.fixture(scope="module")
def books(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """Heron at stock, Heron II with its memory tuned, and Bittern, each along its power limit."""
    folder = tmp_path_factory.mktemp("rigs")
    sweep = SWEEP.replace("passes = 4", f"passes = {PASSES}")
    for name in ("heron", "heron-ii", "bittern"):
        session = create_logbook(folder / f"{name}.yondle", RigChoice("simulated", name, rig_of(name)))
        session.do(RunBaseline(PASSES))
        values = LIMITS if name != "bittern" else [45.0, 60.0, 75.0, 90.0]
        if name == "heron-ii":
            session.do(TryFrom(1, TUNED, None))
            session.do(KeepProfile("Memory"))
        session.do(ChooseBenchmarks(JOBS))
        by = values[1] - values[0]
        plan = sweep.format(knob="power_limit", low=values[0], high=values[-1], by=by)
        session.do(StartPlan(plan, "sweep", lambda *_: None))
        session.do(ChooseBenchmarks(ALL))
        session.close()
    return folder


@pytest.fixture
def heron(books: Path, tmp_path: Path) -> Iterator[Session]:
    """Heron's logbook in a folder of its own, so that what is kept in it stays there."""
    for path in books.glob("heron.yondle*"):
        shutil.copy(path, tmp_path)
    session = open_logbook(tmp_path / "heron.yondle")
    yield session
    session.close()


def true_crossing(benchmark: str) -> tuple[float, float]:
    """The power limits between which the model has Heron II overtake Heron in passes as they are run, after a hard load."""
    behind = [w for w in LIMITS if _rate("heron-ii", benchmark, w, TUNED) < _rate("heron", benchmark, w, {})]
    assert behind == LIMITS[: len(behind)]
    return behind[-1], LIMITS[len(behind)]


def _rate(name: str, benchmark: str, limit_w: float, values: dict[str, float]) -> float:
    rig = parse_rig_file(rig_of(name), "rig")
    state = fresh_state(rig)
    state.values.update(values, power_limit=limit_w)
    world = World(rig, state)

    def work(workload: str, seconds: float) -> float:
        while world.state.die_c > rig.check.settle_below_c:
            world.advance(1.0)
        running = world.start(workload, seconds)
        world.advance(seconds)
        world.running = None
        return running.units

    work("mixed_load", 60.0)
    rounds = [{name: work(name, PASS_S) for name in JOBS} for _ in range(PASSES + 1)]
    return sum(each[benchmark] for each in rounds[1:])


def row_of(view: CompareView, benchmark: str) -> Row:
    return next(row for row in view.rows if row.benchmark.id == benchmark)


def test_a_better_memory_overtakes_a_better_chip_where_the_model_has_it(heron: Session, books: Path) -> None:
    shelf = Shelf(lambda: heron.snapshot)
    addresses = ("stock", str(books / "heron-ii.yondle"), str(books / "bittern.yondle"))
    columns, missing = shelf.columns(addresses)
    assert not missing
    assert [c.rig for c in columns] == ["Heron", "Heron II", "Bittern"]
    told = shelf.with_settings(settings_of(heron.snapshot), addresses)
    power = heron.declaration.knob("power_limit")
    assert knobs_shared(told)[0] is power
    view = machines(told, power, heron.declaration.workload("stacking"))
    assert [line.name for line in view.lines] == ["Heron", "Heron II", "Bittern"]
    assert "memory rate" in view.lines[1].held
    twin, old = view.meetings
    assert twin.crossing is not None
    assert twin.crossing.first_below
    before, after = true_crossing("stacking")
    assert twin.crossing.low < after
    assert twin.crossing.high > before
    assert view.sentence.startswith("Heron is better below")
    assert old.crossing is None
    assert "Heron is ahead of Bittern" in old.sentence


def test_columns_have_gains_places_and_means_that_hold_together(heron: Session, books: Path) -> None:
    heron.do(AddReference("Old note", "sharpening", (3.1, 3.2), "from a notebook"))
    wide = Shelf(lambda: heron.snapshot).columns(
        ("stock", f"{books / 'heron-ii.yondle'}#Memory", str(books / "bittern.yondle"), "Old note")
    )
    view = compare(wide[0])
    assert "processor" in [group.name for group in view.groups]
    stars, preview = row_of(view, "star_match"), row_of(view, "preview")
    assert stars.cells[0] is not None
    assert stars.cells[0].gain is None
    assert stars.cells[1] is not None
    assert stars.cells[1].gain is not None
    assert stars.cells[1].gain.low > 0.1
    assert [c.rank.first if c and c.rank else None for c in stars.cells] == [2, 1, 3, None]
    assert preview.cells[1] is not None
    assert preview.cells[1].capped
    narrow = compare(wide[0][:2])
    alone = row_of(narrow, "star_match").cells[1]
    assert alone is not None
    assert alone.gain is not None
    assert alone.gain.margin < stars.cells[1].gain.margin
    means = view.means
    assert means[0] is None
    assert means[1] is not None
    assert means[2] is not None
    assert means[1].these.fraction > 0.0 > means[2].these.fraction
    assert best_first(view)[0] == 0
    falling = ordered(view, 2, False)[0][1]
    gains = [c.gain.fraction for row in falling if (c := row.cells[2]) is not None and c.gain is not None]
    assert gains == sorted(gains, reverse=True)
    assert any("Typed in" in words for words in view.caveats)
    assert any("power (battery inverter, mains)" in words for words in view.caveats)
    shown = dict(details(view, preview))
    assert shown["1 % low, frames/s"][0]
    assert shown[f"pass {PASSES}"][0]
    assert not dict(details(view, row_of(view, "stacking")))["pass 1"][3]


def test_where_lower_is_better_nobody_leads_for_sure_where_the_model_has_the_other_ahead(
    heron: Session, books: Path
) -> None:
    addresses = ("stock", str(books / "heron-ii.yondle"))
    shelf = Shelf(lambda: heron.snapshot)
    shelf.columns(addresses)
    told = shelf.with_settings(settings_of(heron.snapshot), addresses)
    view = machines(told, heron.declaration.knob("power_limit"), heron.declaration.workload("sharpening"))
    before, after = true_crossing("sharpening")
    first, *others = view.meetings[0].leads
    assert first.ahead == 1
    assert LIMITS[2] < first.high < after + LIMITS[1] - LIMITS[0]
    assert all(lead.low > before for lead in others if lead.ahead == -1)


def test_what_a_part_costs_is_told_by_its_gain(heron: Session, books: Path) -> None:
    twin = f"{books / 'heron-ii.yondle'}#Memory"
    heron.do(KeepPrice(twin, 60.0))
    view = compare(Shelf(lambda: heron.snapshot).columns(("stock", twin))[0], 0, prices(heron.snapshot))
    cell = row_of(view, "star_match").cells[1]
    assert cell is not None
    assert cell.gain is not None
    paid = dict(details(view, row_of(view, "star_match")))["price of each +1\u202f%"]
    shown = paid[1].split()[0]
    last = 10.0 ** -len(shown.partition(".")[2])
    assert float(shown) == pytest.approx(60.0 / (100 * cell.gain.fraction), abs=0.501 * last)
    with pytest.raises(KnownError, match="no price"):
        heron.do(KeepPrice(twin, -1.0))
    heron.do(KeepPrice(twin, None))
    assert prices(heron.snapshot) == {}


def test_energy_battery_and_what_no_other_setting_beats(heron: Session) -> None:
    stacking = heron.declaration.workload("stacking")
    view = efficiency([(heron.snapshot, settings_of(heron.snapshot))], stacking, 480.0)
    assert (view.work, view.power) == ("frame", "Wall power")
    stock = next(c for c in view.costs if c.setup == "everything at stock")
    assert stock.joules == pytest.approx(60.0 * stock.watts / stock.score)
    assert stock.battery_s == pytest.approx(480.0 * 3600.0 / stock.watts)
    assert stock.battery_units == pytest.approx(480.0 * 3600.0 / (stock.joules or math.nan))
    starved = next(c for c in view.costs if c.setup.startswith("power limit 50"))
    assert starved.unbeaten
    assert starved.per_watt is not None
    assert starved.per_watt.high < 0.0
    assert starved.above_room_k is not None
    assert view.best is not None
    assert view.costs[view.best].watts > starved.watts
    assert "an hour takes" in view.sentence
    assert stock.changed == ()
    assert starved.changed[0].startswith("power limit 50")
    small = efficiency([(heron.snapshot, settings_of(heron.snapshot))], stacking, 20.0)
    assert "One charge of 20\u202fWh: " in small.sentence
    assert "an hour takes" not in small.sentence, "of a charge that lasts less than an hour no hour takes a share"
    durations = efficiency([(heron.snapshot, settings_of(heron.snapshot))], heron.declaration.workload("sharpening"))
    assert durations.work == "run"
    assert durations.costs[0].joules == pytest.approx(durations.costs[0].watts * durations.costs[0].score)
    assert battery_of({"battery in Wh": "480,5"}) == 480.5
    with pytest.raises(KnownError, match="no energy"):
        battery_of({"battery in Wh": "plenty"})


def test_another_field_book_is_read_and_left_as_it_was(heron: Session, books: Path, tmp_path: Path) -> None:
    other = books / "heron-ii.yondle"
    before, beside = other.read_bytes(), sorted(p.name for p in books.iterdir())
    held = open_logbook(other)
    assert read_book(other).steps == tuple(held.snapshot.steps)
    held.close()
    assert read_book(other).profiles[0].name == "Memory"
    assert other.read_bytes() == before
    assert sorted(p.name for p in books.iterdir()) == beside
    (tmp_path / "torn.yondle").write_bytes(before[:5000])
    (tmp_path / "words.yondle").write_text("no logbook")
    for wrong, says in (("torn", "damaged"), ("words", "is no logbook"), ("gone", "There is no logbook")):
        with pytest.raises(KnownError, match=says):
            read_book(tmp_path / f"{wrong}.yondle")
    columns, missing = Shelf(lambda: heron.snapshot).columns(
        ("stock", str(tmp_path / "gone.yondle"), "99", "nothing#7")
    )
    assert [c.name for c in columns] == ["Stock"]
    assert len(missing) == 3
    with pytest.raises(KnownError, match="can't be told apart"):
        heron.do(CompareThese(tuple(map(str, range(30)))))
    assert compared(heron.snapshot) == ("stock",)
    for name in ("7", "stock", "a#b", ""):
        with pytest.raises(KnownError, match="reference's name"):
            heron.do(AddReference(name, "stacking", (1.0,)))
    for scores in ((), (0.0,), (math.inf,)):
        with pytest.raises(KnownError, match="above 0"):
            heron.do(AddReference("Note", "stacking", scores))
    with pytest.raises(KnownError, match="no reference"):
        heron.do(DropReference("Note"))


def test_the_command_line_tells_the_same_comparison(
    heron: Session, books: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    twin, own = str(books / "heron-ii.yondle"), str(heron.logbook.path)
    expected = compare(Shelf(lambda: heron.snapshot).columns(("stock", twin))[0])
    curves = machines(
        Shelf(lambda: heron.snapshot).with_settings(settings_of(heron.snapshot), ()),
        heron.declaration.knob("power_limit"),
        heron.declaration.workload("stacking"),
    )
    costs = efficiency([(heron.snapshot, settings_of(heron.snapshot))], heron.declaration.workload("stacking"), 480.0)
    heron.close()
    assert run(["compare", own, "stock", twin, "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    assert told["sentence"] == expected.sentence
    cells = [row["cells"][1]["gain"]["fraction"] for group in told["groups"] for row in group["rows"]]
    assert cells == [row.cells[1].gain.fraction for row in expected.rows if row.cells[1] and row.cells[1].gain]
    assert run(["compare", own, "--along", "power_limit", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["sentence"] == curves.sentence
    assert run(["efficiency", own, "--battery", "480", "--json"]) == 0
    assert json.loads(capsys.readouterr().out)["sentence"] == costs.sentence
    assert run(["reference", own, "A neighbour", "stacking", "180", "182"]) == 0
    assert run(["compare", own, "stock", "A neighbour", "--passes"]) == 0
    assert "A neighbour" in capsys.readouterr().out
    for wrong in (["stock", "moonlight"], ["stock", "--against", "4"]):
        assert run(["compare", own, *wrong]) == 2
    assert run(["price", own, "stock", "-3"]) == 2


def test_neighbours_that_were_stopped_are_not_taken_for_whole_ones(tmp_path: Path) -> None:
    looks = 0

    def soon() -> bool:
        nonlocal looks
        looks += 1
        return looks > 50

    assert RunNeighbours(tmp_path, soon).run() == []
    assert not list(tmp_path.glob("*.yondle*"))
