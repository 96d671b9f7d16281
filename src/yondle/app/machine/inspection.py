"""What a rig offers, for 'inspect': what can be set and by whom, what can be read, what is missing and why it matters."""

from __future__ import annotations

from dataclasses import dataclass, field

from yondle.app.machine.machines import THIS, Machine, RigChoice, make_machine
from yondle.language.saying import named, say
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Reading

LOOKS, LOOKED_AT_S = 2, 0.6
"""Power and use are told by differences: a rig is read twice."""


@dataclass(frozen=True, slots=True)
class FamilyView:
    """A family of the kernel's interfaces: whether it is there and can be read, what it is good for, what to do if not."""

    name: str
    there: bool
    readable: bool
    where: str
    good_for: str
    if_missing: str


@dataclass(frozen=True, slots=True)
class Inspection:
    """A rig looked at once. `helper` says how what only root may set can be set, `helper_missing` why it can't be."""

    declaration: RigDeclaration
    readings: tuple[Reading, ...]
    families: tuple[FamilyView, ...] = ()
    helper: str = ""
    helper_missing: str = ""
    settable: tuple[str, ...] = field(default=())
    """What the kernel would let root set here, as the helper names it."""
    left_out: tuple[str, ...] = field(default=())
    """What is there and not offered, each with its reason."""
    unguarded: tuple[str, ...] = field(default=())
    """Temperatures whose chip tells a critical one that is none to go by, each with the reason."""


def inspect_rig(choice: RigChoice) -> Inspection:
    """Make a rig, read it, and let it go again."""
    machine = make_machine(choice, None, None)
    try:
        return _inspected(machine, choice.kind == THIS)
    finally:
        machine.rig.close()


def _inspected(machine: Machine, this: bool) -> Inspection:
    rig, clock = machine.rig, machine.clock
    for _ in range(LOOKS):
        readings = rig.sample()
        clock.wait(LOOKED_AT_S)
    readings = rig.sample()
    if not this:
        missing = machine.bench.contact.missing if machine.bench is not None else ""
        return Inspection(rig.declaration, readings, helper_missing=missing)
    from yondle.rigs.linux.knobs import left_out_words, offered
    from yondle.rigs.linux.privilege import find_way
    from yondle.rigs.linux.this import ThisRig

    families = families_here()
    way = find_way()
    here = offered()
    left_out = tuple(left_out_words(each) for each in here.left_out)
    probes = rig.probes if isinstance(rig, ThisRig) else []
    unguarded = tuple(f"{probe.channel.name}: {probe.junk}" for probe in probes if probe.junk)
    return Inspection(rig.declaration, readings, families, way.by, way.missing, tuple(here.knobs), left_out, unguarded)


def families_here() -> tuple[FamilyView, ...]:
    """Tell which of the kernel's interfaces this machine has; only looks whether they are there."""
    from yondle.rigs.linux.families import look
    from yondle.rigs.linux.files import Tree

    return tuple(
        FamilyView(
            named(f.name), there.there, there.readable, _where(there.where), named(f.good_for), named(f.if_missing)
        )
        for there in look(Tree())
        for f in (there.family,)
    )


def _where(files: tuple[str, ...]) -> str:
    if not files:
        return ""
    return files[0] if len(files) == 1 else say("{first} and {more} more", first=files[0], more=len(files) - 1)
