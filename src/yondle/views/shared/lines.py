"""The lines a sensor is held against: what was asked or set, what limits it, where a test stops."""

from __future__ import annotations

from typing import NamedTuple

from yondle.language.saying import say
from yondle.model.knobs import Setup
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Channel, Quantity


class Line(NamedTuple):
    """A value a sensor is held against, and the word for it."""

    words: str
    value: float


ASKED, LIMIT, SET, STOP = say("asked"), say("limit"), say("set"), say("stop")


def lines_of(declaration: RigDeclaration, channel: Channel, setup: Setup) -> tuple[Line, ...]:
    """List the lines of a sensor under some settings, the most telling first."""
    asked = {**setup, **declaration.derived(setup)}
    lines = []
    if channel.quantity is not Quantity.FLAG and channel.follows in asked:
        word = SET if channel.quantity is Quantity.VOLTAGE else ASKED
        lines.append(Line(word, asked[channel.follows]))
    limits = [c.follows for c in declaration.channels if c.of == channel.id and c.follows in setup]
    lines += [Line(LIMIT, setup[knob]) for knob in limits]
    lines += [Line(STOP, limit.most) for limit in declaration.limits if limit.channel == channel.id]
    return tuple(lines)
