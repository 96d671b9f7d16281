"""The Logbook place with a hundred thousand rows: gathering, searching, sorting and scrolling them."""

from __future__ import annotations

import tempfile
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from itertools import cycle
from multiprocessing import get_context
from pathlib import Path

from PySide6.QtCore import Qt

from benchmarks.curves import make_much
from benchmarks.measuring import Line, median_ms, seconds_of
from benchmarks.window import Shown
from yondle.views.record.log import LogRows, book_title

ROWS = 100_000


def lines() -> Iterator[Line]:
    """Measure and give the lines."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "much.yondle"
        with ProcessPoolExecutor(1, get_context("spawn")) as apart:
            apart.submit(make_much, path).result()
        shown = Shown(path, 20.0)
        book, place = shown.window.book, shown.place("Logbook")
        assert book is not None
        assert place is not None
        gathered = seconds_of(lambda: LogRows().rows([(book_title(book.now), book.now)]), 5)
        shown.window.go_to(5)
        own = place._all
        yield Line(f"rows of a logbook gathered, {len(own):,}", median_ms(gathered), "", "", "")
        copies = ROWS // len(own) + 1
        place._all = [replace(row, step=row.step + 1000 * i) for i in range(copies) for row in own][:ROWS]
        place._row = None
        words = cycle(["stacking 101", "job 07", "nothing of the kind", ""])

        def search() -> None:
            place.search.setText(next(words))
            place._filter()
            place.table.grab()

        yield Line(
            f"a search through {ROWS:,} rows, painted", median_ms(seconds_of(search, 12)), "", "", "under 200 ms"
        )
        place.search.setText("")
        place._filter()
        columns = cycle([4, 2])

        def sort() -> None:
            place.table.sortByColumn(next(columns), Qt.SortOrder.AscendingOrder)
            place.table.grab()

        yield Line(
            f"{ROWS:,} rows sorted by another column, painted", median_ms(seconds_of(sort, 6)), "", "", "under 300 ms"
        )
        bar = place.table.verticalScrollBar()
        places = cycle(range(0, bar.maximum(), max(1, bar.maximum() // 37)))

        def scroll() -> None:
            bar.setValue(next(places))
            place.table.grab()

        yield Line(f"one frame of scrolling {ROWS:,} rows", median_ms(seconds_of(scroll, 60)), "", "", "under 16 ms")
        shown.close()
