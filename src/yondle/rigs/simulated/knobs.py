"""The knobs a simulated machine can have, declared once, and how it takes a value that is asked of it."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Risk, Subsystem
from yondle.rigs.simulated.parts import KnobPart
from yondle.rigs.simulated.rigfile import RigFile

_P, _M, _G, _C = Subsystem.PROCESSOR, Subsystem.MEMORY, Subsystem.GRAPHICS, Subsystem.COOLING


@dataclass(frozen=True, slots=True)
class _Kind:
    name: str
    unit: str
    subsystem: Subsystem
    risk: Risk = Risk.NONE
    proportional: bool = False
    about: str = ""
    governs: bool = False


KINDS: dict[str, _Kind] = {
    "core_clock": _Kind(later("Core clock"), "MHz", _P, Risk.UP, True),
    "bus_clock": _Kind(later("Bus clock"), "MHz", _P, Risk.UP, True, later("Core and memory clock hang on it.")),
    "core_ratio": _Kind(later("Core ratio"), "×", _P, Risk.UP, True, later("Core clock is bus clock times this.")),
    "core_voltage": _Kind(later("Core voltage"), "V", _P, Risk.DOWN),
    "load_line": _Kind(later("Load line"), "", _P, about=later("How far the core voltage drops under load.")),
    "vector_offset": _Kind(
        later("Vector clock offset"), "MHz", _P, Risk.DOWN, about=later("Taken off in wide-vector loads.")
    ),
    "power_limit": _Kind(later("Power limit"), "W", _P, governs=True),
    "heat_limit": _Kind(
        later("Heat limit"), "°C", _P, about=later("The processor slows itself down to stay below it."), governs=True
    ),
    "cores_in_use": _Kind(later("Cores in use"), "", _P, proportional=True),
    "threads_per_core": _Kind(later("Threads per core"), "", _P),
    "power_mode": _Kind(later("Power mode"), "", _P, governs=True),
    "memory_rate": _Kind(later("Memory rate"), "MT/s", _M, Risk.UP, True),
    "memory_ratio": _Kind(
        later("Memory ratio"), "×", _M, Risk.UP, True, later("Memory clock is bus clock times this.")
    ),
    "controller_ratio": _Kind(
        later("Controller ratio"), "", _M, Risk.NONE, about=later("Memory controller to memory clock.")
    ),
    "cas": _Kind(later("CAS latency"), "", _M, Risk.DOWN),
    "trcd": _Kind("tRCD", "", _M, Risk.DOWN, about=later("Row to column delay in clocks.")),
    "trp": _Kind("tRP", "", _M, Risk.DOWN, about=later("Row precharge in clocks.")),
    "tras": _Kind("tRAS", "", _M, Risk.DOWN, about=later("Row active time in clocks.")),
    "trfc": _Kind("tRFC", "", _M, Risk.DOWN, about=later("Refresh cycle time in clocks.")),
    "refresh_interval": _Kind(
        "tREFI", "", _M, Risk.UP, about=later("Clocks between refreshes; warm memory needs fewer.")
    ),
    "command_rate": _Kind(later("Command rate"), "", _M),
    "memory_voltage": _Kind(later("Memory voltage"), "V", _M, Risk.DOWN),
    "controller_voltage": _Kind(later("Controller voltage"), "V", _M, Risk.DOWN),
    "memory_channels": _Kind(later("Memory channels"), "", _M, proportional=True, about=later("Modules fitted.")),
    "graphics_clock": _Kind(later("Graphics clock"), "MHz", _G, Risk.UP, True),
    "graphics_memory_clock": _Kind(later("Graphics memory clock"), "MHz", _G, Risk.UP, True),
    "graphics_power_limit": _Kind(later("Graphics power limit"), "W", _G, governs=True),
    "link_width": _Kind(later("Link width"), "", _G, about=later("Lanes between graphics and processor.")),
    "fan_level": _Kind(later("Fan level"), "%", _C, governs=True),
    "graphics_fan": _Kind(later("Graphics fan"), "%", _C, governs=True),
}


@dataclass(frozen=True, slots=True)
class Taken:
    """What became of a value asked for: what the machine reports, what is in force, and its words when they differ."""

    reported: float
    in_force: float
    message: str = ""


def declared(rig: RigFile) -> tuple[Knob, ...]:
    """Declare the knobs of a rig file in the order they are shown; raises KnownError for one the model hasn't got."""
    for name in rig.knobs:
        if name not in KINDS:
            raise KnownError(
                say("The rig file names a knob this model hasn't got: {name}.", name=name),
                say("It has: {kinds}.", kinds=", ".join(KINDS)),
            )
        if rig.knobs[name].choices and name not in _MAY_BE_CHOICES:
            raise KnownError(
                say(
                    "The rig file gives {name} choices, but its values are numbers the model computes with.", name=name
                ),
                say("Give low, high, step and stock instead of choices."),
            )
    return tuple(_knob(name, kind, rig.knobs[name]) for name, kind in KINDS.items() if name in rig.knobs)


_MAY_BE_CHOICES = frozenset(
    {"load_line", "power_mode", "controller_ratio", "command_rate", "memory_channels", "link_width"}
)
"""Knobs whose values the model takes by their place in a list; those of all others are quantities it computes with."""


def _knob(name: str, kind: _Kind, part: KnobPart) -> Knob:
    return Knob(
        id=name,
        name=named(kind.name),
        unit=kind.unit,
        subsystem=kind.subsystem,
        low=part.low,
        high=part.high,
        step=part.step,
        stock=part.stock,
        digits=part.digits,
        when=part.when,
        risk=kind.risk,
        proportional=kind.proportional and not part.choices,
        choices=part.choices,
        role=part.role or "",
        readable=part.readable,
        about=named(kind.about),
        governs=kind.governs,
    )


def take(knob: Knob, part: KnobPart, asked: float) -> Taken | str:
    """Ask the machine for a value; gives what became of it, or the words of a refusal."""
    try:
        value = knob.checked(asked)
    except KnownError as refusal:
        return refusal.problem
    if part.refused_above is not None and value > part.refused_above:
        return say("the firmware takes at most {refused_above}", refused_above=knob.text(part.refused_above))
    if part.refused_below is not None and value < part.refused_below:
        return say("the firmware takes at least {refused_below}", refused_below=knob.text(part.refused_below))
    if part.rounded_to is not None:
        rounded = knob.nearest(part.low + round((value - part.low) / part.rounded_to) * part.rounded_to)
        if rounded != value:
            return Taken(rounded, rounded, say("rounded to {rounded}", rounded=knob.text(rounded)))
    if part.in_force_up_to is not None and value > part.in_force_up_to:
        return Taken(value, knob.nearest(part.in_force_up_to))
    return Taken(value, value)
