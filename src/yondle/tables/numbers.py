"""Numbers as people write them into tables: with a unit, a decimal comma, spaces between thousands, a sign of their own."""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass

_NUMBER = re.compile(
    r"(?P<sign>[-+\N{MINUS SIGN}±~≈]?)\s*"
    r"(?P<digits>\d[\d.,'\u2019\u00a0\u202f\u2009 ]*)(?P<power>[eE][-+]?\d{1,3})?\s*(?P<unit>.*)"
)
_SPACES = re.compile(r"[\s'\u2019\u00a0\u202f\u2009]")
_GROUPED = re.compile(r"\d{1,3}(?:[.,]\d{3})+")
LONGEST = 60


@dataclass(frozen=True, slots=True)
class Written:
    """A number as it was written: its digits with their marks, its sign, and what stands behind it."""

    sign: str
    digits: str
    unit: str

    def value(self, decimal: str) -> float:
        """Read it with '.' or ',' before its decimals; raises ValueError where it can't be read so."""
        other = "," if decimal == "." else "."
        body = _SPACES.sub("", self.digits).rstrip(".,")
        whole, _, power = body.partition("e")
        if other in whole:
            before = whole.partition(decimal)[0]
            if decimal in whole and other in whole.partition(decimal)[2]:
                raise ValueError(self.digits)
            if not _GROUPED.fullmatch(before):
                raise ValueError(self.digits)
            whole = whole.replace(other, "")
        if whole.count(decimal) > 1:
            raise ValueError(self.digits)
        number = float(whole.replace(decimal, ".") + (f"e{power}" if power else ""))
        return -number if self.sign in ("-", "\N{MINUS SIGN}") else number

    @property
    def told_decimal(self) -> str:
        """What mark stands before its decimals, where it tells; '' where it could be either, or has none."""
        body = _SPACES.sub("", self.digits).partition("e")[0].rstrip(".,")
        marks = [c for c in body if c in ".,"]
        if not marks:
            return ""
        if len(set(marks)) == 2:
            return marks[-1] if marks.count(marks[-1]) == 1 else ""
        if len(marks) > 1:
            return "." if marks[0] == "," else ","
        before, _, after = body.partition(marks[0])
        return "" if len(after) == 3 and before not in ("", "0") and len(before) <= 3 else marks[0]

    @property
    def ambiguous(self) -> bool:
        """Whether it could be read in two ways, as 1,030 could."""
        body = _SPACES.sub("", self.digits).partition("e")[0]
        return not self.told_decimal and any(c in ".," for c in body.rstrip(".,"))


def written(text: str) -> Written | None:
    """Find the number a cell begins with, and what stands behind it; None where it begins otherwise, or goes on with more."""
    if len(text) > LONGEST:
        return None
    found = _NUMBER.fullmatch(text.strip())
    if found is None:
        return None
    digits, unit = found["digits"], found["unit"].strip()
    if re.search(r"\d", unit) and not re.fullmatch(r"[^\d]*[/²³µA-Za-z%°()]+[^\d]*\d?", unit):
        return None
    power = (found["power"] or "").lower().removeprefix("e")
    return Written(found["sign"], digits.strip() + (f"e{power}" if power else ""), unit)


def typed(text: str) -> tuple[float, str] | None:
    """Read a number that is typed in, where a point stands before decimals, with the unit behind it.

    None for what is no number, and for a comma that could stand before thousands as well.
    """
    found = written(text)
    if found is None or (found.ambiguous and "," in found.digits):
        return None
    try:
        return found.value(found.told_decimal or "."), found.unit
    except ValueError:
        return None


def decimal_of(cells: Iterable[Written]) -> tuple[str, bool]:
    """Tell the decimal mark of a table from all its numbers; and whether both marks are used for it somewhere."""
    marks = {each.told_decimal for each in cells} - {""}
    if len(marks) == 2:
        return "", True
    return next(iter(marks), ""), False
