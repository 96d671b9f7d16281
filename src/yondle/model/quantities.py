"""How numbers are written: thin spaces between thousands, a true minus, units, and no more digits than are known."""

from __future__ import annotations

import math
import os
import re
from datetime import datetime

from yondle.language.preferred import in_fahrenheit
from yondle.language.saying import Counted, later, made_words, named, say, with_mark

FAHRENHEIT = in_fahrenheit(os.environ)
"""Whether temperatures are shown in °F. They are kept, computed with and written to files in °C."""
_IN_FAHRENHEIT = {"°C": ("°F", 1.8, 32.0), "K": ("°F", 1.8, 0.0)}
"""What is shown of a temperature and of a difference of two: the unit, times this and plus that."""
_TYPED = re.compile(r"(.*?)\s*°?\s*([CF])", re.IGNORECASE | re.DOTALL)
MOST_DIGITS = 15
"""No double has more decimals that mean anything."""
THIN = "\u202f"
MINUS = "\u2212"
_MONTHS = (
    later("January"), later("February"), later("March"), later("April"), later("May"), later("June"),
    later("July"), later("August"), later("September"), later("October"), later("November"), later("December"),
)  # fmt: skip
_SHORT_MONTHS = (
    later("Jan"), later("Feb"), later("Mar"), later("Apr"), later("May"), later("Jun"),
    later("Jul"), later("Aug"), later("Sep"), later("Oct"), later("Nov"), later("Dec"),
)  # fmt: skip


@made_words
def number(value: float, digits: int = 0) -> str:
    """Write a number with a thin space between thousands (from four digits on) and a true minus sign."""
    if not math.isfinite(value):
        return "–"
    text = with_mark(f"{abs(value):,.{min(digits, MOST_DIGITS)}f}".replace(",", THIN))
    negative = value < 0 and float(f"{value:.{digits}f}") != 0
    return (MINUS if negative else "") + text


def as_shown(value: float, unit: str) -> float:
    """Give a value as it is shown: temperatures, and differences in K, in °F where that is preferred."""
    _, times, more = _IN_FAHRENHEIT.get(unit, ("", 1.0, 0.0)) if FAHRENHEIT else ("", 1.0, 0.0)
    return value * times + more


def from_shown(value: float, unit: str) -> float:
    """Give the value in its own unit that is shown so."""
    _, times, more = _IN_FAHRENHEIT.get(unit, ("", 1.0, 0.0)) if FAHRENHEIT else ("", 1.0, 0.0)
    return (value - more) / times


def unit_shown(unit: str) -> str:
    """Give the unit that values of this unit are shown in."""
    return _IN_FAHRENHEIT.get(unit, (unit,))[0] if FAHRENHEIT else unit


def between(unit: str) -> str:
    """Give the unit of a difference between two values of this unit: of temperatures it has no zero of its own."""
    return "K" if unit == "°C" and FAHRENHEIT else unit


def typed_degrees(text: str) -> tuple[str, bool]:
    """Take '203 °F' or '95 °C' apart: the number's text, and whether °F was meant; text without either means °C."""
    found = _TYPED.fullmatch(text.strip())
    return (found[1], found[2] in "Ff") if found else (text, False)


def celsius(fahrenheit: float) -> float:
    """Give a temperature in °C."""
    _, times, more = _IN_FAHRENHEIT["°C"]
    return (fahrenheit - more) / times


@made_words
def figure(value: float, unit: str, digits: int = 0) -> str:
    """Write a value as it is shown, without its unit."""
    return number(as_shown(value, unit), digits)


@made_words
def quantity(value: float, unit: str, digits: int = 0) -> str:
    """Write a number with its unit behind a thin space that never breaks a line; temperatures in °F where that is preferred."""
    written = figure(value, unit, digits)
    return f"{written}{THIN}{unit_shown(unit)}" if unit else written


def with_unit(name: str, unit: str) -> str:
    """Name a quantity with its unit, as beside an axis: 'Core clock, MHz'."""
    return f"{name}, {unit_shown(unit)}" if unit else name


@made_words
def signed_percent(fraction: float, digits: int = 1) -> str:
    """Write a fraction as a percentage that always shows its sign, 0.031 as '+3.1 %'."""
    text = number(100 * fraction, digits)
    sign = "" if text.startswith(MINUS) or float(f"{100 * fraction:.{digits}f}") == 0 else "+"
    return f"{sign}{text}{THIN}%"


@made_words
def duration(seconds: float) -> str:
    """Write a duration in the two largest units that matter: '12 s', '3 min 12 s', '1 h 5 min'."""
    whole = max(0, round(seconds))
    if whole < 60:
        return f"{whole}{THIN}s" if whole or seconds == 0 else f"{number(seconds, 1)}{THIN}s"
    minutes, rest = divmod(whole, 60)
    if minutes < 60:
        return f"{minutes}{THIN}min {rest}{THIN}s" if rest else f"{minutes}{THIN}min"
    hours, minutes = divmod(minutes, 60)
    return f"{hours}{THIN}h {minutes}{THIN}min" if minutes else f"{hours}{THIN}h"


def digits_for(spread: float, most: int = 3) -> int:
    """Count the decimals a figure deserves when its margin is `spread`: two significant digits of the margin."""
    if not math.isfinite(spread) or spread <= 0:
        return 1
    return min(most, max(0, 1 - math.floor(math.log10(spread))))


SURE = 0.99


def count(n: int, noun: str, plural: str = "") -> str:
    """Write a count with its noun, '1 pass' or '5 passes'; the noun is looked up in the user's language."""
    return Counted(n, number(n), noun, plural or f"{noun}s")


@made_words
def ranged(mean: float, low: float, high: float, unit: str = "", digits: int = 1) -> str:
    """Write a mean with its 95 % range: '66.5 ± 0.4 s', or '15 (2 to 60) frames' where half of it would reach below 0.

    `digits` are those of a mean without a range, whose ends are then nan.
    """
    mean, low, high = (as_shown(each, unit) for each in (mean, low, high))
    half, tail = (high - low) / 2.0, f"{THIN}{unit_shown(unit)}" if unit else ""
    if not math.isfinite(half):
        return f"{number(mean, digits)}{tail}"
    digits = digits_for(half)
    if half < mean or mean < 0.0:
        return f"{number(mean, digits)} ± {number(half, digits)}{tail}"
    low_, high_ = number(low, digits), number(high, digits)
    return say("{mean} ({low} to {high}){unit}", mean=number(mean, digits), low=low_, high=high_, unit=tail)


@made_words
def chance(probability: float) -> str:
    """Write a probability in per cent; beyond `SURE` it is told as more than that, since nothing is certain."""
    if probability > SURE:
        return say("more than {sure}\u202f%", sure=number(100 * SURE))
    return f"{number(100 * probability)}{THIN}%"


@made_words
def date(day: datetime) -> str:
    """Write a date with its month in words, '18 October 2026'."""
    return say("{day} {month} {year}", day=day.day, month=named(_MONTHS[day.month - 1]), year=day.year)


@made_words
def moment(at: datetime) -> str:
    """Write a moment shortly, '18 Oct 01:12:03'."""
    return say("{day} {month} {time}", day=f"{at:%d}", month=named(_SHORT_MONTHS[at.month - 1]), time=f"{at:%H:%M:%S}")
