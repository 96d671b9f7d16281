"""Prints what was found of a rig."""

from __future__ import annotations

from rich.console import Console

from yondle.app.machine.inspection import Inspection
from yondle.language.saying import CONDITION, named, say
from yondle.model.knobs import Knob
from yondle.model.quantities import between, quantity


def print_inspection(found: Inspection, console: Console) -> None:
    """Print parts, knobs, readings, and on a real machine the kernel's interfaces."""
    declared = found.declaration
    console.print(f"{declared.info.name} · {declared.info.place}")
    for name, value in declared.info.facts.items():
        console.print(f"  {named(name, CONDITION)}: {value}")
    console.print(say("Can be set:") if declared.knobs else say("Nothing can be set on this rig."))
    for knob in declared.knobs:
        ceiling = declared.ceilings.get(knob.id)
        own = say(", own ceiling {ceiling}", ceiling=knob.text(ceiling)) if ceiling is not None else ""
        by = say(", through the helper") if knob.id in found.settable else ""
        console.print(
            say(
                "  {id}: {knob}, {values}, stock {stock}{own}, {when}{by}",
                id=knob.id,
                knob=knob.name,
                values=_values(knob),
                stock=knob.text(knob.stock),
                own=own,
                when=knob.when,
                by=by,
            )
        )
    console.print(say("Can be read:"))
    for channel, reading in zip(declared.channels, found.readings, strict=True):
        shown = say("no reading") if reading is None else quantity(reading, channel.unit, channel.digits)
        console.print(f"  {channel.name}: {shown}")
    if found.families:
        _print_families(found, console)
    elif found.helper_missing:
        console.print(say("What only root may set:"))
        console.print(say("  can't be set: {helper_missing}.", helper_missing=found.helper_missing))


def _print_families(found: Inspection, console: Console) -> None:
    console.print(say("What only root may set:"))
    if found.helper:
        console.print(say("  is set {helper}, and put back when Yondle ends.", helper=found.helper))
    else:
        console.print(say("  can't be set: {helper_missing}.", helper_missing=found.helper_missing))
        if found.settable:
            console.print(say("  With it, these could be: {settable}.", settable=", ".join(found.settable)))
    if found.left_out:
        console.print(say("Found, but not offered:"))
        for words in found.left_out:
            console.print(f"  {words}")
    if found.unguarded:
        console.print(say("Stops no test, since its critical temperature can't be relied on:"))
        for words in found.unguarded:
            console.print(f"  {words}")
    console.print(say("The kernel's interfaces:"))
    for family in found.families:
        if family.there:
            note = "" if family.readable else say(", but you may not read it")
            console.print(
                say(
                    "  there    {family}{note} - {good_for}\n           {where}",
                    family=family.name,
                    note=note,
                    good_for=family.good_for,
                    where=family.where,
                )
            )
    for family in found.families:
        if not family.there:
            console.print(
                say(
                    "  missing  {family} - {good_for}\n           {if_missing}",
                    family=family.name,
                    good_for=family.good_for,
                    if_missing=family.if_missing,
                )
            )


def _values(knob: Knob) -> str:
    if knob.choices:
        return say(" or ").join(knob.choices)
    return say(
        "{low} to {high} by {step}",
        low=knob.bare(knob.low),
        high=knob.text(knob.high),
        step=quantity(knob.step, between(knob.unit), knob.digits + (between(knob.unit) != knob.unit)),
    )
