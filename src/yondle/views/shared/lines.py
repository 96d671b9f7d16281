"""The lines a sensor is held against: what was asked or set, what limits it, where a test stops."""

from __future__ import annotations

from enum import StrEnum
from typing import NamedTuple

from yondle.language.saying import named
from yondle.model.knobs import Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Channel, Quantity


class LineKind(StrEnum):
    """What makes a value one that a sensor is held against."""

    ASKED = "asked"
    LIMIT = "limit"
    SET = "set"
    STOP = "stop"


class Line(NamedTuple):
    """A value a sensor is held against, and why."""

    kind: LineKind
    value: float

    @property
    def words(self) -> str:
        """The word for it."""
        return named(self.kind)


def lines_of(declaration: RigDeclaration, channel: Channel, setup: Setup) -> tuple[Line, ...]:
    """List the lines of a sensor under some settings, the most telling first."""
    asked = {**setup, **declaration.derived(setup)}
    lines = []
    if channel.quantity is not Quantity.FLAG and channel.follows in asked:
        word = LineKind.SET if channel.quantity is Quantity.VOLTAGE else LineKind.ASKED
        lines.append(Line(word, asked[channel.follows]))
    limits = [c.follows for c in declaration.channels if c.of == channel.id and c.follows in setup]
    lines += [Line(LineKind.LIMIT, setup[knob]) for knob in limits]
    lines += [Line(LineKind.STOP, limit.most) for limit in declaration.limits if limit.channel == channel.id]
    return tuple(lines)
