"""Sheets as cells: text with separators, Excel and OpenDocument; nothing in them is ever executed, and no file fills the memory.

A workbook is looked through as an archive first (sizes as they really are, macros, a password). Then a process of its own
reads it with little memory and little time to do so: a sheet that claims a cell in its last corner would fill any memory.
"""

from __future__ import annotations

import csv
import io
import json
import subprocess
import sys
import zipfile
import zlib
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from yondle.language.saying import say
from yondle.model.errors import KnownError

Cell = str | float | bool | None
MOST_ROWS, MOST_COLUMNS, MOST_CELLS = 20_000, 400, 400_000
LARGEST_TEXT, LARGEST_FILE, LARGEST_UNPACKED = 16 << 20, 32 << 20, 256 << 20
LONGEST_CELL = 2_000
READS_WITHIN_S, READS_IN_BYTES = 60.0, 1 << 30
SEPARATORS = ("\t", ";", "|", ",")
BOOKS = (".xlsx", ".xlsm", ".xls", ".xlsb", ".ods")
_OLE = b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1"


@dataclass(frozen=True, slots=True)
class Sheet:
    """One sheet as rows of cells, each of the same length."""

    name: str
    rows: tuple[tuple[Cell, ...], ...]
    source: str
    dates: frozenset[tuple[int, int]] = frozenset()
    """Where a date stands, by row and column from 0; the cell itself holds it as text."""

    def place_of(self, head: str) -> int:
        """Give the column with a head somewhere in its first rows, or with a letter, or a number from 1; raises KnownError."""
        wanted = head.strip().casefold()
        for row in self.rows[:30]:
            for i, cell in enumerate(row):
                if isinstance(cell, str) and " ".join(cell.split()).casefold() == wanted:
                    return i
        for i in range(max((len(row) for row in self.rows), default=0)):
            if wanted in (str(i + 1), cell_name(0, i).rstrip("1").casefold()):
                return i
        raise KnownError(
            say("{source} has no column '{head}'.", source=self.source, head=head),
            say("Name it by its head, its letter or its number."),
        )


def cell_name(row: int, column: int) -> str:
    """Name a cell as a spreadsheet does, from row and column counted from 0: B7."""
    letters = ""
    column += 1
    while column:
        column, rest = divmod(column - 1, 26)
        letters = chr(65 + rest) + letters
    return f"{letters}{row + 1}"


def read_sheets(path: Path) -> tuple[Sheet, ...]:
    """Read the sheets of a file that have anything in them; raises KnownError for what can't be read, or is too large."""
    try:
        size = path.stat().st_size
        with path.open("rb") as file:
            head = file.read(8)
    except OSError as error:
        raise KnownError(
            say("{path} can't be read ({strerror}).", path=path.name, strerror=error.strerror),
            say("Check the name and its permissions."),
        ) from error
    if head[:4] == b"PK\x03\x04" or head == _OLE or path.suffix.lower() in BOOKS:
        return _book(path, size, head)
    if size > LARGEST_TEXT:
        raise _too_large(path.name)
    return (sheet_of_text(_decoded(path.read_bytes(), path.name), path.name),)


def sheet_of_text(text: str, source: str) -> Sheet:
    """Read text with one of the usual separators (RFC 4180), as it is pasted, or kept in a file."""
    if len(text) > LARGEST_TEXT:
        raise _too_large(source)
    lines = [line for line in text.splitlines()[:50] if line.strip()]
    if not lines:
        raise KnownError(
            say("{source} is empty.", source=source), say("Give a row of names and rows of figures below it.")
        )
    separator = _separator(lines)
    rows: list[tuple[Cell, ...]] = []
    try:
        for row in csv.reader(io.StringIO(text), delimiter=separator):
            rows.append(tuple(cell.strip() or None for cell in row))
            _must_fit(len(rows), max(len(row), 1), source)
    except csv.Error as error:
        raise KnownError(
            say("{source} can't be read as a table ({error}).", source=source, error=error),
            say("Save it again as CSV, or as Excel or OpenDocument."),
        ) from error
    return _sheet("", rows, source)


def _separator(lines: Sequence[str]) -> str:
    """Find what stands between cells: what stands equally often in most lines, and oftenest."""

    def told(separator: str) -> tuple[float, int]:
        counts = [line.count(separator) for line in lines]
        usual = max(set(counts), key=lambda count: (counts.count(count) if count else 0, count))
        return (counts.count(usual) / len(counts) if usual else 0.0, usual)

    best = max(SEPARATORS, key=told)
    return best if told(best)[1] else ","


def _sheet(
    name: str,
    rows: Sequence[Sequence[Cell]],
    source: str,
    dates: frozenset[tuple[int, int]] = frozenset(),
) -> Sheet:
    width = max((len(row) for row in rows), default=0)
    _must_fit(len(rows), max(width, 1), source)
    for i, row in enumerate(rows):
        for k, cell in enumerate(row):
            if isinstance(cell, str) and len(cell) > LONGEST_CELL:
                raise KnownError(
                    say(
                        "{source}: cell {cell} has more than {most} characters.", source=source, cell=cell_name(i, k),
                        most=LONGEST_CELL,
                    ),
                    say("Is it a table of figures? Shorten that cell."),
                )  # fmt: skip
    return Sheet(name, tuple((*row, *(None,) * (width - len(row))) for row in rows), source, dates)


def _must_fit(rows: int, columns: int, source: str) -> None:
    if rows > MOST_ROWS or columns > MOST_COLUMNS or rows * columns > MOST_CELLS:
        raise _too_large(source)


def _too_large(source: str) -> KnownError:
    return KnownError(
        say("{source} is too large for a table of figures.", source=source),
        say(
            "Up to {rows} rows and {cells} cells are read: keep those that are figures, or split it.",
            rows=f"{MOST_ROWS:,}".replace(",", "\u202f"),
            cells=f"{MOST_CELLS:,}".replace(",", "\u202f"),
        ),
    )


def _decoded(data: bytes, source: str) -> str:
    try:
        return data.decode("utf-16" if data[:2] in (b"\xff\xfe", b"\xfe\xff") else "utf-8-sig")
    except UnicodeDecodeError as error:
        raise KnownError(
            say("{source} is no text in UTF-8.", source=source),
            say("Save it as CSV in UTF-8, or as Excel or OpenDocument."),
        ) from error


# -- workbooks --------------------------------------------------------------------------------------------------------


def _book(path: Path, size: int, head: bytes) -> tuple[Sheet, ...]:
    if size > LARGEST_FILE:
        raise _too_large(path.name)
    if head == _OLE or path.suffix.lower() in (".xls", ".xlsb"):
        raise KnownError(
            say("{path} is protected by a password, or of a kind that isn't read.", path=path.name),
            say("Open it where it was made, and save it without a password as .xlsx, .ods or .csv."),
        )
    _look_through(path)
    limits = f"import resource as r; r.setrlimit(r.RLIMIT_AS, ({READS_IN_BYTES}, {READS_IN_BYTES})); "
    program = f"{limits}from yondle.tables.cells import tell_book; tell_book({str(path.absolute())!r})"
    try:
        done = subprocess.run(
            [sys.executable, "-c", program], capture_output=True, timeout=READS_WITHIN_S, check=False,
            stdin=subprocess.DEVNULL,
        )  # fmt: skip
    except subprocess.TimeoutExpired as error:
        raise _too_large(path.name) from error
    try:
        told = json.loads(done.stdout)
    except ValueError:
        raise _too_large(path.name) from None
    if "why" in told:
        raise KnownError(
            say("{path} can't be read as a workbook ({why}).", path=path.name, why=told["why"]),
            say("Open it where it was made, and save it again as .xlsx, .ods or .csv."),
        )
    if told.get("large"):
        raise _too_large(path.name)
    sheets = tuple(
        _sheet(
            each["name"],
            each["rows"],
            path.name,
            frozenset((int(row), int(column)) for row, column in each["dates"]),
        )
        for each in told["sheets"]
    )
    if not sheets:
        raise KnownError(
            say("{path} has nothing in it.", path=path.name), say("Give a row of names and rows of figures.")
        )
    return sheets


def _look_through(path: Path) -> None:
    """See what an archive really unpacks to, and that there are no macros; raises KnownError."""
    unpacked = 0
    try:
        with zipfile.ZipFile(path) as archive:
            for info in archive.infolist():
                if info.flag_bits & 1 or info.filename == "EncryptedPackage":
                    raise KnownError(
                        say("{path} is protected by a password.", path=path.name), say("Save it without one.")
                    )
                if info.filename.lower().endswith("vbaproject.bin") or info.filename.startswith("Basic/"):
                    raise KnownError(
                        say("{path} has macros in it.", path=path.name),
                        say("Save it without them, as .xlsx, .ods or .csv: nothing in a table is run here."),
                    )
                with archive.open(info) as file:
                    while piece := file.read(1 << 18):
                        unpacked += len(piece)
                        if unpacked > LARGEST_UNPACKED:
                            raise _too_large(path.name)
            manifest = archive.read("META-INF/manifest.xml") if "META-INF/manifest.xml" in archive.namelist() else b""
    except (
        zipfile.BadZipFile, zipfile.LargeZipFile, zlib.error, OSError, NotImplementedError, RuntimeError, EOFError,
    ) as error:  # fmt: skip
        raise KnownError(
            say("{path} is damaged ({error}).", path=path.name, error=error),
            say("Open it where it was made, and save it again."),
        ) from error
    if b"encryption-data" in manifest:
        raise KnownError(say("{path} is protected by a password.", path=path.name), say("Save it without one."))


def tell_book(path: str) -> None:
    """Print the cells of a workbook as JSON, in the process that has little memory for it; or why they can't be read."""
    import datetime

    from python_calamine import CalamineWorkbook

    told: dict[str, object] = {"sheets": []}
    sheets: list[dict[str, object]] = []
    try:
        book = CalamineWorkbook.from_path(path)
        for name in book.sheet_names[:50]:
            sheet = book.get_sheet_by_name(name)
            if sheet.height > MOST_ROWS or sheet.width > MOST_COLUMNS:
                told = {"large": True}
                break
            rows: list[list[Cell]] = []
            dates: list[tuple[int, int]] = []
            for i, row in enumerate(sheet.to_python(skip_empty_area=False)):
                made: list[Cell] = []
                for k, cell in enumerate(row):
                    if isinstance(cell, datetime.date | datetime.time | datetime.timedelta):
                        dates.append((i, k))
                        made.append(str(cell))
                    elif isinstance(cell, str):
                        made.append(cell.strip() or None)
                    else:
                        made.append(cell)
                rows.append(made)
            for (top, left), (bottom, right) in getattr(sheet, "merged_cell_ranges", None) or ():
                if top >= len(rows) or left >= len(rows[top]) or (bottom - top + 1) * (right - left + 1) > MOST_CELLS:
                    continue
                for i in range(top, min(bottom + 1, len(rows))):
                    for k in range(left, min(right + 1, len(rows[i]))):
                        rows[i][k] = rows[top][left]
            if any(cell is not None for row in rows for cell in row):
                sheets.append({"name": name, "rows": rows, "dates": dates})
        if "large" not in told:
            told = {"sheets": sheets}
    except MemoryError:
        told = {"large": True}
    except BaseException as error:
        told = {"why": str(error)[:200] or type(error).__name__}
    sys.stdout.write(json.dumps(told))
