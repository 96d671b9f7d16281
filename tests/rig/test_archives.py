"""A logbook out of its file and back without a loss, shared without what is private, merged, and hostile archives refused."""

from __future__ import annotations

import copy
import csv
import io
import json
import re
import shutil
from contextlib import suppress
from pathlib import Path
from random import Random
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from tests.conftest import quick_rig

from yondle.app.books.columns import KeepPrice
from yondle.app.books.export import csv_text, logbook_text, merge, passes_csv, read_archive, share
from yondle.app.books.reading import read_book
from yondle.app.machine.machines import RigChoice
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.limits import LimitRange, LimitReading, TellConditions
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.remarks import AttachFile, DiscardPass, WriteNote
from yondle.app.session.results import MeasuredWith, TypeIn
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.formats.documents import Conditions, OwnLimits, OwnRanges, Prices
from yondle.main import run
from yondle.model.errors import KnownError
from yondle.model.workloads import Direction
from yondle.rigs.simulated.rig import LONGEST_IDLE_S, SimulatedRig
from yondle.rigs.simulated.rigfile import parse_rig_file
from yondle.views.traces.spans import span_view
from yondle.views.traces.traces import latest_run, trace_of

HOSTILE = '=HYPERLINK("http://x","y")\u202e\x07<b>'


def make_book(path: Path, clocks: tuple[float, ...], seed: int = 1) -> Path:
    rig = re.sub(r"(?m)^seed = \d+", f"seed = {seed}", quick_rig(), count=1)
    session = create_logbook(path, RigChoice("simulated", "Heron", rig))
    session.do(RunBaseline(2))
    for clock in clocks:
        session.do(TryFrom(1, {"core_clock": clock}, None))
    session.close()
    return path


@pytest.fixture(scope="module")
def book(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = make_book(tmp_path_factory.mktemp("archive") / "book.yondle", (4100.0, 5000.0))
    session = open_logbook(path)
    session.do(KeepProfile("Daily", step=2))
    session.do(WriteNote(2, HOSTILE, caveat=True))
    proof = path.with_name("proof.bin")
    proof.write_bytes(bytes(range(256)))
    session.do(AttachFile(2, proof))
    session.do(TypeIn(2, "Sky tour", 61.5, "frames/s", Direction.HIGHER, MeasuredWith(preset="high")))
    made = next(p for p in session.snapshot.step(2).attempts[0].passes if p.counts)
    session.do(DiscardPass(2, session.snapshot.step(2).attempts[0].id, made.ordinal, "a door"))
    session.do(TellConditions({"serial number": "SN-42"}))
    session.close()
    return path


def text_of(path: Path) -> str:
    session = open_logbook(path)
    text = logbook_text(session.snapshot)
    session.close()
    return text


def test_what_is_exported_makes_the_same_logbook_again(book: Path, tmp_path: Path) -> None:
    text = text_of(book)
    (tmp_path / "book.json").write_text(text, "utf-8")
    read_archive(tmp_path / "book.json", tmp_path / "back.yondle")
    shutil.copy(book.with_name("book.yondle.machine"), tmp_path / "back.yondle.machine")
    assert text_of(tmp_path / "back.yondle") == text
    one, other = open_logbook(book), open_logbook(tmp_path / "back.yondle")
    assert one.snapshot.steps == other.snapshot.steps
    assert one.logbook.trace(2) == other.logbook.trace(2)
    assert other.logbook.attachment(1) == bytes(range(256))
    one.close()
    other.close()
    with pytest.raises(KnownError, match="already there"):
        read_archive(tmp_path / "book.json", tmp_path / "back.yondle")


def test_passes_as_csv_hold_every_pass_and_no_formula(book: Path) -> None:
    session = open_logbook(book)
    rows = list(csv.DictReader(io.StringIO(passes_csv(session.snapshot))))
    passes = [p for r in session.snapshot.steps for a in r.attempts for p in a.all_passes]
    compared = [(r, a, p) for r in session.snapshot.steps for a in r.attempts for p in a.compared]
    scores = [p.result.score for p in passes if p.result is not None and p.result.score is not None]
    figures = [a for r in session.snapshot.steps for a in r.added]
    session.close()
    assert figures
    assert len(rows) == len(passes) + len(figures), "figures from elsewhere stand there, too"
    told = {(row["test"], row["pass"]): row["settings"] for row in rows}
    assert {told[str(a.id), str(p.ordinal)] for _, a, p in compared} == {"everything at stock"}
    assert [r["pass"] for r in rows[len(passes) :]] == [f"figure/{a.id}" for a in figures]
    scores += [a.score for a in figures]
    assert [float(r["score"]) for r in rows if r["score"]] == scores
    assert any(r["left out"] == "discarded: a door" for r in rows)
    assert csv_text([[HOSTILE, "-3.5", "+1", "@x", "1e3"]]).startswith('"\'=HYPERLINK(""http')
    assert csv_text([["-3.5", "-x", "@x"]]) == "-3.5,'-x,'@x\r\n"


@given(
    st.lists(
        st.lists(st.text(max_size=20).map(lambda s: s.replace("\r", "").replace("\0", "")), min_size=1, max_size=4),
        max_size=5,
    )
)
def test_csv_comes_back_as_it_was_but_for_formulas(rows: list[list[str]]) -> None:
    back = list(csv.reader(io.StringIO(csv_text(rows), newline="")))
    told = [[cell[1:] if cell.startswith("'") and cell != was else cell for cell, was in zip(b, r, strict=True)]
            for b, r in zip([b or [""] for b in back], rows, strict=True)]  # fmt: skip
    assert told == rows


def test_a_copy_to_share_says_nothing_private_and_keeps_every_figure(
    book: Path, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    monkeypatch.setattr("socket.gethostname", lambda: "shed-box")
    session = open_logbook(book)
    session.do(WriteNote(1, "measured on shed-box as wren", caveat=False))
    monkeypatch.setattr("getpass.getuser", lambda: "wren")
    share(session.snapshot, tmp_path / "given.yondle")
    figures = session.snapshot.step(2).scores("stacking")
    session.close()
    text = text_of(tmp_path / "given.yondle")
    for private in ("shed-box", "wren", "SN-42", "serial number", "proof.bin"):
        assert private not in text
    given = open_logbook(tmp_path / "given.yondle")
    assert given.snapshot.step(2).scores("stacking") == figures
    given.close()


def test_each_document_of_two_logbooks_is_merged_by_its_own_rule(tmp_path: Path) -> None:
    paths = [
        make_book(tmp_path / f"{name}.yondle", (clock,), seed)
        for name, clock, seed in (("a", 4100.0, 1), ("b", 4150.0, 2))
    ]
    for path, names, most in zip(
        paths, (("Sky tour", "Keep"), ("sky tour", "Harbour", "Keep!")), (80.0, 90.0), strict=True
    ):
        session = open_logbook(path)
        for i, name in enumerate(names):
            session.do(TypeIn(2, name, 60.0 + i, "frames/s", Direction.HIGHER))
        session.do(LimitReading("processor_temperature", most))
        session.do(
            LimitRange("fan_level" if path is paths[0] else "core_clock", None, 60.0 if path is paths[0] else 4500.0)
        )
        session.do(TellConditions({"room": path.stem, f"only {path.stem}": "yes"}))
        session.do(KeepPrice("2", most))
        session.close()
    merge(paths[0], paths[1], tmp_path / "both.yondle")
    both = open_logbook(tmp_path / "both.yondle")
    now, kept = both.snapshot, both.snapshot.kept
    by_hand = {w.id: w.name for w in now.declaration.workloads if w.by_hand}
    assert sorted(by_hand.values()) == ["Harbour", "Keep", "Keep!", "Sky tour"]
    told = sorted((by_hand[a.workload], a.score) for r in now.steps for a in r.added)
    assert told == [("Harbour", 61.0), ("Keep", 61.0), ("Keep!", 62.0), ("Sky tour", 60.0), ("Sky tour", 60.0)]
    assert kept.of(OwnLimits).root == {"processor_temperature": 80.0}, "the first one's where both have one"
    assert set(kept.of(OwnRanges).root) == {"fan_level", "core_clock"}
    assert kept.of(Conditions).root == {"room": "a", "only a": "yes", "only b": "yes"}
    at = {r.step.setup["core_clock"]: str(r.step.number) for r in now.steps}
    assert kept.of(Prices).root == {at[4100.0]: 80.0, at[4150.0]: 90.0}, "each at its step's new number"
    both.do(LimitReading("processor_temperature", None))
    both.close()
    session = open_logbook(paths[1])
    session.do(TypeIn(2, "Pier", 5.0, "s", Direction.LOWER))
    session.close()
    session = open_logbook(paths[0])
    session.do(TypeIn(2, "pier", 5.0, "frames/s", Direction.HIGHER))
    session.close()
    with pytest.raises(KnownError, match="pier is kept in frames/s"):
        merge(paths[0], paths[1], tmp_path / "never.yondle")
    assert not (tmp_path / "never.yondle").exists()


def test_two_logbooks_make_a_third_in_the_order_of_their_tests(book: Path, tmp_path: Path) -> None:
    other = make_book(tmp_path / "other.yondle", (4150.0,), seed=2)
    before = book.read_bytes(), other.read_bytes()
    assert merge(book, other, tmp_path / "both.yondle") == 5
    both, one = open_logbook(tmp_path / "both.yondle"), open_logbook(book)
    assert sorted(r.step.setup["core_clock"] for r in both.snapshot.steps) == [4100.0, 4150.0, 4200.0, 4200.0, 5000.0]
    starts = [r.attempts[0].started_at for r in both.snapshot.steps]
    assert starts == sorted(starts)
    found = next(r for r in both.snapshot.steps if r.step.setup["core_clock"] == 4100.0)
    assert found.notes[0].text == HOSTILE
    assert found.scores("stacking") == one.snapshot.step(2).scores("stacking")
    assert both.logbook.trace(found.attempts[0].id) == one.logbook.trace(2)
    assert both.snapshot.position is not None
    both.close()
    one.close()
    assert merge(book, book, tmp_path / "same.yondle") == 3
    create_logbook(tmp_path / "else.yondle", RigChoice("simulated", "Another", quick_rig())).close()
    with pytest.raises(KnownError, match="One logbook is about Heron, the other about Another"):
        merge(book, tmp_path / "else.yondle", tmp_path / "none.yondle")
    same = open_logbook(tmp_path / "same.yondle")
    assert [len(r.notes) for r in same.snapshot.steps] == [len(r.notes) for r in read_book(book).steps]
    same.close()
    longer = tmp_path / "longer.yondle"
    shutil.copy(book, longer)
    grown = open_logbook(longer)
    grown.do(TryFrom(2, {"core_clock": 4050.0}, None))
    grown.close()
    assert merge(book, longer, tmp_path / "grown.yondle") == 4
    whole = open_logbook(tmp_path / "grown.yondle")
    assert whole.snapshot.step(4).step.parent == 2
    whole.close()
    assert (book.read_bytes(), other.read_bytes()) == before
    twin = tmp_path / "twin.yondle"
    create_logbook(twin, RigChoice("simulated", "Heron II", quick_rig())).close()
    with pytest.raises(KnownError, match="one rig are merged"):
        merge(book, twin, tmp_path / "no.yondle")


def places(value: Any, path: tuple[Any, ...] = ()) -> list[tuple[Any, ...]]:
    """Every place in a document that holds something."""
    found = [path] if path else []
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        found += places(inner, (*path, key))
    return found


WRONG = (None, True, 7, -1.5, 1e300, "words", "", [], {}, [1, 2], "NaN", 2**70, {"a": None})


@given(seed=st.integers(0, 2**32 - 1))
@settings(max_examples=150)
def test_a_spoilt_archive_is_refused_or_read_and_leaves_nothing_half_made(
    seed: int, small_archive: dict[str, Any], tmp_path_factory: pytest.TempPathFactory
) -> None:
    chance, document = Random(seed), copy.deepcopy(small_archive)
    *way, last = chance.choice(places(document))
    holder: Any = document
    for key in way:
        holder = holder[key]
    if chance.random() < 0.7:
        holder[last] = chance.choice(WRONG)
    else:
        del holder[last]
    folder = tmp_path_factory.mktemp("fuzz")
    (folder / "a.json").write_text(json.dumps(document), "utf-8")
    made = folder / "a.yondle"
    with suppress(KnownError):
        read_archive(folder / "a.json", made)
    if made.exists():
        with suppress(KnownError):
            open_logbook(made).close()
    else:
        assert [each.name for each in folder.iterdir()] == ["a.json"]


@pytest.fixture(scope="module")
def small_archive(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Any]:
    path = make_book(tmp_path_factory.mktemp("small") / "small.yondle", ())
    session = open_logbook(path)
    session.do(WriteNote(1, "one note"))
    document: dict[str, Any] = json.loads(logbook_text(session.snapshot))
    session.close()
    for table in ("pass", "sample_block", "journal"):
        del document["tables"][table][3:]
    return document


@pytest.mark.parametrize(
    "text",
    ["", "[]", "{}", '{"format": "yondle-logbook 1"}', "[" * 5000, '{"format": "yondle-logbook 2", "schema": 99}'],
)
def test_what_is_no_archive_is_told(text: str, tmp_path: Path) -> None:
    (tmp_path / "a.json").write_text(text)
    (tmp_path / "a.yondle.keep").write_text("somebody's")
    with pytest.raises(KnownError):
        read_archive(tmp_path / "a.json", tmp_path / "a.yondle")
    assert not (tmp_path / "a.yondle").exists()
    assert (tmp_path / "a.yondle.keep").exists()
    assert run(["restore", str(tmp_path / "gone.json"), str(tmp_path / "a.yondle")]) == 2


def test_the_command_line_exports_restores_shares_merges_and_looks_through(
    book: Path, tmp_path: Path, capsys: pytest.CaptureFixture[str]
) -> None:
    for name in ("b.json", "b.csv"):
        assert run(["export", str(book), str(tmp_path / name)]) == 0
    assert run(["restore", str(tmp_path / "b.json"), str(tmp_path / "b.yondle")]) == 0
    assert run(["share", str(book), str(tmp_path / "s.yondle")]) == 0
    assert run(["merge", str(book), str(tmp_path / "b.yondle"), str(tmp_path / "m.yondle")]) == 0
    capsys.readouterr()
    assert run(["log", str(book), "a", "door", "--kind", "pass", "--json"]) == 0
    rows = json.loads(capsys.readouterr().out)["rows"]
    assert [row["discarded"] for row in rows] == ["a door"]
    which = f"{rows[0]['attempt']}/{rows[0]['item']}"
    assert run(["discard", str(book), "2", which, ""]) == 0
    assert run(["discard", str(book), "2", which, "a door"]) == 0
    assert run(["discard", str(book), "2", "nonsense", "x"]) == 2
    capsys.readouterr()
    assert run(["trace", str(book), "2", "--json"]) == 0
    told = json.loads(capsys.readouterr().out)
    session = open_logbook(book)
    shown = trace_of(session.snapshot, latest_run(session.snapshot, 2).attempt)
    view = span_view(shown, shown.panels, 0.0, shown.lasted_s)
    session.close()
    assert [row["mean"] for row in told["rows"]] == [row.mean for row in view.rows]
    assert told["held_back"] == view.held_back
    assert run(["trace", str(book), "2", "--csv", str(tmp_path / "t.csv")]) == 0
    readings = list(csv.DictReader(io.StringIO((tmp_path / "t.csv").read_text("utf-8"))))
    assert len(readings) == len(shown.times)
    assert float(readings[3]["Core clock (MHz)"]) == pytest.approx(
        float(shown.columns["core_clock_effective"][3]), rel=1e-6
    )
    assert run(["trace", str(book), "2"]) == 0
    assert run(["trace", str(book), "2", "--from", "900000"]) == 2
    assert run(["trace", str(book), "77"]) == 2
    capsys.readouterr()
    assert run(["log", str(book), "--kind", "incident"]) == 0
    assert "went down" in capsys.readouterr().out
    assert run(["attach", str(book), "2", str(tmp_path / "nothing.png")]) == 2


def test_a_time_no_rig_has_reached_is_told_and_a_long_rest_is_not_lived_through(tmp_path: Path) -> None:
    rig = SimulatedRig(parse_rig_file(quick_rig(), "rig"))
    rig.catch_up(40 * LONGEST_IDLE_S)
    assert rig.world.state.t_s == pytest.approx(40 * LONGEST_IDLE_S)
    assert rig.world.state.die_c < 40.0
    for beyond in (1e300, float(2**70), float("inf"), float("nan")):
        with pytest.raises(KnownError, match="no rig has reached"):
            rig.catch_up(beyond)
    machine = tmp_path / "a.machine"
    SimulatedRig(parse_rig_file(quick_rig(), "rig"), machine).catch_up(1.0)
    machine.write_text(machine.read_text().replace('"t_s": 1.0', '"t_s": 1e16'))
    with pytest.raises(KnownError, match="no state of a simulated machine"):
        SimulatedRig(parse_rig_file(quick_rig(), "rig"), machine)
