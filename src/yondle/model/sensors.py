"""Sensor channels and the blocks of samples that the journal keeps."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from yondle.model.knobs import Subsystem

Reading = float | None
"""One value of a channel, or None when the sensor gave none."""


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
class Channel:
    """One sensor reading over time; `follows` names the knob (or derived quantity) it should show under load.

    A flag `follows` the knob of the limit it stands for, which is a limit `of` another channel. `core` is the number of the
    core or processor it reads, where there is one of its kind for each.
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
