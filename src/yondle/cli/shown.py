"""How the command line writes steps and runs: as lines for people, or as JSON for programs."""

from __future__ import annotations

import json
import math
import shutil
import sys
import time
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import asdict
from typing import Any

from rich.cells import cell_len, set_cell_size
from rich.console import Console
from rich.table import Table
from rich.text import Text

from yondle.app.session.progress import Progress
from yondle.app.session.session import Session
from yondle.cli.quiet import is_quiet
from yondle.formats.documents import KeptOverRestarts
from yondle.language.saying import named, say
from yondle.model.events import Record, StepOpened
from yondle.model.knobs import Change, Setup
from yondle.model.marks import SHAPES, Shape
from yondle.model.quantities import duration
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import Check, StepRecord
from yondle.model.verdicts import Verdict
from yondle.views.shared.gains import benchmark_of, capped, gain_of, words_of_gain
from yondle.views.shared.kept import given_up
from yondle.views.shared.snapshot import Snapshot
from yondle.views.shared.steps import put_back_words
from yondle.views.tune.trail import Trail

SIGNS: dict[Shape, str] = {
    Shape.DISC: "●",
    Shape.HALF_DISC: "◐",
    Shape.TRIANGLE: "▲",
    Shape.CROSSED_SQUARE: "☒",
    Shape.DIAMOND: "◆",
    Shape.RING: "○",
}


TINTS: dict[Verdict, str] = {
    Verdict.HELD: "cyan",
    Verdict.UNPROVEN: "green",
    Verdict.WRONG: "yellow",
    Verdict.DOWN: "red",
    Verdict.HELD_BACK: "magenta",
    Verdict.REFUSED: "bright_black",
}
"""Colours of signs on a terminal, which its owner has chosen; nothing is told by them alone, and NO_COLOR leaves them out."""


def print_json(value: dict[str, Any]) -> None:
    """Print one JSON document; numbers that aren't finite become null.

    While a session is open it waits for the end of it, which may put things back: the document says so (`put_back`).
    """
    if _WAITING is not None:
        _WAITING.append(value)
    else:
        print(json.dumps(_finite({"format": FORMAT, **value}), ensure_ascii=False, indent=2))


def tell(console: Console, as_json: bool, words: str, **values: Any) -> None:
    """Say what was done: in words, or as a document with the words under `done` and what belongs to them beside it."""
    if as_json:
        print_json({"done": words, **values})
    else:
        console.print(words)


FORMAT = "yondle-output 1"
"""What documents of `--json` call themselves (docs/output-json.md)."""
_WAITING: list[dict[str, Any]] | None = None


@contextmanager
def closing(session: Session, console: Console) -> Iterator[None]:
    """Close a session at the end whatever happens, then print what waits for it, and what was put back thereby."""
    global _WAITING
    waiting: list[dict[str, Any]] = []
    _WAITING = waiting
    try:
        yield
    finally:
        _WAITING = None
        put_back = session.close()
        for value in waiting:
            print_json(
                {**value, "put_back": changed_values(session.snapshot.declaration, put_back)} if put_back else value
            )
        if put_back and not waiting:
            console.print(Text(put_back_words(session.snapshot.declaration, put_back), "yellow"))


def plain_values(declaration: RigDeclaration, setup: Setup) -> dict[str, float | str]:
    """Give a setup for other programs, choices by their words."""
    return {knob: declaration.knob(knob).plain(value) for knob, value in setup.items()}


def waiting_values(book: Snapshot) -> dict[str, float | str] | None:
    """Give what waits to be entered by hand; None where nothing does."""
    if book.waiting is None:
        return None
    return {k: book.declaration.knob(k).plain(value) for k, value in book.waiting.values.items()}


def changed_values(declaration: RigDeclaration, changes: tuple[Change, ...]) -> dict[str, float | str]:
    """Give what changes brought for other programs."""
    return {change.knob: declaration.knob(change.knob).plain(change.new) for change in changes}


def step_values(book: Snapshot, record: StepRecord) -> dict[str, Any]:
    """Give a step as plain values."""
    outcome = record.outcome
    gains = {}
    for benchmark in book.declaration.benchmarks:
        value = gain_of(book, record, benchmark)
        if value is not None:
            gains[benchmark.id] = {**asdict(value), "word": str(value.word), "at_cap": capped(record, benchmark)}
    return {
        "step": record.step.number,
        "kind": str(record.step.kind),
        "parent": record.step.parent,
        "joint": record.step.joint,
        "changes": [
            {"knob": c.knob, "old": knob.plain(c.old), "new": knob.plain(c.new)}
            for c in record.step.changes
            for knob in (book.declaration.knob(c.knob),)
        ],
        "setup": plain_values(book.declaration, record.step.setup),
        "verdict": str(record.verdict),
        "recorded": record.recorded,
        "failure": str(outcome.failure) if outcome and outcome.failure else None,
        "stage": outcome.stage if outcome else None,
        "time_to_failure_s": outcome.time_to_failure_s if outcome else None,
        "reason": outcome.reason if outcome else None,
        "code": outcome.code if outcome else None,
        "points_to": outcome.pointer.subsystem if outcome else None,
        "signs": list(outcome.pointer.signs) if outcome else [],
        "last_readings": outcome.last if outcome else {},
        "derived": record.derived,
        "attempts": len(record.attempts),
        "scores": {b.id: record.scores(b.id) for b in book.declaration.benchmarks if record.scores(b.id)},
        "gains": gains,
        "notes": [asdict(note) for note in record.notes],
    }


def status_values(book: Snapshot) -> dict[str, Any]:
    """Give the whole state of a logbook as plain values."""
    position = book.position
    verified = book.verified
    return {
        "logbook": str(book.path),
        "rig": asdict(book.declaration.info),
        "position": position.step.number if position else None,
        "in_force": plain_values(book.declaration, _now(book)),
        "put_back": changed_values(book.declaration, book.put_back),
        "derived": book.declaration.derived(_now(book)),
        "waiting": waiting_values(book),
        "verified": {"as_set": verified.as_set, "of": verified.of, "told": verified.told} if verified else None,
        "notices": _notices(book),
        "resumed": [
            {
                "step": r.step.step.number,
                "verdict": str(r.outcome.verdict),
                "failure": str(r.outcome.failure) if r.outcome.failure else None,
                "reason": r.outcome.reason,
                "rests_at_step": r.rests_at_step,
                "verified": r.verified,
            }
            for r in book.resumed
        ],
        "steps": [step_values(book, record) for record in book.steps],
    }


def _now(book: Snapshot) -> Setup:
    """Give the settings in force at this moment, without those that were put back when Yondle last ended."""
    return book.in_force.with_values({change.knob: change.new for change in book.put_back})


def _notices(book: Snapshot) -> list[str]:
    words = given_up(book.kept.of(KeptOverRestarts), book.kept_here)
    away = [book.looked.away] if book.looked.away else []
    return [*away, *book.notices, *([say("{words} Go on with:  yondle keep --again", words=words)] if words else [])]


def print_resumed(book: Snapshot, console: Console) -> None:
    """Say what was found open at the start."""
    for resumed in book.resumed:
        where = (
            say("step {rests_at_step}", rests_at_step=resumed.rests_at_step)
            if resumed.rests_at_step is not None
            else say("stock")
        )
        read = say("read back") if resumed.verified else say("NOT confirmed by reading back")
        console.print(
            say(
                "Step {number} was on trial when Yondle ended. {reason}",
                number=resumed.step.step.number,
                reason=resumed.outcome.reason,
            )
        )
        console.print(say("The rig is at {where} ({read}); nothing was tried again by itself.", where=where, read=read))
    for notice in _notices(book):
        console.print(Text(notice, "yellow"))


def print_waiting(book: Snapshot, console: Console) -> None:
    """Say what is to be entered by hand, and how to go on."""
    waiting = book.waiting
    if waiting is None:
        return
    what = (
        say("Step {number} waits", number=waiting.step.number)
        if waiting.step
        else say("The rig waits to be brought back")
    )
    console.print(
        say("{what}: enter this in firmware setup and restart.", what=what)
        if waiting.restarts
        else say("{what}: set this by hand.", what=what)
    )
    for knob_id, value in waiting.values.items():
        knob = book.declaration.knob(knob_id)
        console.print(f"  {knob.name}: {knob.text(value)}")
    path = book.path
    console.print(
        say(
            "Then: yondle go-on {book} (with --stopped if it didn't start). To give it up: yondle drop {book}",
            book=path,
        )
        if waiting.restarts
        else say("Then: yondle go-on {book}. To give it up: yondle drop {book}", book=path)
    )


def print_in_force(book: Snapshot, console: Console) -> None:
    """Print the settings in force, and the quantities that follow from them."""
    declaration, now = book.declaration, _now(book)
    if book.put_back:
        console.print(Text(put_back_words(book.declaration, book.put_back), "yellow"))
    in_force = ", ".join(f"{k.name} {k.text(now[k.id])}" for k in declaration.knobs if k.id in now)
    console.print(say("In force: {in_force}", in_force=in_force or say("nothing to set on this rig")))
    follows = declaration.derived(now)
    told = ", ".join(f"{d.name} {d.text(follows[d.id])}" for d in declaration.derived_of if d.id in follows)
    if told:
        console.print(say("From these follow: {told}", told=told))


def print_trail(book: Snapshot, console: Console, benchmark_id: str = "") -> None:
    """Print the trail, newest first."""
    if not book.steps:
        console.print(say("Nothing tested yet. The baseline comes first: yondle baseline LOGBOOK"))
        return
    benchmark = benchmark_of(book, benchmark_id)
    table = Table(box=None, padding=(0, 2, 0, 0), title_justify="left", header_style="bold")
    for title, justify in (
        ("", "left"),
        (say("step"), "right"),
        (say("what"), "left"),
        (say("{benchmark} over baseline", benchmark=benchmark.name), "right"),
        ("", "left"),
    ):
        table.add_column(title, justify="right" if justify == "right" else "left", overflow="fold")
    for row in Trail().rows(book, benchmark):
        here = say("← here") if row.is_position else "" if row.on_path else say("left")
        sign = SIGNS[SHAPES[row.verdict]] + ("\u0332" if row.recorded else "")
        table.add_row(
            Text(sign, TINTS[row.verdict]), str(row.number), Text(f"{row.title}\n{row.detail}"), row.gain_text, here
        )
    console.print(table)
    console.print(Text("  ").join(Text.assemble((SIGNS[s], TINTS[v]), f" {named(v)}") for v, s in SHAPES.items()))


def print_outcome(book: Snapshot, record: StepRecord, console: Console) -> None:
    """Print what came of one test."""
    outcome = record.outcome
    sign = SIGNS[SHAPES[record.verdict]]
    words = say(
        "{sign} Step {number}: {reason}",
        sign=sign,
        number=record.step.number,
        reason=outcome.reason if outcome else say("no verdict"),
    )
    console.print(_tinted(words, sign, TINTS[record.verdict]))
    if outcome is not None and outcome.pointer.subsystem:
        console.print(
            say(
                "  Points to the {subsystem}: {signs}.",
                subsystem=outcome.pointer.subsystem,
                signs="; ".join(outcome.pointer.signs),
            )
        )
    benchmark = benchmark_of(book)
    gained = words_of_gain(book, record, benchmark)
    if gained:
        console.print(say("  {benchmark_of} over baseline: {gain_text}", benchmark_of=benchmark.name, gain_text=gained))
    where = say("Step {number}", number=book.position.step.number) if book.position else say("Stock")
    console.print(say("  {where} is active.", where=where))


def _tinted(words: str, sign: str, tint: str) -> Text:
    """Give words with a sign in them in its colour."""
    text = Text(words)
    text.highlight_words([sign], tint)
    return text


_BETWEEN = 2


def print_table(
    console: Console, head: Sequence[str], rows: Sequence[Sequence[str]], right: Collection[int] = ()
) -> None:
    """Print a table with the columns `right` right-aligned; one that is wider than the terminal is turned.

    Turned, each row is a block of lines, a name and a value each, so that nothing is cut or broken.
    """
    columns = zip(head, *rows, strict=True)
    wide = sum(max(cell_len(cell) for cell in column) + _BETWEEN for column in columns) - _BETWEEN
    if wide <= console.width:
        table = Table(box=None, padding=(0, _BETWEEN, 0, 0), pad_edge=False, header_style="bold")
        for i, name in enumerate(head):
            table.add_column(Text(name), justify="right" if i in right else "left", no_wrap=True)
        for row in rows:
            table.add_row(*(Text(cell) for cell in row))
        console.print(table)
        return
    names = max(cell_len(name) for name in head)
    for row in rows:
        console.print(Text(row[0] or row[1], "bold"))
        for name, cell in list(zip(head, row, strict=True))[1:]:
            if cell and (row[0] or cell != row[1]):
                console.print(Text(f"  {name}{' ' * (names - cell_len(name) + _BETWEEN)}{cell}"))


TOLD_EVERY_S = 60.0
_BAR_CELLS = 16


class ProgressLine:
    """One line on a terminal that tells what the test is at, with a bar and the time left; where there is none, a line a minute.

    `expected` gives the seconds that a test by some check takes.
    """

    def __init__(
        self, progress: Progress, expected: Callable[[Check], float], now: Callable[[], float] = time.monotonic
    ) -> None:
        self._progress, self._expected, self._expected_s = progress, expected, 0.0
        self._shown = ""
        self._live = sys.stderr.isatty()
        self._now, self._told = now, now()

    def take(self, record: Record) -> None:
        """Take a record in and redraw the line when it reads differently."""
        self._progress.take(record)
        if isinstance(record, StepOpened):
            self._expected_s = self._expected(record.check)
        if is_quiet() or (not self._live and self._now() - self._told < TOLD_EVERY_S):
            return
        p = self._progress
        text = ""
        if p.running:
            count = say(" · pass {number} of {of}", number=p.number, of=p.of) if p.of else ""
            text = say(
                "step {step}{count} · {doing} · {lasted_s}, {left}",
                step=p.step,
                count=count,
                doing=p.doing,
                lasted_s=duration(p.lasted_s),
                left=p.left(self._expected_s),
            )
            text = f"{_bar(p.share or 0.0)} {text}" if self._live else text
        if not self._live:
            self._told = self._now()
            if text:
                print(text, file=sys.stderr, flush=True)
        elif text != self._shown:
            sys.stderr.write("\r\x1b[2K" + _fitted(text))
            sys.stderr.flush()
            self._shown = text


def _bar(share: float) -> str:
    """Draw how much is over."""
    full, empty = ("━", "─") if (sys.stderr.encoding or "").lower().startswith("utf") else ("=", "-")
    over = round(share * _BAR_CELLS)
    return f"{full * over}{empty * (_BAR_CELLS - over)} {share:4.0%}"


def _fitted(text: str) -> str:
    """Cut a line to the terminal: one that wraps can't be drawn over."""
    width = shutil.get_terminal_size().columns - 1
    return text if cell_len(text) <= width else set_cell_size(text, max(width - 1, 0)).rstrip() + "…"


def _finite(value: Any) -> Any:
    if isinstance(value, float) and not math.isfinite(value):
        return None
    if isinstance(value, dict):
        return {k: _finite(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(v) for v in value]
    return value
