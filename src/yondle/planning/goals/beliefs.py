"""What is believed of a knob before anything was measured, from what it is: its part, its risk, its unit, never its name.

Each belief is a middle and a standard deviation: of a slope over a knob's logarithm, or over the whole of its range.
"""

from __future__ import annotations

from yondle.model.knobs import Knob, Risk, Subsystem
from yondle.model.sensors import Channel, Quantity

_BENDS = 1.0
"""How much a slope may turn at a bend, as a share of how unsure the slope is beforehand."""


def caps_heat(knob: Knob) -> bool:
    """Tell whether a knob is a limit of a temperature."""
    return knob.governs and knob.unit == "°C"


def caps(knob: Knob) -> bool:
    """Tell whether a knob is a limit: of power or heat, which does nothing until it is met."""
    return knob.governs and knob.unit in ("W", "°C")


def score_belief(knob: Knob, kind: str, part: Subsystem) -> tuple[float, float]:
    """Say what the score of a benchmark of some part may gain with a knob's logarithm or share of its range."""
    own = knob.subsystem is part
    if not own and Subsystem.GRAPHICS in (knob.subsystem, part):
        return 0.0, 0.01 if kind in ("above", "below") else 0.02
    if kind == "choice":
        return 0.0, 0.05 if own else 0.02
    if knob.proportional:
        middle, spread = (0.4, 0.35) if own else (0.1, 0.15)
    elif knob.unit == "V":
        middle, spread = 0.0, 0.05
    elif caps(knob) or knob.subsystem is Subsystem.COOLING:
        middle, spread = 0.0, 0.002
    elif knob.governs:
        middle, spread = 0.0, 0.03
    elif knob.risk is not Risk.NONE:
        middle, spread = (0.04 if own else 0.01), (0.08 if own else 0.03)
        middle = middle if knob.risk is Risk.UP else -middle
    else:
        middle, spread = 0.0, (0.06 if own else 0.02)
    return (0.0, _BENDS * spread) if kind in ("above", "below") else (middle, spread)


def reading_belief(knob: Knob, kind: str, channel: Channel, parts: set[Subsystem]) -> tuple[float, float]:
    """Say how a channel that reads some parts of the machine answers to a knob's logarithm or share of its range."""
    if kind == "choice":
        return 0.0, 0.1
    own = knob.subsystem in parts
    if channel.quantity is Quantity.VOLTAGE:
        middle, spread = (1.0, 0.1) if knob.unit == "V" and own else (0.0, 0.05)
    elif channel.quantity is Quantity.FAN:
        middle, spread = (1.0, 0.4) if knob.subsystem is Subsystem.COOLING else (0.0, 0.02)
    elif knob.subsystem is Subsystem.COOLING:
        middle, spread = (-0.3, 0.3) if channel.quantity is Quantity.TEMPERATURE else (0.0, 0.03)
    elif caps(knob):
        middle, spread = 0.0, 0.002
    elif knob.governs:
        middle, spread = 0.0, 0.03
    elif knob.proportional:
        middle, spread = (0.9, 0.4) if own else (0.03, 0.08)
    elif knob.unit == "V":
        middle, spread = (1.8, 0.7) if own else (0.05, 0.2)
    else:
        middle, spread = 0.0, 0.08
    return (0.0, 0.4 * spread) if kind in ("above", "below") else (middle, spread)


def shift_belief(knob: Knob, follower: Knob, logs: bool) -> tuple[float, float]:
    """Say how the edge of a follower, as a share of its stock, moves with another knob's logarithm or share of its range."""
    towards = 1.0 if follower.risk is Risk.UP else -1.0
    own = knob.subsystem is follower.subsystem
    if knob.choices:
        return 0.0, 0.008 if own else 0.003
    if knob.subsystem is Subsystem.COOLING:
        return 0.006, 0.008
    if not own:
        return 0.0, 0.004
    if knob.unit == "V":
        return 0.55, 0.3
    if knob.risk is Risk.DOWN:
        return (0.05, 0.2) if logs else (0.0, 0.004)
    if knob.risk is Risk.UP:
        return -0.3 * towards, 0.4
    if knob.governs:
        return 0.0, 0.004
    return 0.0, 0.006
