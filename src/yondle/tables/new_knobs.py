"""Knobs that a table brings along: what their values tell of them, and what has to be told."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from yondle.formats.knob_table import DescribedKnob, evenly
from yondle.language.saying import say
from yondle.model.knobs import Knob, Risk, Subsystem
from yondle.tables.gathered import STOCK, Value
from yondle.tables.recognise import is_stock

MOST_CHOICES, LONGEST_WORD = 20, 60
RATES = ("MHz", "GHz", "MT/s")


@dataclass(frozen=True, slots=True)
class Description:
    """A new knob with what is told of it; without one the words say what stands against it. `asks` that stock has to be told."""

    knob: DescribedKnob | None
    words: str
    asks: bool = False


def described(name: str, unit: str, values: Sequence[Value], stock: str, at: float | None) -> Description:
    """Describe a new knob by its values in a table; `stock` is what was told of it, `at` that as a number where it is one."""
    told = [v for v in values if v != STOCK]
    if any(isinstance(v, str) for v in told):
        return _of_words(name, [str(v) for v in told], STOCK in values, stock)
    numbers = [float(v) for v in told]
    if STOCK in values and not stock:
        words = say("What is the stock value of '{name}'? A cell is empty or says stock, without a number.", name=name)
        return Description(None, words, asks=True)
    if stock and at is None:
        return Description(
            None, say("The stock value of '{name}' can't be '{told}': give a number.", name=name, told=stock)
        )
    first = numbers[0] if at is None else at
    try:
        low, high, step, digits = evenly([*numbers, first])
    except ValueError as error:
        return Description(None, f"{name}: {error}.")
    words = say(
        "{name} is new: {low:g} to {high:g} in steps of {step:g} {unit}; stock is {stock:g}.", name=name, low=low, high=high,
        step=step, unit=unit, stock=first,
    )  # fmt: skip
    knob = DescribedKnob(
        name=name[:LONGEST_WORD], unit=unit[:12], low=low, high=high, step=step, stock=first, digits=digits,
        subsystem=Subsystem.MEMORY if unit == "MT/s" else _subsystem(name), risk=_risk(name, unit),
        proportional=unit in RATES or _counts(name),
    )  # fmt: skip
    return Description(knob, words)


def _of_words(name: str, told: Sequence[str], has_stock: bool, stock: str) -> Description:
    words = list(dict.fromkeys(told))
    if has_stock:
        words.insert(0, say("stock"))
    first = stock or next((w for w in words if is_stock(w)), words[0])
    if first not in words:
        words.insert(0, first)
    if len(words) > MOST_CHOICES:
        n = len(words)
        return Description(
            None,
            say("'{name}' has {n} different words: a setting has up to {most}.", name=name, n=n, most=MOST_CHOICES),
        )
    if len(words) < 2:
        words.append(say("other"))
    knob = DescribedKnob(name=name[:LONGEST_WORD], choices=tuple(words), stock=float(words.index(first)))
    return Description(
        knob, say("{name} is new: {values}; stock is {stock}.", name=name, values=", ".join(words), stock=first)
    )


def goes_further(knob: Knob, values: Sequence[Value]) -> bool:
    """Tell whether values go beyond a knob, or lie between its steps."""
    numbers = [float(v) for v in values] if not knob.choices else []
    return not all(knob.low <= v <= knob.high and abs(knob.nearest(v) - v) < knob.step * 1e-6 for v in numbers)


def free_id(name: str, taken: set[str]) -> str:
    """Give a new knob an id that none has."""
    bare = re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")[:36]
    bare = bare if bare[:1].isalpha() else f"knob_{bare}".strip("_")
    made, i = bare, 2
    while made in taken:
        made, i = f"{bare}_{i}", i + 1
    return made


def _subsystem(name: str) -> Subsystem:
    plain = name.casefold()
    for part, words in (
        (Subsystem.MEMORY, ("memory", "ram", "cas", "trcd", "tras", "trfc", "speicher")),
        (Subsystem.GRAPHICS, ("graphics", "gpu", "grafik")),
        (Subsystem.COOLING, ("fan", "pump", "l\u00fcfter", "pumpe")),
        (Subsystem.PROCESSOR, ("core", "cpu", "clock", "kern", "takt", "processor")),
    ):
        if any(word in plain for word in words):
            return part
    return Subsystem.WHOLE


def _counts(name: str) -> bool:
    """Tell whether a knob counts what shares the work: cores, threads, workers, machines."""
    plain = name.casefold()
    return "clock" not in plain and any(
        word in plain for word in ("core", "thread", "worker", "machine", "kern", "modules", "channels")
    )


def _risk(name: str, unit: str) -> Risk:
    plain = name.casefold()
    up = unit in ("MHz", "GHz", "MT/s") or any(word in plain for word in ("clock", "takt", "multiplier"))
    return Risk.UP if up else Risk.NONE
