"""The knobs of a Linux machine, made from the helper's interfaces: names, units, steps, and what each is good for."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass

from yondle.language.saying import later, named, say
from yondle.model.knobs import Knob, Risk, Subsystem
from yondle.rigs.linux.helper import Interface

STEPS = (100.0, 50.0, 25.0, 20.0, 10.0, 5.0, 1.0)
"""Tried from the coarsest: the grid has to hold the ends of the range and the value that was found."""


@dataclass(frozen=True, slots=True)
class _About:
    """What is known of an interface besides its range."""

    name: str
    unit: str
    subsystem: Subsystem
    risk: Risk = Risk.NONE
    proportional: bool = False
    coarsest: float = 100.0
    about: str = ""
    governs: bool = False


_P, _G = Subsystem.PROCESSOR, Subsystem.GRAPHICS
_ABOUT: Mapping[str, _About] = {
    "core_clock_most": _About(later("Highest core clock"), "MHz", _P, Risk.UP, True),
    "core_clock_least": _About(later("Lowest core clock"), "MHz", _P),
    "governor": _About(later("Governor"), "", _P, about=later("how the kernel chooses the clock"), governs=True),
    "energy_preference": _About(
        later("Energy preference"), "", _P, about=later("what the processor itself leans to"), governs=True
    ),
    "boost": _About(later("Boost"), "", _P, about=later("clocks above the nominal one"), governs=True),
    "turbo": _About(later("Boost"), "", _P, about=later("clocks above the nominal one"), governs=True),
    "threads_per_core": _About(later("Second thread per core"), "", _P),
    "most_performance": _About(later("Highest performance"), "%", _P, proportional=True, coarsest=5.0, governs=True),
    "processors_on_line": _About(later("Processors online"), "", _P, proportional=True, coarsest=1.0),
    "power_limit_long": _About(later("Power limit, lasting"), "W", _P, Risk.UP, coarsest=5.0, governs=True),
    "power_limit_short": _About(later("Power limit, short"), "W", _P, Risk.UP, coarsest=5.0, governs=True),
    "power_mode": _About(later("Power mode"), "", Subsystem.WHOLE, governs=True),
    "fan": _About(later("Fan"), "%", Subsystem.COOLING, Risk.DOWN, coarsest=5.0, governs=True),
    "graphics_level": _About(later("Graphics performance level"), "", _G, governs=True),
    "graphics_power_limit": _About(later("Graphics power limit"), "W", _G, Risk.UP, coarsest=5.0, governs=True),
    "graphics_clock": _About(later("Graphics clock"), "MHz", _G, Risk.UP, True, 25.0),
    "graphics_memory_clock": _About(later("Graphics memory clock"), "MHz", _G, Risk.UP, True, 25.0),
    "graphics_voltage_offset": _About(later("Graphics voltage offset"), "mV", _G, Risk.DOWN, coarsest=5.0),
    "graphics_clock_most": _About(later("Highest graphics clock"), "MHz", _G, Risk.UP, True, 50.0),
    "large_pages": _About(
        later("Large pages"), "", Subsystem.MEMORY, about=later("memory in pages of 2 MiB instead of 4 KiB")
    ),
}


def knob_of(interface: Interface) -> Knob | None:
    """Make the knob of an interface; None for one that can't be read now or isn't known here."""
    about, tail = _about(interface.knob)
    now = interface.value()
    if about is None or now is None:
        return None
    name = f"{named(about.name)} {tail}".strip()
    if interface.choices:
        return Knob(
            interface.knob, name, "", about.subsystem, interface.low, interface.high, 1.0, now,
            choices=interface.choices, risk=about.risk, about=named(about.about), governs=about.governs,
        )  # fmt: skip
    low, high = math.ceil(interface.low), math.floor(interface.high)
    step = _step(low, high, now, about.coarsest)
    if step is None or not low <= now <= high or low == high:
        return None
    return Knob(
        interface.knob, name, about.unit, about.subsystem, low, high, step, now,
        risk=about.risk, proportional=about.proportional, about=named(about.about), governs=about.governs,
    )  # fmt: skip


def _about(knob: str) -> tuple[_About | None, str]:
    if knob in _ABOUT:
        return _ABOUT[knob], ""
    if knob.startswith("fan_"):
        return _ABOUT["fan"], knob.removeprefix("fan_").replace("_", " ")
    matched = re.fullmatch(r"(\w+)_(\d)", knob)
    return (_ABOUT.get(matched.group(1)), say("of card {group}", group=matched.group(2))) if matched else (None, "")


def _step(low: float, high: float, now: float, coarsest: float) -> float | None:
    for step in STEPS:
        if step <= coarsest and all(math.isclose(v % step, 0.0, abs_tol=1e-6) for v in (high - low, now - low)):
            return step
    return None
