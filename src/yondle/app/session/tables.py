"""What faces need of tables: sheets read, one of them chosen, and the names of what columns can be."""

from __future__ import annotations

from collections.abc import Sequence

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.tables.cells import Sheet, cell_name, read_sheets, sheet_of_text
from yondle.tables.heads import Role, says_lower
from yondle.tables.recognised import AS_FOUND, Column, Shape, Wish, Wishes

__all__ = (
    "AS_FOUND", "Column", "Role", "Shape", "Sheet", "Wish", "Wishes", "cell_name", "chosen_sheet", "read_sheets",
    "says_lower", "sheet_of_text",
)  # fmt: skip


def chosen_sheet(sheets: Sequence[Sheet], wanted: str) -> Sheet:
    """Give a sheet by its name or number; raises KnownError where there are several and none was named."""
    names = ", ".join(sheet.name for sheet in sheets)
    if not wanted:
        if len(sheets) == 1:
            return sheets[0]
        raise KnownError(
            say("{source} has {n} sheets.", source=sheets[0].source, n=len(sheets)),
            say("Say which: --sheet, with one of {names}.", names=names),
        )
    for i, sheet in enumerate(sheets, 1):
        if wanted.casefold() in (sheet.name.casefold(), str(i)):
            return sheet
    raise KnownError(
        say("{source} has no sheet '{wanted}'.", source=sheets[0].source, wanted=wanted),
        say("It has: {names}.", names=names),
    )
