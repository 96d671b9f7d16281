"""Spoilt inputs of every format that comes from outside, and what reads each: all it may end in is an answer or a KnownError.

Inputs are made from good ones by generators of our own, with the values that arithmetic, containers and text trip over.
"""

from __future__ import annotations

import copy
import io
import json
import math
import os
import re
import shutil
import sqlite3
from collections.abc import Callable, Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from functools import cache
from itertools import islice
from pathlib import Path
from random import Random
from typing import Any

import xlsxwriter  # type: ignore[import-untyped]

from tests.bench.agent import DECLARATION, SmallMachine
from tests.conftest import HERON, quick_rig
from yondle.app.books.columns import Shelf
from yondle.app.books.export import logbook_text, merge, passes_csv, read_archive, share
from yondle.app.books.reading import read_book
from yondle.app.books.watching import watch
from yondle.app.machine.machines import RigChoice
from yondle.app.plans.plans import preview
from yondle.app.profiles.profiles import (
    ImportProfile,
    KeepProfile,
    compared_to_stock,
)
from yondle.app.reports.reporting import report_of
from yondle.app.session.importing import known_of
from yondle.app.session.limits import LimitRange, LimitReading, TellConditions
from yondle.app.session.opening import create_logbook, open_logbook
from yondle.app.session.own import OwnSettings
from yondle.app.session.proposing import Propose
from yondle.app.session.remarks import WriteNote
from yondle.app.session.results import MeasuredWith, TypeIn
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryProposal
from yondle.logbook.keeping import Keeping
from yondle.model.errors import KnownError
from yondle.model.measured import Measured
from yondle.model.workloads import Direction, PassResult
from yondle.planning.climb import Tried
from yondle.planning.plan_files import parse_plan
from yondle.planning.plans import moves
from yondle.rigs.bench.agent import Agent
from yondle.rigs.bench.protocol import (
    FORMAT,
    NotUnderstoodError,
    changes_of,
    declaration_of,
    facts_of,
    line,
    plain,
    replies_of,
    result_of,
    result_told,
    row_of,
)
from yondle.rigs.byhand.rig import parse_by_hand
from yondle.rigs.linux.root.helper.server import Server
from yondle.rigs.meters.meter import MeterPlan, parse_line
from yondle.rigs.simulated.rig import SimulatedRig
from yondle.rigs.simulated.rigfile import parse_rig_file
from yondle.tables.cells import read_sheets, sheet_of_text
from yondle.tables.gather import gather
from yondle.tables.gathered import setup_of
from yondle.tables.recognise import recognise
from yondle.tables.recognised import Known
from yondle.views.kept import ViewCache
from yondle.views.record.log import LogRows
from yondle.views.traces.traces import runs, trace_of
from yondle.views.tune.step import step_view
from yondle.workloads.command_file import parse_command
from yondle.workloads.imported import frame_times_ms, parse_table, scores, sensor_log

BENCH_REQUESTS = (
    {"n": 1, "do": "begin", "format": FORMAT, "session": "5f0c", "nice": 0, "memory_mib": 0, "processors": [0]},
    {"n": 2, "do": "apply", "values": {"clock": 4300.0, "fan": 45.0}},
    {"n": 3, "do": "start", "workload": "stack", "seconds": 1.0},
    {"n": 4, "do": "stream", "every_s": 0.1},
    {"n": 5, "do": "signs", "ago_s": 100.0},
    {"n": 6, "do": "guard", "on": True},
)
BENCH_ANSWERS: dict[str, Any] = {
    "declaration": plain(DECLARATION),
    "row": [61.5, None],
    "result": result_told(PassResult(True, 210.5, 1.0, measured=Measured(parts={"a": 1.0}), frame_times_ms=(4.0, 5.0))),
    "replies": [{"knob": "clock", "asked": 4300.0, "taken": False, "message": "no", "after_restart": False}],
    "facts": {"kernel": "6.1", "room": 21.5},
    "changes": [{"knob": "clock", "before": 4300.0, "after": 4200.0}],
}

PLANS = (
    """format = "yondle-plan 1"
name = "all kinds"
passes = 3
once_more = 1
[stop]
failures = 2
hours = 5.5
verdicts = ["went down"]
[[do]]
kind = "sweep"
knob = "core_clock"
from = 4000
to = 4400
by = 100
order = "shuffled"
seed = 3
rounds = 2
[[do]]
kind = "ladder"
knob = "core_clock"
to = 4600
by = 50
relief = {"went down" = {knob = "core_voltage", by = 0.01}}
[[do]]
kind = "steps"
steps = [{core_clock = 4300}, {power_limit = "95 W", core_voltage = 1.2}]
[[do]]
kind = "proof"
loads = ["mixed_load"]
hours = 0.5
""",
    """format = "yondle-plan 1"
name = "edge"
[[do]]
kind = "edge"
knob = "core_clock"
loads = ["mixed_load", "wide_arithmetic"]
standard = "session"
style = "careful"
to = 4700
hours = 3
room = 1
""",
    """format = "yondle-plan 1"
name = "line"
[[do]]
kind = "edge"
knob = "core_clock"
loads = ["mixed_load"]
along = "core_voltage"
at = [1.1, 1.2]
""",
)
PROFILE = """format = "yondle-profile 1"
name = "Daily"
purpose = "daily"
benchmark = ""
rig = "heron"
[settings]
core_clock = 4300
power_mode = "balanced"
core_voltage = 1.2
"""
BY_HAND = """format = "yondle-by-hand 1"
[constants]
memory_channels = 2
[knobs.memory_rate]
name = "Memory rate"
unit = "MT/s"
subsystem = "memory"
risk = "up"
low = 4800
high = 6400
step = 200
stock = 5600
ceiling = 6200
[knobs.gear]
name = "Gear"
choices = ["one", "two"]
stock = 0
"""
COMMAND = """format = "yondle-workload 1"
id = "render"
name = "Render"
about = "a scene"
command = ["/bin/true", "-x"]
folder = "/tmp"
takes_about_s = 5
at_most_s = 20.0
works = "processor"
[score]
pattern = "total:\\\\s*([\\\\d.]+)"
unit = "s"
better = "lower"
digits = 2
[parts.shading]
pattern = "shading ([\\\\d.]+)"
unit = "s"
better = "lower"
"""
TABLES = (
    "name,score\nStacking,251.5\nStar match,61\n",
    "time;frame;temp\n0.0;16.6;41,5\n0,1;17;42\n0.2;;43\n",
    "when\tms\n2026-01-31 20:15:00\t16\n2026-01-31 20:15:01+01:00\t17\n",
    "1,2,3\n4,5,6\n",
)
WORDS = (
    "0", "-0.0", "1", "-1", "7", "1e-300", "-1e-300", "1e300", "1e308", "-1e308", "nan", "inf", "-inf", "1e-9", "1e9", "0.1",
    "9007199254740993", "18446744073709551616", "true", "false", '""', '"words"', '"NaN"', '"4 300 MHz"', "[]", "{}", "[1, 2]",
    '["a", "b"]', "[[]]", "{a = 1}", "2026-10-17T20:30:00+01:00", '"\\u202e"', '"' + "x" * 500 + '"', "[1e300]", "1979-05-27",
)  # fmt: skip
VALUES: tuple[Any, ...] = (
    None, True, 0, 7, -1, -1.5, 1e300, -1e300, 1e-300, 1e16, 2**62, 2**70, "words", "", "NaN", "\ud83d", "x" * 300, [], {},
    [1, 2], {"a": None}, [[]], "[1, 2", "{}", "null", "NaN", "2026-10-17T20:30:00", "9999-12-31T23:59:59+14:00", "-5",
)  # fmt: skip


@dataclass(frozen=True)
class Format:
    """How inputs of one kind are made and read; `share` is its part of a whole run, in thousandths."""

    make: Callable[[Random], Any]
    read: Callable[[Any], None]
    share: int


def spoilt_text(text: str, chance: Random) -> str:
    """Spoil some lines of a TOML text: another value, a line less or twice, a piece of another, a byte that is none of it."""
    lines = text.split("\n")
    for _ in range(chance.choice((1, 1, 1, 2, 3, 6))):
        i = chance.randrange(len(lines))
        line = lines[i]
        what = chance.random()
        if " = " in line and what < 0.75:
            key, _, value = line.partition(" = ")
            lines[i] = f"{key} = {_another(value, chance)}"
        elif what < 0.85:
            del lines[i]
            lines = lines or [""]
        elif what < 0.92:
            lines.insert(chance.randrange(len(lines)), line)
        else:
            at = chance.randrange(len(line) + 1)
            lines[i] = line[:at] + chr(chance.choice((0, 9, 34, 61, 91, 93, 123, 0x202E, 0xFFFF))) + line[at:]
    return "\n".join(lines)


def _another(value: str, chance: Random) -> str:
    """Give another value: of the kind it was, which is read further, or of any."""
    if re.fullmatch(r"-?[\d.]+(e-?\d+)?", value) and chance.random() < 0.6:
        figure = max(-1e15, min(float(value), 1e15)) * chance.choice(
            (-1, 0.01, 0.5, 2, 10, 1e3, 1e6, 1e-6)
        ) + chance.choice((0, 0, 1, -1))
        return str(round(figure)) if "." not in value and chance.random() < 0.7 else repr(figure)
    return chance.choice(WORDS)


SHEETS = tuple(
    (Path(__file__).parents[2] / "docs" / "examples" / name)
    .read_text("utf-8")
    .replace(";", ",")
    .replace("\t", ",")[:1500]
    for name in ("sandpiper-grid.csv", "wren-power.csv", "dunlin-before-after.tsv")
)
CELLS = (
    "", "-", "1e999", "1e-400", "=1+1", "nan", "inf", "12,5", "1.030", "1,030", "Stock", "stock", "failed",
    "froze", "x", "yes", "%",
    "5 %", "\N{MINUS SIGN}3", "3 \N{PLUS-MINUS SIGN} 1", "4200 MHz", "\u202e7", "9" * 400, "0", "-0.0",
    "2026-11-28", "(", "[", "run 1",
)  # fmt: skip


@cache
def WORKBOOK() -> bytes:  # noqa: N802
    """A small workbook, whole."""
    made = io.BytesIO()
    book = xlsxwriter.Workbook(made)
    sheet = book.add_worksheet("it")
    for i, row in enumerate((("Clock (MHz)", "A", "B (s)"), (100, 5, 7.5), (110, 6, 7.1), (120, 7, 6.6))):
        sheet.write_row(i, 0, row)
    book.close()
    return made.getvalue()


def spoilt_bytes(whole: bytes, chance: Random) -> bytes:
    """Flip, cut or fill some bytes."""
    made = bytearray(whole)
    for _ in range(chance.choice((1, 3, 20))):
        at = chance.randrange(len(made))
        made[at : at + chance.choice((1, 1, 16))] = chance.randbytes(chance.choice((0, 1, 4)))
    return bytes(made)


def places(value: Any, path: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """Every place in a document that holds something."""
    if path:
        yield path
    items = value.items() if isinstance(value, dict) else enumerate(value) if isinstance(value, list) else ()
    for key, inner in items:
        yield from places(inner, (*path, key))


def spoilt_document(document: Any, chance: Random) -> Any:
    """Spoil one or two places of a JSON document."""
    made = copy.deepcopy(document)
    for _ in range(chance.choice((1, 1, 2))):
        there = list(places(made))
        if not there:
            return made
        *way, last = chance.choice(there)
        holder = made
        for key in way:
            holder = holder[key]
        if chance.random() < 0.75:
            holder[last] = copy.deepcopy(chance.choice(VALUES))
        else:
            del holder[last]
    return made


class Formats:
    """Everything that is fuzzed, over one session and one logbook made for the purpose in `folder`."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self._session = create_logbook(folder / "heron.yondle", RigChoice("simulated", "Heron", quick_rig()))
        self._session.do(RunBaseline(2))
        self._book = _book(folder / "book.yondle")
        with _closing(self._book) as session:
            document = json.loads(logbook_text(session.snapshot))
        for table in ("pass", "sample_block", "journal"):
            del document["tables"][table][8:]
        self._archive = document
        self._machine_text = (folder / "heron.yondle.machine").read_text()
        (folder / "sys").mkdir()
        self._server = Server(folder, 0)
        (folder / "boot").write_text("b1")
        self.all: dict[str, Format] = {
            "plan": Format(lambda c: spoilt_text(c.choice(PLANS), c), self._plan, 300),
            "profile": Format(lambda c: spoilt_text(PROFILE, c), self._profile, 150),
            "knobs set by hand": Format(lambda c: spoilt_text(BY_HAND, c), self._by_hand, 150),
            "rig": Format(lambda c: spoilt_text(HERON, c), self._rig, 70),
            "workload": Format(lambda c: spoilt_text(COMMAND, c), lambda t: void(parse_command(t, "it")), 100),
            "table": Format(self._spoilt_table, self._table, 80),
            "whole table": Format(self._spoilt_sheet, self._whole_table, 60),
            "workbook": Format(lambda c: spoilt_bytes(WORKBOOK(), c), self._workbook, 1),
            "helper line": Format(self._helper_line, self._helper, 80),
            "bench request": Format(self._bench_request, self._asked_of_a_bench, 60),
            "bench answer": Format(self._bench_answer, self._told_by_a_bench, 80),
            "meter": Format(self._meter_line, self._meter, 40),
            "archive": Format(lambda c: spoilt_document(self._archive, c), self._read_archive, 10),
            "logbook cell": Format(lambda c: c.random(), self._spoilt_cell, 15),
            "machine file": Format(self._machine_file, self._read_machine, 5),
        }

    def close(self) -> None:
        """Let go of the session."""
        self._session.close()

    def _plan(self, text: str) -> None:
        session = self._session
        plan = parse_plan(text, "the plan", session.declaration)
        preview(session.snapshot, plan)
        baseline = session.snapshot.steps[0]
        start = Tried(baseline.verdict, session.snapshot.in_force, 1, 1)
        going = moves(plan, session.declaration, start)
        move = next(going, None)
        for _ in range(5):
            if move is None:
                return
            try:
                move = going.send(start)
            except StopIteration:
                return

    def _profile(self, text: str) -> None:
        path = self._folder / "a.toml"
        path.write_text(text, "utf-8", errors="replace")
        kept = self._session.do(ImportProfile(path))
        compared_to_stock(self._session.snapshot, kept)

    def _by_hand(self, text: str) -> None:
        knobs, _, _ = parse_by_hand(text, "it")
        for knob in knobs:
            for value in islice(knob.values(), 5):
                knob.text(value)
                knob.checked(value)

    def _rig(self, text: str) -> None:
        rig = SimulatedRig(parse_rig_file(text, "the rig"))
        try:
            rig.sample()
            stock = rig.declaration.stock
            rig.apply({knob.id: knob.at(3) for knob in rig.declaration.knobs})
            rig.declaration.derived(stock)
            for workload in rig.declaration.workloads[:3]:
                run = rig.start(workload.id, 1.0, stock)
                for _ in range(3):
                    rig.world.advance(0.5)
                    rig.sample()
                    run.poll()
                run.stop()
        except _down():
            rig.bring_back()

    def _spoilt_table(self, chance: Random) -> str:
        text = chance.choice(TABLES)
        for _ in range(chance.choice((1, 2, 5))):
            at = chance.randrange(len(text) + 1)
            piece = chance.choice(
                (",", ";", "\t", "\n", '"', "nan", "inf", "1e999", "1e300", "-", "\r", "\0", "\ufeff", "9" * 400)
            )
            text = text[:at] + piece + text[at + chance.randrange(3) :]
        return text

    def _table(self, text: str) -> None:
        table = parse_table(text, "it")
        first, last = table.columns[0], table.columns[-1]
        for comma in (False, True):
            with suppress(KnownError):
                scores(table, first, last, comma)
            with suppress(KnownError):
                frame_times_ms(table, last, "ms", comma, comma)
            with suppress(KnownError):
                sensor_log(table, first, {last: "Case"}, "UTC", comma)

    def _helper_line(self, chance: Random) -> bytes:
        line = chance.choice((b'{"n": 1, "do": "hello"}', b'{"n": 1, "do": "set", "knob": "large_pages", "value": 1}'))
        made = bytearray(line)
        for _ in range(chance.choice((1, 2, 5))):
            at = chance.randrange(len(made))
            made[at : at + chance.randrange(4)] = chance.choice(
                (b"1e999", b"NaN", b"[", b"{", b"\xff", b"null", b"-1", b'"')
            )
            made = made or bytearray(b" ")
        return bytes(made)

    def _helper(self, line: bytes) -> None:
        self._server._last = 0
        assert "ok" in self._server.answer(line)

    def _spoilt_sheet(self, chance: Random) -> str:
        text = spoilt_text(chance.choice(SHEETS), chance)
        if chance.random() < 0.5:
            return text
        rows = [line.split(",") for line in text.splitlines()]
        for _ in range(chance.randrange(1, 4)):
            row = chance.choice(rows or [[""]])
            if row:
                row[chance.randrange(len(row))] = chance.choice(CELLS)
        return "\n".join(",".join(row) for row in rows)

    def _whole_table(self, text: str) -> None:
        """Look at a table for a rig that is here and one elsewhere, and put what it makes together."""
        sheet = sheet_of_text(text, "it")
        stands = self._session.snapshot
        for known in (Known(), known_of(stands.declaration)):
            gathered = gather(recognise(sheet, known), known)
            if gathered.problems:
                continue
            knobs = (*known.knobs, *(knob.knob(id_) for id_, knob in gathered.knobs.items()))
            for step in gathered.steps:
                setup = setup_of(step, gathered.names, knobs)
                assert all(math.isfinite(value) for value in setup.values())
                assert all(math.isfinite(f.score) and f.score >= 0.0 for f in step.figures)

    def _workbook(self, made: bytes) -> None:
        path = self._folder / "it.xlsx"
        path.write_bytes(made)
        for sheet in read_sheets(path):
            gather(recognise(sheet, Known()), Known())

    def _bench_request(self, chance: Random) -> bytes:
        return line(spoilt_document(chance.choice(BENCH_REQUESTS), chance))

    def _asked_of_a_bench(self, request: bytes) -> None:
        """Ask an agent that has begun, and one that hasn't; whatever it answers, it answers once, and still does after."""
        for begins in (True, False):
            reads, writes = os.pipe()
            agent = Agent(lambda asked: SmallMachine(self._folder), reads, writes)
            try:
                for each in (line(BENCH_REQUESTS[0]), request) if begins else (request,):
                    with suppress(NotUnderstoodError):
                        agent.answer(each)
            finally:
                agent.let_go()
                os.close(reads)
                os.close(writes)

    def _bench_answer(self, chance: Random) -> tuple[str, Any]:
        kind = chance.choice(tuple(BENCH_ANSWERS))
        return kind, json.loads(json.dumps(spoilt_document(BENCH_ANSWERS[kind], chance)))

    def _told_by_a_bench(self, told: tuple[str, Any]) -> None:
        kind, answer = told
        try:
            match kind:
                case "declaration":
                    read = declaration_of(answer)
                    assert read.lends
                    for knob in read.knobs:
                        knob.text(knob.nearest(knob.stock))
                    read.derived(read.stock)
                case "row":
                    assert len(row_of(answer, 2)) == 2
                case "result":
                    assert result_of(answer).duration_s >= 0.0
                case "replies":
                    replies_of(answer)
                case "changes":
                    changes_of(answer if isinstance(answer, list) else [answer], DECLARATION)
                case _:
                    facts_of(answer)
        except NotUnderstoodError as error:
            raise KnownError(str(error), "none") from error

    def _meter_line(self, chance: Random) -> bytes:
        return chance.choice((b"12.5 W, 3\n", b"1e999\n", b"-.e\n")) + chance.randbytes(chance.randrange(8))

    def _meter(self, line: bytes) -> None:
        parse_line(line, 1)
        text = line.decode("latin-1")
        MeterPlan("wall", "/dev/null", "W", text.strip() + "?")

    def _read_archive(self, document: Any) -> None:
        made, again, shared = (self._folder / f"{name}.yondle" for name in ("made", "again", "shared"))
        _clear(self._folder, ("made.", "again.", "shared."))
        (self._folder / "a.json").write_text(json.dumps(document), "utf-8")
        read_archive(self._folder / "a.json", made)
        look_through(made)
        with suppress(KnownError):
            merge(made, self._book, again)
        with suppress(KnownError), _closing(made) as session:
            share(session.snapshot, shared)

    def _spoilt_cell(self, seed: float) -> None:
        chance = Random(seed)
        _clear(self._folder, ("made.",))
        made = self._folder / "made.yondle"
        shutil.copy(self._book, made)
        shutil.copy(self._book.with_name("book.yondle.machine"), self._folder / "made.yondle.machine")
        spoil_cells(made, chance)
        look_through(made)

    def _machine_file(self, chance: Random) -> str:
        return json.dumps(spoilt_document(json.loads(self._machine_text), chance))

    def _read_machine(self, text: str) -> None:
        _clear(self._folder, ("made.",))
        made = self._folder / "made.yondle"
        shutil.copy(self._book, made)
        (self._folder / "made.yondle.machine").write_text(text)
        with suppress(KnownError), _closing(made) as session:
            session.snapshot.conditions  # noqa: B018


def spoil_cells(path: Path, chance: Random) -> None:
    """Put wrong values into some cells of a logbook, whatever its rules say."""
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA foreign_keys=OFF")
    connection.execute("PRAGMA ignore_check_constraints=ON")
    tables = [name for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type='table'")]
    for _ in range(chance.choice((1, 1, 2))):
        table = chance.choice([t for t in tables if not t.startswith("sqlite_")])
        columns = [row[1] for row in connection.execute(f'PRAGMA table_info("{table}")')]
        rows = [row for (row,) in connection.execute(f'SELECT rowid FROM "{table}" LIMIT 40')]
        if not rows or not columns:
            continue
        column, row = chance.choice(columns), chance.choice(rows)
        (before,) = connection.execute(f'SELECT "{column}" FROM "{table}" WHERE rowid=?', (row,)).fetchone()
        with suppress(sqlite3.IntegrityError, OverflowError, UnicodeEncodeError):
            connection.execute(f'UPDATE "{table}" SET "{column}"=? WHERE rowid=?', (_cell(before, chance), row))
    connection.commit()
    connection.close()


def _cell(before: Any, chance: Random) -> Any:
    if isinstance(before, str) and before[:1] in ("{", "[") and chance.random() < 0.6:
        return json.dumps(spoilt_document(json.loads(before), chance))
    if isinstance(before, str) and re.fullmatch(r"-?[\d.]+", before or "x"):
        return chance.choice(VALUES[2:12])
    value = chance.choice((*VALUES, b"\x00\xff", chance.randbytes(40), 1e16))
    return json.dumps(value) if isinstance(value, list | dict) else value


def look_through(path: Path) -> None:
    """Read a logbook in every way there is; each may be refused by itself."""

    def opened() -> None:
        with _closing(path) as session:
            _in_a_session(session)

    for do in (lambda: watch(path), lambda: read_book(path), opened):
        with suppress(KnownError):
            do()


def _in_a_session(session: Session) -> None:
    views = ViewCache(lambda: session.snapshot)
    benchmark, knob = session.declaration.benchmarks[0], session.declaration.knobs[0]
    acts: list[Callable[[], object]] = [
        lambda: logbook_text(session.snapshot),
        lambda: passes_csv(session.snapshot),
        lambda: [trace_of(session.snapshot, run.attempt) for run in runs(session.snapshot)],
        lambda: LogRows().rows([("it", session.snapshot)]),
        lambda: report_of(session.snapshot),
        lambda: [step_view(session.snapshot, record.step.number) for record in session.snapshot.steps],
        lambda: list(views.trail(benchmark, None)),
        lambda: (views.rulers(), views.chart(knob, benchmark), views.proposal(views.holding(knob))),
        lambda: [compared_to_stock(session.snapshot, kept) for kept in session.snapshot.profiles],
        lambda: Shelf(lambda: session.snapshot).columns(("stock", "here", "2", "Daily")),
        lambda: [session.logbook.sensor_logs(record.step.number) for record in session.snapshot.steps],
        lambda: session.logbook.keeping.open_plan_run(),
    ]
    for act in acts:
        with suppress(KnownError):
            act()


def _book(path: Path) -> Path:
    """A small logbook with something of everything."""
    session = create_logbook(path, RigChoice("simulated", "Heron", quick_rig()))
    session.do(RunBaseline(2))
    session.do(Propose("core_clock", 4300))
    session.do(TryProposal(2))
    session.do(KeepProfile("Daily", step=2))
    session.do(WriteNote(2, "a note", caveat=True))
    session.do(TypeIn(2, "Sky tour", 61.5, "frames/s", Direction.HIGHER, MeasuredWith(preset="high")))
    session.do(LimitRange("core_voltage", None, 1.3))
    session.do(LimitReading("processor_temperature", 95.0))
    session.do(TellConditions({"cooler": "Tarn 140"}))
    keeping: Keeping = session.logbook.keeping
    keeping.open_plan(
        PLANS[1], {"verdict": "held", "in_force": dict(session.snapshot.in_force), "position": 2, "step": 2}, _AT, 5.0
    )
    assert isinstance(session.own, OwnSettings)
    session.close()
    return path


_AT = "2026-10-17T22:00:00+01:00"


@contextmanager
def _closing(path: Path) -> Iterator[Session]:
    session = open_logbook(path)
    try:
        yield session
    finally:
        session.close()


def _clear(folder: Path, begins: tuple[str, ...]) -> None:
    for path in folder.iterdir():
        if path.name.startswith(begins):
            path.unlink()


def _down() -> type[Exception]:
    from yondle.model.errors import MachineDownError

    return MachineDownError


def void(_: object) -> None:
    """Take a result that tells nothing more."""
