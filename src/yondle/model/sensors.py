"""Sensor channels and the blocks of samples that the journal keeps."""

from __future__ import annotations

import math
from dataclasses import dataclass
from enum import StrEnum

from yondle.language.saying import in_sentence, later
from yondle.model.knobs import Subsystem
from yondle.model.verdicts import Verdict

Reading = float | None
"""One value of a channel, or None when the sensor gave none."""


ROOM, OTHERS_USE, STOLEN, IN_USE = "room_temperature", "other_use", "stolen", "in_use"
"""Roles of channels: the room; and in % of the machine what other programs use, what a host takes, and all that is in use."""
METER = "meter_"
"""What the id of a channel begins with that an outside meter gives."""


class Quantity(StrEnum):
    """What a channel measures."""

    TEMPERATURE = "temperature"
    CLOCK = "clock"
    VOLTAGE = "voltage"
    POWER = "power"
    FAN = "fan"
    USE = "use"
    FLAG = "flag"
    ERRORS = "errors corrected"
    COUNT = "count"
    """How often something has happened; what counts is how far it rose."""
    OTHER = "other"


@dataclass(frozen=True, slots=True)
class Nature:
    """What is so of every channel of a quantity, and how it is shown; a new quantity is a line in `NATURES`.

    `units` are those other programs write it in, ours first. `digits` are those of a value that was asked or limited. An axis
    spans `least_span` at least, 0 to that where it is a `share`. A change by `least_change` is worth telling before a failure.
    `limited` tells that a ceiling is offered on it, `most` and `least` that a pass keeps that extreme, `counted` that it only
    counts up. `together` names the one panel all channels share, where they do. `watched` and `told_last` tell where it is
    shown: while another program tests, and with a failure. `strip` is its place beside a running test, from 1; 0 without one.
    `tint` is the verdict whose colour it is drawn in, or IN_PLAY.
    """

    units: tuple[str, ...] = ()
    digits: int = 0
    least_span: float = 1.0
    share: bool = False
    least_change: float = math.inf
    limited: bool = False
    most: bool = False
    least: bool = False
    counted: bool = False
    together: str = ""
    usual: bool = True
    watched: bool = False
    told_last: bool = False
    strip: int = 0
    tint: Verdict | str = ""


IN_PLAY = "in play"
NATURES = {
    Quantity.CLOCK: Nature(
        ("MHz",), least_span=100.0, least_change=25.0, watched=True, told_last=True, strip=2, tint=Verdict.HELD,
    ),
    Quantity.TEMPERATURE: Nature(
        ("°C", "C"), least_span=10.0, least_change=1.0, limited=True, most=True, together=later("Temperature"), watched=True,
        told_last=True, strip=1, tint=IN_PLAY,
    ),
    Quantity.POWER: Nature(
        ("W",), least_span=10.0, least_change=3.0, limited=True, most=True, watched=True, told_last=True, strip=3,
        tint=Verdict.HELD_BACK,
    ),
    Quantity.VOLTAGE: Nature(
        ("V",), digits=3, least_span=0.03, least_change=0.004, limited=True, least=True, told_last=True, strip=4,
        tint=Verdict.UNPROVEN,
    ),
    Quantity.USE: Nature(("%",), least_span=100.0, share=True, together=later("In use"), strip=5),
    Quantity.FAN: Nature(("1/min", "rpm"), least_span=200.0, together=later("Fan"), watched=True, strip=6),
    Quantity.ERRORS: Nature(counted=True, usual=False, told_last=True, tint=Verdict.WRONG),
    Quantity.COUNT: Nature(counted=True, usual=False),
    Quantity.FLAG: Nature(usual=False),
    Quantity.OTHER: Nature(usual=False, strip=7),
}  # fmt: skip
"""Every quantity, in the order in which its panels stand."""


def quantity_in(unit: str) -> Quantity:
    """Give the quantity other programs write in a unit; OTHER for one that isn't known."""
    return next((quantity for quantity, nature in NATURES.items() if unit in nature.units), Quantity.OTHER)


@dataclass(frozen=True, slots=True)
class Channel:
    """One sensor reading over time; `follows` names the knob (or derived quantity) it should show under load.

    A flag `follows` the knob of the limit it stands for, which is a limit `of` another channel. `core` is the number of the
    core or processor it reads, where there is one of its kind for each. `role` is what it is to the program beyond its
    quantity, one of ROOM, OTHERS_USE, STOLEN and IN_USE; without one a channel of such an id plays it. `limit` is what the limit
    of a flag is called in a sentence.
    """

    id: str
    name: str
    unit: str
    quantity: Quantity
    subsystem: Subsystem
    digits: int = 1
    follows: str = ""
    about: str = ""
    of: str = ""
    core: int | None = None
    role: str = ""
    limit: str = ""

    @property
    def as_limit(self) -> str:
        """The limit it stands for as a flag, as it stands in a sentence."""
        return self.limit or in_sentence(self.name)

    @property
    def nature(self) -> Nature:
        """What is so of every channel of its quantity."""
        return NATURES[self.quantity]

    @property
    def plays(self) -> str:
        """The role it plays: what was declared, else its id."""
        return self.role or self.id


@dataclass(frozen=True, slots=True)
class SampleBlock:
    """Samples of all channels over a second or two: times in seconds on the rig's clock, one row per time."""

    channels: tuple[str, ...]
    times_s: tuple[float, ...]
    rows: tuple[tuple[Reading, ...], ...]


@dataclass(frozen=True, slots=True)
class Limit:
    """A ceiling on a sensor: a reading above `most` stops the test and puts the machine back."""

    channel: str
    most: float
