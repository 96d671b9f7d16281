"""What a logbook about the real machine keeps besides its steps: stock, own workloads, meters, how workloads are run."""

from __future__ import annotations

import os
import shlex
import stat
from collections.abc import Callable
from contextlib import suppress
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path

from platformdirs import user_config_path

from yondle.app.machine.clocks import RealClock
from yondle.engine.ports import Clock
from yondle.formats.documents import (
    Documents,
    FoundStock,
    KeptMeter,
    KeptMeters,
    OthersAtMost,
    OwnThings,
    OwnWorkloads,
    RunSettings,
)
from yondle.formats.toml_files import read_text
from yondle.formats.whole_files import own_folder, write_whole
from yondle.language.saying import say
from yondle.logbook.keeping import Keeping
from yondle.model.errors import KnownError
from yondle.model.quantities import quantity
from yondle.model.rigs import RigDeclaration
from yondle.rigs.linux.privilege import HelperLine, find_way
from yondle.rigs.linux.probe import Probe
from yondle.rigs.linux.this import ThisRig
from yondle.rigs.meters.meter import ANSWERS_WITHIN_S, Meter, MeterPlan
from yondle.rigs.own.knobs import OwnKnob
from yondle.rigs.own.own_file import DOCUMENT as OWN_DOCUMENT
from yondle.rigs.own.own_file import KnobEntry, OwnThing, parse_own
from yondle.rigs.own.own_file import fingerprint as own_fingerprint
from yondle.rigs.own.sensors import OwnSensor
from yondle.workloads.command_file import DOCUMENT, fingerprint, parse_command
from yondle.workloads.commands import OwnCommand
from yondle.workloads.host import ChildHost, WorkloadSettings

MOST_MEMORY_MIB = 1 << 24
METER_LOOKED_AT_S = 0.05


@dataclass(frozen=True, slots=True)
class ThisSetup:
    """How the real machine is to be measured. `stock` holds what was found first; `others_at_most` is in %."""

    settings: WorkloadSettings = field(default_factory=WorkloadSettings)
    commands: tuple[str, ...] = ()
    meters: tuple[MeterPlan, ...] = ()
    own: tuple[str, ...] = ()
    stock: dict[str, float] = field(default_factory=dict)
    others_at_most: float | None = None


def setup_of(kept: Documents) -> ThisSetup:
    """Read it from what a logbook keeps."""
    run = kept.of(RunSettings)
    settings = WorkloadSettings(run.nice, run.memory_mib, run.folder, tuple(run.processors))
    meters = tuple(_plan_of(meter) for meter in kept.of(KeptMeters).root)
    commands = tuple(kept.of(OwnWorkloads).root)
    own = tuple(kept.of(OwnThings).root)
    return ThisSetup(settings, commands, meters, own, kept.of(FoundStock).root, kept.of(OthersAtMost).root)


def _plan_of(meter: KeptMeter) -> MeterPlan:
    return MeterPlan(
        meter.name, meter.address, meter.unit, meter.ask, meter.field, meter.factor, meter.baud, meter.follows
    )


def make_this(setup: ThisSetup, real: RealClock) -> ThisRig:
    """Make the real machine ready. Commands that weren't allowed on this machine are not offered."""
    own = tuple(c for text in setup.commands if is_allowed(c := parse_command(text, say("a workload in this logbook"))))
    way = find_way()
    line = HelperLine(way.command) if way.command else None
    meters = [Meter(plan) for plan in setup.meters]
    probes = tuple(Probe(m.plan.channel(), m.read, m.plan.address, m.close) for m in meters)
    knobs_of_own, sensors_of_own = made_of(setup.own)
    probes += tuple(sensors_of_own)
    host = ChildHost(real.now, real.wake, own, setup.settings)
    rig = ThisRig(host, real.now, line=line, more=probes, own=tuple(knobs_of_own))
    knobs = tuple(
        replace(knob, stock=kept)
        if (kept := setup.stock.get(knob.id)) is not None and takes(knob.checked, kept)
        else knob
        for knob in rig.declaration.knobs
    )
    others = rig.declaration.others_at_most if setup.others_at_most is None else setup.others_at_most
    rig.declaration = replace(rig.declaration, knobs=knobs, others_at_most=others)
    return rig


def keep_stock(keeping: Keeping, declaration: RigDeclaration) -> None:
    """Keep what was found first: stock is what the machine was like before Yondle, not since it was last interrupted."""
    kept = keeping.document(FoundStock).root
    new = {knob.id: knob.stock for knob in declaration.knobs if knob.readable and knob.id not in kept}
    if new:
        keeping.keep(FoundStock({**kept, **new}))


def takes(checked: Callable[[float], float], value: float) -> bool:
    """Tell whether a knob takes a value."""
    try:
        checked(value)
    except KnownError:
        return False
    return True


def keep_settings(keeping: Keeping, settings: WorkloadSettings, others_at_most: float | None) -> None:
    """Keep how workloads are run; raises KnownError for settings that can't be."""
    if not -20 <= settings.nice <= 19:
        raise KnownError(
            say("A niceness of {nice} doesn't exist.", nice=settings.nice), say("Give -20 (first) to 19 (last).")
        )
    if not 0 <= settings.memory_mib <= MOST_MEMORY_MIB:
        raise KnownError(
            say("{memory_mib} MiB can't be taken.", memory_mib=settings.memory_mib),
            say("Give what memory loads may take in MiB, 0 for half."),
        )
    if settings.folder and not os.access(settings.folder, os.W_OK | os.X_OK):
        raise KnownError(
            say("{folder} is no folder that can be written in.", folder=settings.folder), say("Name another.")
        )
    missing = [cpu for cpu in settings.processors if cpu not in os.sched_getaffinity(0)]
    if missing:
        raise KnownError(
            say("There is no processor {missing}.", missing=missing[0]),
            say("There are: {sorted}.", sorted=sorted(os.sched_getaffinity(0))),
        )
    if others_at_most is not None and not 0 < others_at_most <= 100:
        raise KnownError(
            say("Other programs use 0 to 100 % of the machine."), say("Give what you will put up with in %.")
        )
    keeping.keep(RunSettings(**{**asdict(settings), "processors": list(settings.processors)}))
    keeping.keep(OthersAtMost(others_at_most))


def add_command(keeping: Keeping, text: str, source: str, taken: tuple[str, ...]) -> OwnCommand:
    """Keep a workload of the user's own; one of the same name is replaced. `taken` are the names of other workloads."""
    command = parse_command(text, source)
    if command.workload.id in taken:
        raise KnownError(
            say("There is a workload '{id}' already.", id=command.workload.id), say("Give yours another id.")
        )
    kept = keeping.document(OwnWorkloads).root
    others = [t for t in kept if parse_command(t, source).workload.id != command.workload.id]
    keeping.keep(OwnWorkloads([*others, text]))
    return command


def read_command(file: Path) -> str:
    """Read the file of a command; raises KnownError for one that is missing, too large or no text."""
    return read_text(file, DOCUMENT)


def read_own(file: Path) -> str:
    """Read a file of own knobs and sensors; raises KnownError for one that is missing, too large or no text."""
    return read_text(file, OWN_DOCUMENT)


def own_ids(kept: Documents) -> set[str]:
    """Name the logbook's workloads that are the user's own commands."""
    return {parse_command(text, say("a kept workload")).workload.id for text in setup_of(kept).commands}


def remove_command(keeping: Keeping, workload: str) -> None:
    """Forget a workload of the user's own; its results stay."""
    kept = keeping.document(OwnWorkloads).root
    left = [text for text in kept if parse_command(text, say("a kept workload")).workload.id != workload]
    if len(left) == len(kept):
        raise KnownError(
            say("There is no workload of yours called '{workload}'.", workload=workload),
            say("'yondle benchmarks' lists them."),
        )
    keeping.keep(OwnWorkloads(left))


def made_of(texts: tuple[str, ...]) -> tuple[list[OwnKnob], list[Probe]]:
    """Make the tuner's own knobs and sensors that were allowed on this machine; what can't be read now is left out.

    `not_offered` says which those are, and why.
    """
    knobs, probes = [], []
    for thing in _things(texts):
        if not is_allowed(thing):
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
    for thing in _things(setup_of(kept).own):
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
    return _things(setup_of(kept).own)


def _things(texts: tuple[str, ...]) -> list[OwnThing]:
    return [thing for text in texts for thing in parse_own(text, say("a file in this logbook"))]


def add_own(keeping: Keeping, text: str, source: str, taken: tuple[str, ...]) -> tuple[OwnThing, ...]:
    """Keep a file of the tuner's own knobs and sensors; one with any of the same ids is replaced. `taken` are ids of others."""
    things = parse_own(text, source)
    ids = {thing.id for thing in things}
    double = next((thing.id for thing in things if thing.is_knob and thing.id in taken), None)
    if double is not None:
        raise KnownError(say("There is a knob '{id}' already.", id=double), say("Give yours another id."))
    kept = [each for each in keeping.document(OwnThings).root if not ids & {t.id for t in parse_own(each, source)}]
    written = {_written(each) for each in _things(tuple(kept))} - {""}
    if any(_written(each) in written for each in things):
        raise KnownError(
            say("{source}: two knobs write one file.", source=source),
            say("What one sets, the other would find not in force: leave one out."),
        )
    keeping.keep(OwnThings([*kept, text]))
    return things


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


def allowed_commands_file() -> Path:
    """Where the commands are kept that this user has allowed, as fingerprints, one a line."""
    return user_config_path("yondle", appauthor=False) / "allowed-commands"


Allowable = OwnCommand | OwnThing


def is_allowed(what: Allowable) -> bool:
    """Tell whether this user has allowed a command, a knob or a sensor on this machine."""
    try:
        return _fingerprint(what) in _allowed()
    except KnownError:
        return False


def _fingerprint(what: Allowable) -> str:
    return own_fingerprint(what) if isinstance(what, OwnThing) else fingerprint(what)


def _allowed() -> list[str]:
    """List the fingerprints that were allowed; a file that others could have written is not believed."""
    try:
        with allowed_commands_file().open("r", encoding="ascii", errors="replace") as file:
            about = os.fstat(file.fileno())
            safe = about.st_uid == os.getuid() and not about.st_mode & (stat.S_IWGRP | stat.S_IWOTH)
            return file.read().split() if safe else []
    except OSError:
        return []


def allow(what: Allowable) -> None:
    """Allow a command, a knob or a sensor on this machine from now on; raises KnownError where its program isn't there.

    That is kept with the user, never in a logbook, which may be another's.
    """
    if is_allowed(what):
        return
    file = allowed_commands_file()
    own_folder(file.parent)
    write_whole(file, "".join(f"{each}\n" for each in (*_allowed(), _fingerprint(what))), mode=0o600)


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


def add_meter(keeping: Keeping, plan: MeterPlan) -> None:
    """Keep a meter; one of the same name is replaced."""
    others = [each for each in keeping.document(KeptMeters).root if each.name != plan.name]
    keeping.keep(KeptMeters([*others, KeptMeter(**asdict(plan))]))


def try_meter(
    keeping: Keeping, clock: Clock, name: str, address: str, unit: str, ask: str, field_: int, factor: float, baud: int,
    follows: str,
) -> str:  # fmt: skip
    """Keep a meter that answers, and say what it reads; raises KnownError for one that doesn't."""
    plan = MeterPlan(name, address, unit, ask, field_, factor, baud, follows)
    meter = Meter(plan)
    try:
        limit = clock.now() + 2 * ANSWERS_WITHIN_S
        while (reading := meter.read()) is None and clock.now() < limit:
            clock.wait(METER_LOOKED_AT_S)
    finally:
        meter.close()
    if reading is None:
        why = f" ({meter.trouble})" if meter.trouble else ""
        raise KnownError(
            say("The meter at {address} gives no reading{why}.", address=address, why=why),
            say("Check its address, its speed and its query."),
        )
    add_meter(keeping, plan)
    return say(
        "{name} reads {reading}; it is sampled from now on.",
        name=name,
        reading=quantity(reading, unit, plan.channel().digits),
    )


def remove_meter(keeping: Keeping, name: str) -> None:
    """Forget a meter."""
    kept = keeping.document(KeptMeters).root
    left = [each for each in kept if each.name != name]
    if len(left) == len(kept):
        raise KnownError(
            say("There is no meter called '{name}'.", name=name),
            say("There are: {kept}.", kept=", ".join(each.name for each in kept) or say("none yet")),
        )
    keeping.keep(KeptMeters(left))
