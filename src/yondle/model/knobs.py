"""What can be set on a machine, which values it takes, and how a whole setup differs from another."""

from __future__ import annotations

import math
import re
from bisect import bisect_left
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import StrEnum

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.quantities import celsius, figure, number, quantity, typed_degrees


class Subsystem(StrEnum):
    """The part of the machine a knob or a sensor belongs to."""

    PROCESSOR = "processor"
    MEMORY = "memory"
    CONTROLLER = "memory controller"
    GRAPHICS = "graphics"
    COOLING = "cooling"
    STORAGE = "storage"
    WHOLE = "machine"


class When(StrEnum):
    """When a value asked for comes into force.

    One set by hand is entered in firmware setup, or a part is swapped, with a restart; one at hand is a dial, a switch or the
    room around the machine: the tuner sets it too, and it is in force at once.
    """

    LIVE = "live"
    RESTART = "after restart"
    BY_HAND = "by hand"
    AT_HAND = "by hand, at once"


class Risk(StrEnum):
    """The direction in which a knob gets harder for the machine to hold."""

    UP = "up"
    DOWN = "down"
    NONE = "none"


MOST_DIGITS = 3
"""Digits behind the point that a value is written with at most."""
_SIZE = re.compile(r"[x×]?(\d+(?:\.\d+)?)")
_TWO_WAYS = re.compile(r"[-+\N{MINUS SIGN}]?[1-9]\d{0,2},\d{3}")
"""A comma before three digits: between thousands to some, the decimal sign to others."""


@dataclass(frozen=True, slots=True)
class Knob:
    """One thing that can be set: its unit, the values the hardware takes, and its stock value.

    The values are evenly spaced from the lowest on, and end with the highest. Others are `stops`: what a machine was found
    at is one of its values, whether it lies between two steps or beyond the range that is offered.
    """

    id: str
    name: str
    unit: str
    subsystem: Subsystem
    low: float
    high: float
    step: float
    stock: float
    digits: int = 0
    when: When = When.LIVE
    risk: Risk = Risk.NONE
    proportional: bool = False
    """Whether a score could rise in proportion to it, as with a clock or a number of workers."""
    choices: tuple[str, ...] = ()
    """Names of the values of a switch or mode, which are then 0, 1, 2 and so on."""
    readable: bool = True
    """Whether the machine tells the value in force; where it doesn't, the tuner is asked."""
    about: str = ""
    governs: bool = False
    """Whether it sets a limit, a mode or the cooling: a clock that falls when it is changed was asked to."""
    role: str = ""
    """What it is to quantities that follow from it (`model/derived.py`) and to what a failure points to; see `plays`."""
    stops: tuple[float, ...] = ()
    """Values it takes besides those that are evenly spaced."""
    _uneven: tuple[float, ...] = field(init=False, repr=False, compare=False)
    """Every value in the range, where they aren't all evenly spaced; empty where they are."""

    def __post_init__(self) -> None:
        steps = (self.high - self.low) / self.step
        odd: list[float] = []
        if self.stops or abs(steps - round(steps)) > 1e-6:
            even = [round(self.low + i * self.step, 9) for i in range(math.floor(steps + 1e-6) + 1)]
            inside = {v for v in (*self.stops, self.high) if self.low <= v <= self.high}
            odd = [v for v in inside if min(abs(v - each) for each in even) > self.step * 1e-6]
        object.__setattr__(self, "_uneven", tuple(sorted({*even, *odd})) if odd else ())

    @property
    def plays(self) -> str:
        """The role it plays: what was declared, else its id."""
        return self.role or self.id

    @property
    def notches(self) -> int:
        """The number of steps between the lowest and the highest value."""
        return len(self._uneven) - 1 if self._uneven else round((self.high - self.low) / self.step)

    def values(self) -> list[float]:
        """List every value the knob takes, lowest first."""
        return [self.at(i) for i in range(self.notches + 1)]

    def at(self, notch: int) -> float:
        """Give the value at a notch counted from the lowest; counts outside the range end at its ends."""
        inside = min(max(notch, 0), self.notches)
        return self._uneven[inside] if self._uneven else round(self.low + inside * self.step, 9)

    def notch_of(self, value: float) -> int:
        """Count the notches from the lowest value to the one nearest to `value`."""
        if not self._uneven:
            return min(max(round((value - self.low) / self.step), 0), self.notches)
        above = min(bisect_left(self._uneven, value), self.notches)
        below = max(above - 1, 0)
        return above if self._uneven[above] - value < value - self._uneven[below] else below

    def nearest(self, value: float) -> float:
        """Give the value the knob takes that lies nearest to `value`."""
        return value if value in self.stops else self.at(self.notch_of(value))

    def size(self, value: float) -> float | None:
        """Say how much a value is: of a choice the number it is called by (2 channels, x16); None where it is none."""
        if not self.choices:
            return value
        found = _SIZE.fullmatch(self.choices[self.notch_of(value)])
        return float(found.group(1)) if found is not None else None

    @property
    def sized(self) -> bool:
        """Whether proportions of its values mean something: numbers above nothing, or choices called by such."""
        sizes = [self.size(value) for value in self.values()] if self.choices else [self.low]
        return all(size is not None and size > 0.0 for size in sizes)

    def plain(self, value: float) -> float | str:
        """Give a value for other programs: a number, and a choice by its word."""
        if not self.choices:
            return value
        word = self.choices[self.notch_of(value)]
        return float(word) if word.isdigit() else word

    def text(self, value: float) -> str:
        """Write a value of this knob with its unit."""
        return self.choices[self.notch_of(value)] if self.choices else quantity(value, self.unit, self._shown(value))

    def bare(self, value: float) -> str:
        """Write a value of this knob without its unit."""
        return self.choices[self.notch_of(value)] if self.choices else figure(value, self.unit, self._shown(value))

    def _shown(self, value: float) -> int:
        """Give the digits a value is written with: more than usual where it is one of the odd ones."""
        odd = value in self.stops or (value == self.high and bool(self._uneven))
        enough = (d for d in range(self.digits, MOST_DIGITS) if round(value, d) == value) if odd else ()
        return next(iter(enough), MOST_DIGITS if odd else self.digits)

    def parsed(self, text: str) -> float:
        """Read a value as a person writes it: a number with its unit or without, or the name of a choice.

        A temperature may be given in °F, and is then the nearest that the knob takes. Raises KnownError for anything else, and
        for a number that could be read in two ways, as 1,030 could.
        """
        wanted = text.strip()
        for i, name in enumerate(self.choices):
            if name.casefold() == wanted.casefold():
                return float(i)
        told, fahrenheit = typed_degrees(wanted) if self.unit == "°C" else (wanted.removesuffix(self.unit), False)
        bare = "".join(told.split())
        if _TWO_WAYS.fullmatch(bare):
            raise KnownError(
                say("'{wanted}' could be read in two ways.", wanted=wanted),
                say("Write {whole} or {decimal}.", whole=bare.replace(",", ""), decimal=bare.replace(",", ".")),
            )
        try:
            value = float(bare.replace(",", ".").replace("\N{MINUS SIGN}", "-"))
        except ValueError:
            raise KnownError(
                say("{knob} can't be '{wanted}'.", knob=self.name, wanted=wanted),
                say("Give {range}.", range=self._range()),
            ) from None
        if not fahrenheit:
            return value
        there = celsius(value)
        return self.nearest(there) if self.low <= there <= self.high else there

    def checked(self, value: float) -> float:
        """Give the value as the knob takes it; raises KnownError for one outside its range or between its steps."""
        if not math.isfinite(value):
            raise KnownError(
                say("{knob} can't be {value}.", knob=self.name, value=value),
                say("Give {range}.", range=self._range()),
            )
        if value in self.stops:
            return value
        if not self.low - self.step * 1e-6 <= value <= self.high + self.step * 1e-6:
            shown = number(value, self.digits) if self.choices else self.text(value)
            raise KnownError(
                say("{knob} of {shown} is outside its range.", knob=self.name, shown=shown),
                say("Give {range}.", range=self._range()),
            )
        taken = self.nearest(value)
        if self.choices and taken != value:
            raise KnownError(
                say("{knob} has no value {value:g}.", knob=self.name, value=value),
                say("Give {range}.", range=self._range()),
            )
        if abs(taken - value) > self.step * 1e-6:
            at = self.notch_of(value)
            at -= self.at(at) > value
            down, up = self.at(at), self.at(at + 1)
            raise KnownError(
                say(
                    "{knob} of {value} lies between its steps of {step}.",
                    knob=self.name,
                    value=self.text(value),
                    step=self.text(self.step),
                ),
                say("Give {down} or {up}.", down=self.bare(down), up=self.text(up)),
            )
        return taken

    def _range(self) -> str:
        if self.choices:
            return say("one of {choices}", choices=", ".join(self.choices))
        return say(
            "a value from {low} to {high} in steps of {step}",
            low=self.bare(self.low),
            high=self.text(self.high),
            step=self.text(self.step),
        )


@dataclass(frozen=True, slots=True)
class Change:
    """One knob going from one value to another."""

    knob: str
    old: float
    new: float


@dataclass(frozen=True, slots=True)
class Setup(Mapping[str, float]):
    """The values of all knobs of a rig at one moment; equal setups compare and hash equal."""

    items_: tuple[tuple[str, float], ...]
    _by_name: dict[str, float] = field(init=False, repr=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "_by_name", dict(self.items_))

    @classmethod
    def of(cls, values: Mapping[str, float] | Iterable[tuple[str, float]]) -> Setup:
        """Make a setup from knob names and values in any order."""
        return cls(tuple(sorted((k, round(float(v), 9)) for k, v in dict(values).items())))

    def __getitem__(self, knob: str) -> float:
        return self._by_name[knob]

    def __iter__(self) -> Iterator[str]:
        return iter(self._by_name)

    def __len__(self) -> int:
        return len(self.items_)

    def __hash__(self) -> int:
        return hash(self.items_)

    def __eq__(self, other: object) -> bool:
        return isinstance(other, Setup) and self.items_ == other.items_

    def with_values(self, values: Mapping[str, float]) -> Setup:
        """Give this setup with some knobs at other values."""
        return Setup.of({**dict(self), **values})

    def changes_to(self, other: Setup) -> tuple[Change, ...]:
        """List the knobs whose values differ in `other`, in order of their names."""
        return tuple(Change(k, v, other[k]) for k, v in self.items_ if k in other and other[k] != v)

    def same_but(self, other: Setup, knob: str) -> bool:
        """Tell whether two setups agree in every knob except perhaps `knob`."""
        theirs = other._by_name
        return all(value == theirs.get(name) for name, value in self.items_ if name != knob)
