"""Tables: what columns are taken for, what can't be read, books made of them, and tables taken out again without loss."""

from __future__ import annotations

import zipfile
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
import xlsxwriter  # type: ignore[import-untyped]

from yondle.app.books.export import logbook_text, merge, read_archive, share
from yondle.app.books.reading import read_book
from yondle.app.books.tables_out import table_out
from yondle.app.machine.machines import choose_rig
from yondle.app.reports.reporting import report_of
from yondle.app.session.describing import DescribeKnob
from yondle.app.session.importing import ImportTable, look_at_table
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.recording import HowItWent, Record, ToldFigure, ToldStep, figure_told, number_typed
from yondle.app.session.results import ImportLogs
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.plan_runs import KeptMove, MoveKind
from yondle.model.steps import StepKind
from yondle.model.verdicts import Failure, Verdict
from yondle.model.workloads import Direction
from yondle.tables import cells
from yondle.tables.cells import Sheet, read_sheets, sheet_of_text
from yondle.tables.heads import Role
from yondle.tables.recognise import recognise
from yondle.tables.recognised import AS_FOUND, Known, Shape, Wish, Wishes
from yondle.tables.writing import as_cells, as_csv, write_table
from yondle.views.compare.machines import costs_told, machines
from yondle.views.map.maps import map_of
from yondle.views.scaling.curves import scaling
from yondle.views.scaling.target import target
from yondle.views.shared.gains import gain_of, gain_words
from yondle.views.shared.measured import settings_of
from yondle.views.shared.proof import proofs
from yondle.views.shared.showing import Measure

EXAMPLES = Path(__file__).parents[3] / "docs" / "examples"
SMALL = "Clock (MHz),Stacking (frames/min),Sharpening (s),stable\n4200,182.4,41.2,yes\n4300,186.1,40.4,yes\n4400,froze,,no\n"


@pytest.fixture
def book(tmp_path: Path) -> Iterator[Session]:
    made = create_logbook(tmp_path / "sandpiper.yondle", choose_rig("elsewhere", name="Sandpiper"))
    yield made
    made.close()


@pytest.mark.parametrize(
    ("text", "shape", "expected"),
    [
        (SMALL, Shape.BY_SETTING, "setting figure figure outcome"),
        ("Test;Einheit;Serie;4300 MHz;4400 MHz\nA;s;1,5;1,4;1,3\nB;s;2,5;2,4;2,3\n", Shape.BY_BENCHMARK,
         "benchmark unit figure figure figure"),
        ("Clock MHz\tBenchmark\tRun 1\tRun 2\tMean\tDiff %\n1\tA\t1\t1.1\t1.05\t0\n2\tA\t2\t2.1\t2.05\t95\n", Shape.BY_FIGURE,
         "setting benchmark figure figure left left"),
        ("Profile,Score,Power (W),Noise (dB(A)),Driver\nquiet,10,5,20,1.2b\nfast,12,9,31,1.2b\n", Shape.BY_SETTING,
         "setting figure sensor sensor condition"),
        ("Game,Preset,avg fps,1% low (fps),Note\nSky tour,high,61.2,41,x\nPreview,high,59,44,y\n", Shape.BY_FIGURE,
         "benchmark preset figure part note"),
        ("Clock MHz,Sky tour,Sky tour,Far,Far\n,avg,1% low,avg,1% low\n1,60,40,30,20\n2,66,44,33,22\n", Shape.BY_SETTING,
         "setting figure part figure part"),
        ("Clock GHz,A,A gain\n1,100,0\n2,110,0.1\n3,120,0.2\n", Shape.BY_SETTING, "setting figure left"),
    ],
    ids=["a row a setting", "a column a setting", "runs", "costs", "sub-scores", "two head lines", "gain"],
)  # fmt: skip
def test_columns_are_taken_for_what_they_are(text: str, shape: Shape, expected: str) -> None:
    found = recognise(sheet_of_text(text, "it"), Known())
    told = [column.role.name.lower() for column in found.columns]
    assert " ".join(told) == expected, [(c.head.text, c.role, c.why) for c in found.columns]
    assert found.shape is shape


def test_a_book_is_made_of_a_table_and_brought_in_again_it_doubles_nothing(book: Session) -> None:
    sheet = sheet_of_text(SMALL, "small.csv")
    made = book.do(ImportTable(sheet))
    assert (made.made, made.figures) == (3, 4)
    now = book.snapshot
    assert [r.step.kind for r in now.steps] == [StepKind.BASELINE, StepKind.CHANGE, StepKind.CHANGE]
    assert [r.verdict for r in now.steps] == [Verdict.HELD, Verdict.HELD, Verdict.DOWN]
    assert all(r.recorded for r in now.steps)
    (clock,) = now.declaration.knobs
    assert (clock.low, clock.high, clock.step, clock.unit, clock.proportional) == (4200, 4400, 100, "MHz", True)
    stacking, sharpening = now.declaration.benchmarks
    assert (stacking.metric.unit, sharpening.metric.direction.name) == ("frames/min", "LOWER")
    assert now.position is not None
    again = book.do(ImportTable(sheet))
    assert (again.steps, again.figures, again.there) == ((), 0, 4)
    more = SMALL.replace("4300,186.1", "4300,187.0").replace("4400,froze", "4450,190")
    added = book.do(ImportTable(sheet_of_text(more, "more.csv")))
    assert (added.made, added.figures, added.there) == (1, 2, 3)
    assert book.snapshot.declaration.knob("clock").high == 4450.0
    assert book.snapshot.declaration.knob("clock").step == 50.0


def test_a_machine_elsewhere_runs_nothing_and_its_knobs_are_described(book: Session) -> None:
    with pytest.raises(KnownError, match="Sandpiper runs no Yondle"):
        book.do(RunBaseline(2))
    assert [w.name for w in book.snapshot.declaration.benchmarks] == ["No figures yet"]
    book.do(DescribeKnob("Fan mode", choices=("quiet", "fast"), stock="fast"))
    fan = book.do(DescribeKnob("Fan", "%", "cooling", 0, 100, 5, "40"))
    assert (fan.stock, fan.unit) == (40.0, "%")
    with pytest.raises(KnownError, match="describes no knob"):
        book.do(DescribeKnob("Bad", low=5, high=1, step=1))
    before = book.snapshot.in_force
    book.do(
        Record((ToldStep(before, HowItWent(held=True), (ToldFigure("Stacking", 61.2, "frames/min"),)),), moves=True)
    )
    made = book.do(
        Record(
            (
                ToldStep(
                    before.with_values({"fan": 45}), HowItWent(failure=Failure.FROZE, after_s=720.0, code="d4", stage="night"),
                    note="too warm",
                ),
            ),
            moves=True,
        )
    )  # fmt: skip
    record = book.snapshot.step(made.steps[0])
    assert record.outcome is not None
    assert record.outcome.reason == "Recorded: froze after 12\u202fmin, at 'night', code d4."
    assert record.verdict is Verdict.DOWN
    assert record.notes[0].text == "too warm"
    assert book.snapshot.in_force == before, "what failed isn't where it stands"


def test_a_record_beside_tests_is_told_apart_and_counts_as_load_only_where_that_is_told(tmp_path: Path) -> None:
    session = create_logbook(tmp_path / "heron.yondle", choose_rig("heron"))
    try:
        now = session.snapshot
        setup = now.declaration.stock.with_values({"core_clock": 4300})
        load = now.declaration.hard_load
        session.do(Record((ToldStep(setup, HowItWent(held=True)),)))
        assert proofs(session.snapshot, setup) == []
        session.do(Record((ToldStep(setup, HowItWent(held=True, load=load, seconds=28800.0)),)))
        (proof,) = proofs(session.snapshot, setup)
        assert (proof.seconds, proof.failures) == (28800.0, 0)
        assert session.snapshot.steps[-1].recorded
        assert session.snapshot.in_force == now.in_force, "nothing was set"
        session.do(Record((ToldStep(now.declaration.stock, figures=(ToldFigure("Far", 5.0),)),)))
        assert session.snapshot.baseline_step is None, "stock that is only told of is no baseline of tests"
        keeping = session.logbook.keeping
        keeping.open_move(keeping.open_plan("", {}, "2026-01-01", 0.0), 1, KeptMove(MoveKind.TRY), 40)
        session.do(Record((ToldStep(setup, HowItWent(failure=Failure.FROZE)),)))
        last = max(a.id for r in session.snapshot.steps for a in r.attempts)
        assert last == 41, "what a plan cut off waits for isn't taken"
        for bad in (
            HowItWent(held=True, load=load),
            HowItWent(True, Failure.FROZE),
            HowItWent(seconds=-1.0, load=load),
        ):
            with pytest.raises(KnownError):
                session.do(Record((ToldStep(setup, bad),)))
        with pytest.raises(KnownError, match="is run by Yondle itself"):
            session.do(Record((ToldStep(setup, figures=(ToldFigure("Stacking", 1.0),)),)))
        with pytest.raises(KnownError, match="Cell A2: Core clock of 9"):
            session.do(ImportTable(sheet_of_text("Core clock (MHz),Far\n9000,5\n4300,6\n", "it")))
        assert len(session.snapshot.steps) == 2, "all of it or nothing"
    finally:
        session.close()


def test_single_figures_have_no_margin_and_borrow_the_noise_that_is_known(book: Session) -> None:
    book.do(ImportTable(sheet_of_text("Clock (MHz),A,B\n100,50,7\n110,55,8\n", "it")))
    now = book.snapshot
    first, second = now.declaration.benchmarks
    told = gain_of(now, now.steps[1], first)
    assert gain_words(told) == "+10.0\u202f%, one figure"
    curves = scaling(now, settings_of(now), now.declaration.knob("clock"))
    assert any("One figure a setting" in words for words in curves.caveats)
    assert target(now, settings_of(now), first, 54.0).reached == 1, "targets count single figures"
    runs = "Clock (MHz),Benchmark,Run 1,Run 2,Run 3\n120,A,60,60.4,59.8\n130,A,65,65.3,64.9\n"
    book.do(ImportTable(sheet_of_text(runs, "runs")))
    now = book.snapshot
    borrowed = gain_of(now, now.steps[1], first)
    assert borrowed is not None
    assert borrowed.borrowed
    assert "borrowed" in gain_words(borrowed)
    assert 0.001 < borrowed.margin < 0.1
    other = gain_of(now, now.steps[1], second)
    assert other is not None
    assert not other.borrowed, "of B nothing tells the noise"


def test_the_examples_reach_every_chart_and_come_out_as_they_went_in(tmp_path: Path) -> None:
    books = {}
    for name in ("sandpiper-grid.csv", "wren-power.csv", "dunlin-before-after.tsv"):
        session = books[name] = create_logbook(tmp_path / f"{name}.yondle", choose_rig("elsewhere", name=name))
        sheet = read_sheets(EXAMPLES / name)[0]
        look = look_at_table(session.snapshot, sheet)
        assert look.may, look.gathered.problems
        assert any("Mean" in left or "%" in left for left in look.gathered.left)
        session.do(ImportTable(sheet))
    grid, wren, dunlin = (each.snapshot for each in books.values())
    clock, memory = grid.declaration.knobs
    both = map_of(grid, settings_of(grid), clock, memory, grid.declaration.benchmarks[0])
    assert both.table is not None, "the two-by-two of two tuned parts"
    assert both.points[0].recorded
    power = wren.declaration.knobs[0]
    for measure in (Measure.PER_WATT, Measure.NOISE, Measure.TEMPERATURE):
        view = scaling(wren, settings_of(wren), power, measure)
        assert all(len(curve.points) == 6 for curve in view.curves), measure
    books_of = [(wren, settings_of(wren))]
    (noise,) = [cost for cost in costs_told(books_of) if cost.name == "Noise"]
    (line,) = machines(books_of, noise, wren.declaration.benchmarks[0]).lines
    assert [point.value for point in line.points] == [21.5, 23.0, 26.4, 30.2, 34.8, 39.6], "set against gains"
    compared = table_out(dunlin, ("compare", "1", "2"))
    assert [row[0] for row in compared.rows if row[1] == "Far table"] == ["memory"]
    assert any(str(row[1]).startswith("mean of memory") for row in compared.rows)
    for name, session in books.items():
        out = table_out(session.snapshot, ("figures",))
        for kind in (".xlsx", ".csv"):
            write_table(tmp_path / f"out{kind}", out)
            again = create_logbook(tmp_path / f"{name}{kind}.yondle", choose_rig("elsewhere", name=name))
            again.do(ImportTable(read_sheets(tmp_path / f"out{kind}")[0]))
            assert as_cells(table_out(again.snapshot, ("figures",))) == as_cells(out), (name, kind)
            again.close()
    figures = books["dunlin-before-after.tsv"]
    logs = (EXAMPLES / "sky-tour-frames.csv", EXAMPLES / "sky-tour-sensors.csv")
    read = figures.do(ImportLogs(2, logs, "Sky tour by frames"))
    assert read.samples == 31
    assert read.figures[0].measured.parts["dropped frames"] == pytest.approx(100 * 7 / 900)
    for session in books.values():
        session.close()


def workbook(path: Path, fill: Callable[[xlsxwriter.Workbook], None]) -> Path:
    book = xlsxwriter.Workbook(str(path))
    fill(book)
    book.close()
    return path


def test_a_workbook_gives_values_of_formulas_merged_cells_and_dates(tmp_path: Path, book: Session) -> None:
    def fill(made: xlsxwriter.Workbook) -> None:
        sheet = made.add_worksheet("grid")
        sheet.write_row(0, 0, ["Clock (MHz)", "Benchmark", "Score"])
        sheet.merge_range(1, 0, 2, 0, 4200)
        sheet.merge_range(3, 0, 4, 0, 4300)
        for i, (name, score) in enumerate((("A", 50), ("B", 7.5), ("A", 51), ("B", 7.9)), 1):
            sheet.write(i, 1, name)
            sheet.write_formula(i, 2, f"={score}*1", None, score)

    sheets = read_sheets(workbook(tmp_path / "it.xlsx", fill))
    book.do(ImportTable(sheets[0]))
    second = book.snapshot.declaration.benchmarks[1].id
    assert [record.scores(second) for record in book.snapshot.steps] == [[7.5], [7.9]]

    def dated(made: xlsxwriter.Workbook) -> None:
        sheet = made.add_worksheet("dated")
        for i, row in enumerate((("Clock (MHz)", "C"), (4200, 5), (4300, 6), (4300, 7))):
            sheet.write_row(i, 0, row)
        sheet.write_number(2, 1, 45000, made.add_format({"num_format": "yyyy-mm-dd"}))

    with pytest.raises(KnownError, match=r"Cell B3 holds a date \(2023-03-15"):
        book.do(ImportTable(read_sheets(workbook(tmp_path / "dated.xlsx", dated))[0]))


ODS = (
    '<?xml version="1.0"?><office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0" '
    'xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0" '
    'office:version="1.2"><office:body><office:spreadsheet><table:table table:name="it">{rows}</table:table>'
    "</office:spreadsheet></office:body></office:document-content>"
)


def test_an_opendocument_sheet_is_read(tmp_path: Path, book: Session) -> None:
    def cell(value: object) -> str:
        if isinstance(value, str):
            return f'<table:table-cell office:value-type="string"><text:p>{value}</text:p></table:table-cell>'
        return f'<table:table-cell office:value-type="float" office:value="{value}"><text:p>{value}</text:p></table:table-cell>'

    rows = (("Clock (MHz)", "Stacking"), (100, 5.5), (110, 6.25))
    told = "".join(f"<table:table-row>{''.join(map(cell, row))}</table:table-row>" for row in rows)
    kind = "application/vnd.oasis.opendocument.spreadsheet"
    with zipfile.ZipFile(tmp_path / "it.ods", "w") as archive:
        archive.writestr("mimetype", kind)
        archive.writestr("content.xml", ODS.replace("{rows}", told))
        archive.writestr(
            "META-INF/manifest.xml",
            '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0">'
            f'<manifest:file-entry manifest:full-path="/" manifest:media-type="{kind}"/></manifest:manifest>',
        )
    book.do(ImportTable(read_sheets(tmp_path / "it.ods")[0]))
    work = book.snapshot.declaration.benchmarks[0]
    assert [record.scores(work.id) for record in book.snapshot.steps] == [[5.5], [6.25]]


BAD: list[tuple[str, str]] = [
    ("Clock (MHz),A\n1,2\n2,x9\n3,4\n", "Cell B3: 'x9' is no number"),
    ("Clock (MHz);A\n1;2,5\n2;2.5\n", "behind a point in cell B3 and behind a comma in cell B2"),
    ("Clock (MHz);A\n1;1,030\n2;1,040\n", "could be read in two ways"),
    ("Clock (MHz),A\n1,2 ms\n2,3 s\n3,4 ms\n", "Cell B3 is in s, its column in ms"),
    ("Benchmark,Stock,4300 MHz\nA,1,2\nB,3,4\n", "What is 'Stock' (cell B1)"),
    ("Clock (MHz),Benchmark,Score\n1,A,5\n2,,6\n", "Cell B3 names no benchmark"),
    ("Clock (MHz),A,stable\n1,2,yes\n2,3,perhaps\n", "Cell C3 says 'perhaps'"),
    ("Clock (MHz),A\n1,-2\n2,3\n", "Cell B2: -2 is below 0"),
]


def test_a_typed_number_has_a_point_before_decimals_and_no_comma_is_guessed(book: Session) -> None:
    assert number_typed("61.234") == 61.234
    assert number_typed("1,5") == 1.5
    told = figure_told(book.snapshot, "Sharpening=40.125 s", ("sharpening",))
    assert (told.score, told.unit, told.direction) == (40.125, "s", Direction.LOWER)
    for refused in ("1,030", "4.3.1,2", "fast"):
        with pytest.raises(KnownError, match="is no figure"):
            number_typed(refused)
    with pytest.raises(KnownError, match="is no figure"):
        book.do(DescribeKnob("Voltage", "V", "processor", 0.8, 1.4, 0.005, "1,250"))
    assert book.do(DescribeKnob("Voltage", "V", "processor", 0.8, 1.4, 0.005, "1.250 V")).stock == 1.25


def test_a_column_in_another_unit_than_its_knob_is_no_value_of_it(book: Session) -> None:
    book.do(DescribeKnob("Power limit", "W", "processor", 40.0, 150.0, 1.0, "95"))
    with pytest.raises(KnownError, match=r"Cell A2: Power limit is in W here, and not in %"):
        book.do(ImportTable(sheet_of_text("Power limit (%),Stacking (frames/min)\n80,182\n90,184\n", "it")))
    assert not book.snapshot.steps
    told = Wishes({0: Wish(unit="W")})
    book.do(ImportTable(sheet_of_text("Power limit (%),Stacking (frames/min)\n80,182\n90,184\n", "it"), told))
    assert [record.step.setup["power_limit"] for record in book.snapshot.steps] == [80.0, 90.0]


@pytest.mark.parametrize(("text", "words"), BAD, ids=[words for _, words in BAD])
def test_what_cant_be_read_names_its_cell_and_nothing_is_brought_in(book: Session, text: str, words: str) -> None:
    with pytest.raises(KnownError) as told:
        book.do(ImportTable(sheet_of_text(text, "it")))
    assert words in told.value.problem
    assert told.value.remedy
    assert not book.snapshot.steps
    assert not book.snapshot.declaration.knobs


def test_a_file_that_would_fill_the_memory_or_run_something_is_refused(tmp_path: Path) -> None:
    def corners(made: xlsxwriter.Workbook) -> None:
        sheet = made.add_worksheet()
        sheet.write(0, 0, 5)
        sheet.write(1048575, 16383, 1)

    def date(made: xlsxwriter.Workbook) -> None:
        made.add_worksheet().write_number(0, 0, 45000, made.add_format({"num_format": "yyyy-mm-dd"}))

    assert read_sheets(workbook(tmp_path / "date.xlsx", date))[0].dates == {(0, 0)}
    corner = workbook(tmp_path / "corner.xlsx", corners)
    bomb, macros, damaged = tmp_path / "bomb.xlsx", tmp_path / "macros.xlsm", tmp_path / "damaged.ods"
    with (
        zipfile.ZipFile(bomb, "w", zipfile.ZIP_DEFLATED) as archive,
        archive.open("a.xml", "w", force_zip64=True) as file,
    ):
        for _ in range(300):
            file.write(bytes(1 << 20))
    with zipfile.ZipFile(macros, "w") as archive:
        archive.writestr("xl/vbaProject.bin", "x")
    damaged.write_bytes(b"PK\x03\x04" + bytes(80))
    (tmp_path / "old.xls").write_bytes(b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1" + bytes(80))
    (tmp_path / "long.csv").write_text("a,b\n" + "1,2\n" * 100_000)
    for path, words in (
        (corner, "too large"), (bomb, "too large"), (macros, "macros"), (damaged, "damaged"), (tmp_path / "old.xls", "password"),
        (tmp_path / "long.csv", "too large"), (tmp_path / "none.csv", "can't be read"),
    ):  # fmt: skip
        with pytest.raises(KnownError) as told:
            read_sheets(path)
        assert words in told.value.problem, path.name
        assert told.value.remedy
    assert cells.MOST_ROWS < 100_000


def test_a_book_from_elsewhere_is_read_shared_archived_merged_and_compared(book: Session, tmp_path: Path) -> None:
    book.do(ImportTable(sheet_of_text(SMALL, "it")))
    path = book.logbook.path
    beside = read_book(path)
    assert [k.id for k in beside.declaration.knobs] == ["clock"]
    assert [r.recorded for r in beside.steps] == [True] * 3
    share(book.snapshot, tmp_path / "shared.yondle")
    text = logbook_text(book.snapshot)
    (tmp_path / "it.json").write_text(text, "utf-8")
    read_archive(tmp_path / "it.json", tmp_path / "again.yondle")
    merge(path, tmp_path / "again.yondle", tmp_path / "both.yondle")
    for name, steps in (("shared", 3), ("again", 3), ("both", 3)):
        opened = open_logbook(tmp_path / f"{name}.yondle")
        assert len(opened.snapshot.steps) == steps, name
        assert [w.name for w in opened.snapshot.declaration.benchmarks] == ["Stacking", "Sharpening"], name
        opened.close()
    rows = table_out(book.snapshot, ("compare", "2", f"{tmp_path / 'again.yondle'}#1")).rows
    assert [row[1] for row in rows][:2] == ["Stacking", "Sharpening"]
    report = report_of(book.snapshot)
    assert report.sections


def test_what_the_tuner_says_of_a_column_goes_before_what_it_looks_like(book: Session) -> None:
    sheet = sheet_of_text("Speed,Far\n5,100\n6,90\n", "it")
    wishes = Wishes({0: Wish(Role.SETTING, "Belt", "m/s"), 1: Wish(None, None, "ns", True)})
    book.do(ImportTable(sheet, wishes, {"Belt": "6"}))
    (knob,), (work,) = book.snapshot.declaration.knobs, book.snapshot.declaration.benchmarks
    assert (knob.name, knob.unit, knob.stock) == ("Belt", "m/s", 6.0)
    assert (work.metric.unit, work.metric.direction.name) == ("ns", "LOWER")
    assert book.snapshot.baseline_step is not None
    assert book.snapshot.baseline_step.step.setup == Setup.of({"belt": 6.0})


def test_words_that_look_like_a_formula_are_defused_on_the_way_out(book: Session, tmp_path: Path) -> None:
    book.do(ImportTable(sheet_of_text("Clock (MHz),A,Note\n1,5,=HYPERLINK(x)\n2,6,+3\n", "it"), AS_FOUND))
    out = table_out(book.snapshot, ("steps",))
    assert "'=HYPERLINK(x)" in as_csv(out)
    write_table(tmp_path / "it.xlsx", out)
    (back,) = read_sheets(tmp_path / "it.xlsx")
    assert isinstance(back, Sheet)
    assert "=HYPERLINK(x)" in [cell for row in back.rows for cell in row], "as words"
    with pytest.raises(KnownError, match="isn't written as"):
        write_table(tmp_path / "it.doc", out)
