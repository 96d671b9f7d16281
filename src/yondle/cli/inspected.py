"""Prints what was found of a rig."""

from __future__ import annotations

from rich.console import Console

from yondle.app.views.inspection import Inspection
from yondle.model.knobs import Knob
from yondle.model.quantities import quantity


def print_inspection(found: Inspection, console: Console) -> None:
    """Print parts, knobs, readings, and on a real machine the kernel's interfaces."""
    declared = found.declaration
    console.print(f"{declared.info.name} · {declared.info.place}")
    for name, value in declared.info.facts.items():
        console.print(f"  {name}: {value}")
    console.print("Can be set:" if declared.knobs else "Nothing can be set on this rig.")
    for knob in declared.knobs:
        ceiling = declared.ceilings.get(knob.id)
        own = f", own ceiling {knob.text(ceiling)}" if ceiling is not None else ""
        by = ", through the helper" if knob.id in found.settable else ""
        console.print(f"  {knob.id}: {knob.name}, {_values(knob)}, stock {knob.text(knob.stock)}{own}, {knob.when}{by}")
    console.print("Can be read:")
    for channel, reading in zip(declared.channels, found.readings, strict=True):
        shown = "no reading" if reading is None else quantity(reading, channel.unit, channel.digits)
        console.print(f"  {channel.name}: {shown}")
    if found.families:
        _print_families(found, console)


def _print_families(found: Inspection, console: Console) -> None:
    console.print("What only root may set:")
    if found.helper:
        console.print(f"  is set {found.helper}, and put back when Yondle ends.")
    else:
        console.print(f"  can't be set: {found.helper_missing}.")
        if found.settable:
            console.print(f"  With it, these could be: {', '.join(found.settable)}.")
    console.print("The kernel's interfaces:")
    for family in found.families:
        if family.there:
            note = "" if family.readable else ", but you may not read it"
            console.print(f"  there    {family.name}{note} - {family.good_for}\n           {family.where}")
    for family in found.families:
        if not family.there:
            console.print(f"  missing  {family.name} - {family.good_for}\n           {family.if_missing}")


def _values(knob: Knob) -> str:
    if knob.choices:
        return " or ".join(knob.choices)
    return f"{knob.bare(knob.low)} to {knob.text(knob.high)} by {knob.text(knob.step)}"
