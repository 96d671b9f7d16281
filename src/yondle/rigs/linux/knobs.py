"""The knobs of a Linux machine, made from the helper's interfaces: names, units, steps, and what each is good for."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path

from pydantic import ValidationError

from yondle.language.saying import later, named, say
from yondle.model.knobs import Knob, Risk, Subsystem
from yondle.rigs.linux.administrators import wrong_sensors
from yondle.rigs.linux.root.helper.found import find_all
from yondle.rigs.linux.root.helper.interfaces import Interface, LeftOut, Why
from yondle.rigs.linux.root.helper.own import Own
from yondle.rigs.own.own_file import KnobEntry

STEPS = (100.0, 50.0, 25.0, 20.0, 10.0, 5.0, 1.0)
"""Tried from the coarsest: the grid has to hold both ends of the range, else it is one that has so many values."""
ENOUGH = 20


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
    step: float = 0.0
    digits: int = 0


_P, _G, _C = Subsystem.PROCESSOR, Subsystem.GRAPHICS, Subsystem.COOLING
_LOWER = later("the lower of the two limiters decides")
_LIE_ABOVE = later("how long the power may lie above it")


def _power_limit(name: str, about: str = "") -> _About:
    return _About(name, "W", _P, Risk.UP, coarsest=5.0, about=about, governs=True)


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
    "power_limit_long": _power_limit(later("Power limit, long term")),
    "power_limit_short": _power_limit(later("Power limit, short term")),
    "power_limit_peak": _power_limit(later("Power limit, peak")),
    "power_window_long": _About(later("Window of the long-term power limit"), "", _P, about=_LIE_ABOVE, governs=True),
    "power_window_short": _About(later("Window of the short-term power limit"), "", _P, about=_LIE_ABOVE, governs=True),
    "power_limit_long_mapped": _power_limit(later("Power limit, long term, of the second limiter"), _LOWER),
    "power_limit_short_mapped": _power_limit(later("Power limit, short term, of the second limiter"), _LOWER),
    "power_mode": _About(later("Power mode"), "", Subsystem.WHOLE, governs=True),
    "fan": _About(later("Fan"), "%", Subsystem.COOLING, Risk.DOWN, coarsest=5.0, governs=True),
    "graphics_level": _About(later("Graphics performance level"), "", _G, governs=True),
    "graphics_power_limit": _About(later("Graphics power limit"), "W", _G, Risk.UP, coarsest=5.0, governs=True),
    "graphics_clock": _About(later("Graphics clock"), "MHz", _G, Risk.UP, True, 25.0),
    "graphics_memory_clock": _About(later("Graphics memory clock"), "MHz", _G, Risk.UP, True, 25.0),
    "graphics_clock_lowest": _About(later("Graphics clock, lower end"), "MHz", _G, coarsest=25.0),
    "graphics_voltage": _About(later("Graphics voltage"), "mV", _G, Risk.DOWN, coarsest=5.0),
    "graphics_memory_voltage": _About(later("Graphics memory voltage"), "mV", _G, Risk.DOWN, coarsest=5.0),
    "graphics_curve_voltage": _About(later("Graphics voltage at point"), "mV", _G, Risk.DOWN, coarsest=5.0),
    "graphics_profile": _About(later("Graphics profile"), "", _G, governs=True),
    "graphics_fan_target": _About(
        later("Graphics fan, temperature aimed at"), "°C", _C, Risk.UP, coarsest=5.0, governs=True
    ),
    "graphics_fan_minimum": _About(later("Graphics fan, lowest level"), "%", _C, coarsest=5.0, governs=True),
    "graphics_fan_limit": _About(
        later("Graphics fan, highest speed"), "rpm", _C, Risk.DOWN, coarsest=100.0, governs=True
    ),
    "graphics_fan_goal": _About(
        later("Graphics fan, speed aimed at"), "rpm", _C, Risk.DOWN, coarsest=100.0, governs=True
    ),
    "graphics_fan_curve": _About(later("Graphics fan at point"), "%", _C, Risk.DOWN, coarsest=5.0, governs=True),
    "graphics_voltage_offset": _About(later("Graphics voltage offset"), "mV", _G, Risk.DOWN, coarsest=5.0),
    "graphics_clock_offset": _About(
        later("Graphics clock offset"),
        "MHz",
        _G,
        Risk.UP,
        coarsest=5.0,
        about=later("added at every voltage of its curve"),
    ),
    "graphics_memory_clock_offset": _About(later("Graphics memory clock offset"), "MHz", _G, Risk.UP, coarsest=5.0),
    "graphics_fan_level": _About(later("Graphics fan, level"), "%", _C, Risk.DOWN, coarsest=5.0, governs=True),
    "graphics_clock_least": _About(later("Lowest graphics clock"), "MHz", _G, coarsest=50.0),
    "graphics_clock_most": _About(later("Highest graphics clock"), "MHz", _G, Risk.UP, True, 50.0),
    "large_pages": _About(
        later("Large pages"), "", Subsystem.MEMORY, about=later("memory in pages of 2 MiB instead of 4 KiB")
    ),
}


@dataclass(frozen=True, slots=True)
class Offered:
    """What a machine offers: interfaces and their knobs by name, and what is there and not offered."""

    interfaces: Mapping[str, Interface]
    knobs: Mapping[str, Knob]
    left_out: tuple[LeftOut, ...]


def offered(root: Path = Path("/"), owner: int = 0) -> Offered:
    """Look at what there is, and tell what can be a knob from what can't; `owner` is who an administrator's files belong to."""
    found = find_all(root, owner)
    knobs = {name: knob for name, each in found.interfaces.items() if (knob := knob_of(each)) is not None}
    others = (
        LeftOut(
            name, each.files[0], Why.WRONG if isinstance(each, Own) else Why.NO_RANGE, f"{each.low:g} {each.high:g}"
        )
        for name, each in found.interfaces.items()
        if name not in knobs
    )
    return Offered(
        {name: found.interfaces[name] for name in knobs}, knobs, (*found.left_out, *others, *wrong_sensors(root, owner))
    )


def left_out_words(left: LeftOut) -> str:
    """Say what is there and not offered, where, and why."""
    about, tail = _about(left.knob)
    name = f"{named(about.name)} {tail}".strip() if about is not None else left.knob
    says = " ".join(left.says.split())[:MOST_SAID]
    return f"{name}: {named(_WHY[left.why]).replace('{says}', says)} ({left.file})"


MOST_SAID = 40
_WHY = {
    Why.ONE_CHOICE: later("there is nothing to choose but '{says}'"),
    Why.NO_RANGE: later("the kernel tells no range for it"),
    Why.NOT_PUT_BACK: later("what it is at now, '{says}', couldn't be put back"),
    Why.SWITCHED_OFF: later("it is switched off elsewhere: '{says}'"),
    Why.ONLY_MANUAL: later("it is shown only at performance level 'manual': set that, then open the logbook again"),
    Why.NOT_WHAT_IS_SET: later("it tells what is in force just now, not what is set"),
    Why.HAS_NONE: later("this processor has none"),
    Why.NOT_READ: later("what it says can't be read: '{says}'"),
    Why.WRONG: later("its description is wrong: {says}"),
    Why.DIFFERS: later("its parts are at different values: {says}"),
    Why.LEADS_OUT: later("its file leads out of the kernel's own tree"),
    Why.BY_LIBRARY: later(
        "its driver shows it through its maker's library alone: install the library's Python binding '{says}' for this Python"
        " and for root's, then open the logbook again"
    ),
    Why.NOT_TOLD: later(
        "its maker's library can fix it, but nothing tells to what it is fixed, so it couldn't be put back"
    ),
}


def knob_of(interface: Interface) -> Knob | None:
    """Make the knob of an interface; None for one that can't be read now, has no range, or isn't known here.

    What was found is its stock and one of its values, on the grid, between two steps, or beyond the range.
    """
    about, tail = _of_own(interface) if isinstance(interface, Own) else _about(interface.knob)
    now = interface.value()
    if about is None or now is None:
        return None
    name = f"{named(about.name)} {tail}".strip()
    if interface.choices:
        return Knob(
            interface.knob, name, "", about.subsystem, interface.low, interface.high, 1.0, now,
            choices=interface.choices, risk=about.risk, about=named(about.about), governs=about.governs,
        )  # fmt: skip
    low, high = interface.low, interface.high
    if not low < high:
        return None
    step = about.step or _step(high - low, about.coarsest)
    on_grid = low <= now <= high and math.isclose((now - low) / step, round((now - low) / step), abs_tol=1e-6)
    return Knob(
        interface.knob, name, about.unit, about.subsystem, low, high, step, now, about.digits, stops=() if on_grid else (now,),
        risk=about.risk, proportional=about.proportional, about=named(about.about), governs=about.governs,
    )  # fmt: skip


def _of_own(interface: Own) -> tuple[_About | None, str]:
    """Give what an administrator's file says of a knob; None where that is wrong."""
    try:
        told = KnobEntry.model_validate(interface.entry)
    except ValidationError:
        return None, ""
    return _About(
        told.name, told.unit, told.works, told.risk, told.proportional, about=told.about, governs=told.limits,
        step=told.step, digits=told.digits,
    ), ""  # fmt: skip


def _about(knob: str) -> tuple[_About | None, str]:
    """Find what is known of an interface by the first words of its name, and say what it is of by the rest."""
    if knob.startswith("fan_"):
        return _ABOUT["fan"], knob.removeprefix("fan_").replace("_", " ")
    for known in sorted(_ABOUT, key=len, reverse=True):
        if knob == known:
            return _ABOUT[known], ""
        if knob.startswith(f"{known}_"):
            return _ABOUT[known], _of_what(knob.removeprefix(f"{known}_"))
    return None, ""


def _of_what(tail: str) -> str:
    kind = re.fullmatch(r"kind_(\d+)_of_(\d+)", tail)
    if kind is not None:
        place, many = int(kind.group(1)), int(kind.group(2))
        if place == 1:
            return say("of the fastest cores") if many > 2 else say("of the faster cores")
        if place == many:
            return say("of the slowest cores") if many > 2 else say("of the slower cores")
        return say("of the cores between") if many == 3 else say("of cores of kind {place}", place=place)
    point = re.fullmatch(r"(\d)(?:_(.+))?", tail)
    if point is not None:
        return point.group(1) + (f" {_of_what(point.group(2))}" if point.group(2) else "")
    bus = re.fullmatch(r"[0-9a-f]{4}_([0-9a-f]{2})_([0-9a-f]{2})_(\d)", tail)
    return say("of card {group}", group="{}:{}.{}".format(*bus.groups()) if bus is not None else tail.replace("_", " "))


def _step(span: float, coarsest: float) -> float:
    fits = (step for step in STEPS if step <= coarsest and math.isclose(math.remainder(span, step), 0.0, abs_tol=1e-6))
    enough = (step for step in STEPS if step <= coarsest and span / step >= ENOUGH)
    return next(fits, None) or next(enough, STEPS[-1])
