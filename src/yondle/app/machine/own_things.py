"""Knobs and sensors of the tuner's own: kept in a logbook as the text of their files, made where they are allowed."""

from __future__ import annotations

import shlex
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from yondle.app.machine.allowing import Allowable, allow, is_allowed
from yondle.formats.documents import Documents, OwnThings, OwnWorkloads
from yondle.formats.toml_files import read_text
from yondle.language.saying import say
from yondle.logbook.keeping import Keeping
from yondle.model.errors import KnownError
from yondle.model.rigs import RigDeclaration
from yondle.rigs.linux.probe import Probe
from yondle.rigs.own.knobs import OwnKnob
from yondle.rigs.own.own_file import DOCUMENT, KnobEntry, OwnThing, parse_own
from yondle.rigs.own.sensors import OWN, OwnSensor
from yondle.workloads.command_file import parse_command
from yondle.workloads.commands import OwnCommand


def read_own(file: Path) -> str:
    """Read a file of own knobs and sensors; raises KnownError for one that is missing, too large or no text."""
    return read_text(file, DOCUMENT)


def made_of(texts: tuple[str, ...], allowed: bool = False) -> tuple[list[OwnKnob], list[Probe]]:
    """Make the tuner's own knobs and sensors that were allowed on this machine, or all; what can't be read now is left out.

    `not_offered` says which those are, and why.
    """
    knobs, probes = [], []
    for thing in _things(texts):
        if not allowed and not is_allowed(thing):
            continue
        if isinstance(thing.entry, KnobEntry):
            with suppress(KnownError):
                knobs.append(OwnKnob(thing.id, thing.entry, thing.pattern))
        else:
            sensor = OwnSensor(thing.id, thing.entry, thing.pattern)
            probes.append(Probe(sensor.channel, sensor.read, sensor.source, sensor.close, most=thing.entry.stop_at))
    return knobs, probes


def not_offered(kept: Documents) -> list[str]:
    """Say of each of the tuner's own knobs that isn't offered why."""
    found = []
    for thing in _things(tuple(kept.of(OwnThings).root)):
        try:
            if not is_allowed(thing):
                found.append(say("{name}: not allowed on this machine yet", name=thing.entry.name))
            elif isinstance(thing.entry, KnobEntry):
                OwnKnob(thing.id, thing.entry, thing.pattern)
        except KnownError as error:
            found.append(f"{thing.entry.name}: {error.problem}")
    return found


def own_things(kept: Documents) -> list[OwnThing]:
    """List the tuner's own knobs and sensors in a logbook."""
    return _things(tuple(kept.of(OwnThings).root))


def _things(texts: tuple[str, ...]) -> list[OwnThing]:
    return [thing for text in texts for thing in parse_own(text, say("a file in this logbook"))]


def add_own(keeping: Keeping, text: str, source: str, taken: tuple[str, ...]) -> tuple[OwnThing, ...]:
    """Keep a file of the tuner's own knobs and sensors; one with any of the same ids is replaced. `taken` are ids of others."""
    things = parse_own(text, source)
    ids = {thing.id for thing in things}
    double = next((t for t in things if (t.id if t.is_knob else OWN + t.id) in taken), None)
    if double is not None:
        there = say("There is a knob '{id}' already.", id=double.id)
        there = there if double.is_knob else say("There is a sensor '{id}' already.", id=double.id)
        raise KnownError(there, say("Give yours another id."))
    kept = [each for each in keeping.document(OwnThings).root if not ids & {t.id for t in parse_own(each, source)}]
    written = {_written(each) for each in _things(tuple(kept))} - {""}
    if any(_written(each) in written for each in things):
        raise KnownError(
            say("{source}: two knobs write one file.", source=source),
            say("What one sets, the other would find not in force: leave one out."),
        )
    keeping.keep(OwnThings([*kept, text]))
    return things


def installed(declaration: RigDeclaration, own: set[str]) -> tuple[str, ...]:
    """Name the sensors that an administrator has installed; `own` are the ids of the tuner's own things."""
    ids = (channel.id for channel in declaration.channels)
    return tuple(id_ for id_ in ids if id_.startswith(OWN) and id_.removeprefix(OWN) not in own)


def ids_taken(kept: Documents, declaration: RigDeclaration) -> set[str]:
    """Name every id that a new thing of the tuner's own can't have: those of others, and of all the machine has."""
    knobs = {knob.id for knob in declaration.knobs}
    sensors = {channel.id.removeprefix(OWN) for channel in declaration.channels}
    return {thing.id for thing in own_things(kept)} | knobs | sensors


def _written(thing: OwnThing) -> str:
    return str(Path(thing.entry.file).resolve()) if thing.is_knob and thing.entry.file else ""


def remove_own(keeping: Keeping, id_: str) -> None:
    """Forget the file that a knob or sensor is of; what was tested with it stays."""
    kept = keeping.document(OwnThings).root
    left = [text for text in kept if id_ not in {thing.id for thing in _things((text,))}]
    if len(left) == len(kept):
        raise KnownError(
            say("There is no knob or sensor of yours called '{id}'.", id=id_), say("'yondle own list' lists them.")
        )
    keeping.keep(OwnThings(left))


@dataclass(frozen=True, slots=True)
class Asked:
    """What waits to be allowed: what it is called, and what it runs where."""

    name: str
    words: str
    what: Allowable

    def allow(self) -> None:
        """Allow it on this machine from now on."""
        allow(self.what)


def not_allowed(kept: Documents) -> list[Asked]:
    """List the logbook's commands, knobs and sensors that this user hasn't allowed yet."""
    commands = [parse_command(text, say("a workload in this logbook")) for text in kept.of(OwnWorkloads).root]
    asked = [Asked(c.workload.name, _runs(c), c) for c in commands if not is_allowed(c)]
    things = _things(tuple(kept.of(OwnThings).root))
    return [*asked, *(Asked(thing.entry.name, thing.runs(), thing) for thing in things if not is_allowed(thing))]


def _runs(command: OwnCommand) -> str:
    runs = shlex.join(command.command)
    if command.folder:
        return say("runs {command} in {folder}", command=runs, folder=command.folder)
    return say("runs {command}", command=runs)
