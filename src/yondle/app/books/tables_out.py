"""A table taken out by its name, as the command line names it."""

from __future__ import annotations

import math

from yondle.app.books.columns import Shelf, compared, prices
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.tables.writing import OutTable, Value, as_cells, write_table
from yondle.views.compare.compare import compare
from yondle.views.map.maps import map_of
from yondle.views.out import (
    compare_table,
    figures_table,
    log_table,
    map_table,
    scaling_table,
    sensitivities_table,
    steps_table,
)
from yondle.views.record.log import LogRows, book_title
from yondle.views.scaling.curves import scaling
from yondle.views.scaling.sensitivities import sensitivities
from yondle.views.shared.gains import benchmark_of
from yondle.views.shared.measured import settings_of
from yondle.views.shared.snapshot import Snapshot

__all__ = ("as_cells", "finite", "table_out", "write_table")


def finite(value: Value) -> Value:
    """Give a cell for other programs: what is no number is nothing."""
    return None if isinstance(value, float) and not math.isfinite(value) else value


def table_out(book: Snapshot, what: tuple[str, ...], benchmark: str = "") -> OutTable:
    """Give a table by its name and what it is about; raises KnownError for a name there is none of."""
    match what:
        case ("steps",):
            return steps_table(book)
        case ("figures",):
            return figures_table(book)
        case ("log",):
            return log_table(LogRows().rows([(book_title(book), book)]))
        case ("sensitivities",):
            return sensitivities_table(sensitivities(book, settings_of(book)))
        case ("scaling", knob):
            return scaling_table(scaling(book, settings_of(book), book.declaration.knob(knob)))
        case ("map", across, up):
            one, other = book.declaration.knob(across), book.declaration.knob(up)
            if one is other:
                raise KnownError(say("A map takes two knobs."), say("Name another one, too."))
            return map_table(map_of(book, settings_of(book), one, other, benchmark_of(book, benchmark)))
        case ("compare", *addresses):
            shelf = Shelf(lambda: book)
            columns = [shelf.column(each) for each in addresses or compared(book)]
            if not columns:
                raise KnownError(say("There is nothing to compare yet."), say("Run the baseline first."))
            return compare_table(compare(columns, 0, prices(book)))
        case _:
            raise KnownError(
                say("There is no table '{what}'.", what=" ".join(what)),
                say("There are: steps, figures, log, sensitivities, scaling KNOB, map KNOB KNOB, compare COLUMN …"),
            )
