"""What a logbook about the real machine keeps besides its steps: stock, own workloads, meters, how workloads are run."""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import asdict, dataclass, field, replace
from pathlib import Path

from yondle.app.machine.allowing import is_allowed
from yondle.app.machine.clocks import RealClock
from yondle.app.machine.own_things import made_of
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
from yondle.language.saying import say
from yondle.logbook.keeping import Keeping
from yondle.model.errors import KnownError
from yondle.model.quantities import quantity
from yondle.model.rigs import RigDeclaration
from yondle.rigs.linux.guarding import PlanGuard
from yondle.rigs.linux.privilege import HelperLine, HelperWay, find_way
from yondle.rigs.linux.probe import Probe
from yondle.rigs.linux.this import ThisRig
from yondle.rigs.meters.meter import ANSWERS_WITHIN_S, Meter, MeterPlan
from yondle.workloads.command_file import DOCUMENT, parse_command
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


def make_this(setup: ThisSetup, real: RealClock, way: HelperWay | None = None, allowed: bool = False) -> ThisRig:
    """Make the real machine ready. Commands that weren't allowed on this machine are not offered, unless all are `allowed`."""
    commands = (parse_command(text, say("a workload in this logbook")) for text in setup.commands)
    own = tuple(command for command in commands if allowed or is_allowed(command))
    way = way or find_way()
    line = HelperLine(way.command) if way.command else None
    meters = [Meter(plan) for plan in setup.meters]
    probes = tuple(Probe(m.plan.channel(), m.read, m.plan.address, m.close) for m in meters)
    knobs_of_own, sensors_of_own = made_of(setup.own, allowed)
    probes += tuple(sensors_of_own)
    host = ChildHost(real.now, real.wake, own, setup.settings)
    guard = PlanGuard(line) if line is not None else None
    rig = ThisRig(host, real.now, line=line, more=probes, own=tuple(knobs_of_own), guard=guard)
    rig.declaration = with_stock(rig.declaration, setup)
    return rig


def with_stock(declaration: RigDeclaration, setup: ThisSetup) -> RigDeclaration:
    """Lay what was found first over what a real machine is at now, and what its tuner says of other programs."""
    knobs = tuple(
        replace(knob, stock=kept)
        if (kept := setup.stock.get(knob.id)) is not None and takes(knob.checked, kept)
        else knob
        for knob in declaration.knobs
    )
    others = declaration.others_at_most if setup.others_at_most is None else setup.others_at_most
    return replace(declaration, knobs=knobs, others_at_most=others)


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
        raise KnownError(say("Other programs use 0 to 100 % of the machine."), say("Give what you will tolerate in %."))
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
