"""What the tuner told once and a logbook keeps: limits on knobs and sensors, and conditions nobody else knows."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import replace

from yondle.formats.documents import (
    ChosenBenchmarks,
    Conditions,
    Documents,
    HowTested,
    OwnLimits,
    OwnRanges,
    TypedWorkload,
    TypedWorkloads,
)
from yondle.language.saying import named, say
from yondle.logbook.keeping import Keeping
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Subsystem
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Limit
from yondle.model.workloads import Direction, Metric, Workload
from yondle.rigs.elsewhere.rig import NO_FIGURES

LONGEST_CONDITION = 200
LONGEST_NAME = 60


class OwnSettings:
    """The tuner's own limits and conditions; every change is kept when its call returns."""

    def __init__(self, keeping: Keeping, given: RigDeclaration) -> None:
        self._keeping = keeping
        self._given = given

    def declaration(self) -> RigDeclaration:
        """Lay the tuner's own limits over those the rig came with."""
        return with_own(self._given, self._keeping.documents)

    @property
    def guard_nothing(self) -> tuple[str, ...]:
        """Name the sensors that have a limit of the tuner's own and aren't there any more."""
        heard = {channel.id for channel in self._given.channels}
        kept = self._keeping.document(OwnLimits).root
        return tuple(self._named(c) for c, most in kept.items() if most is not None and c not in heard)

    def _named(self, channel_id: str) -> str:
        return next((c.name for c in self._given.absent.channels if c.id == channel_id), channel_id)

    def set_range(self, knob: Knob, low: float | None, high: float | None, now: float) -> tuple[float, float]:
        """Keep the lowest and highest value of a knob; raises KnownError when that would leave out the one in force."""
        least = knob.checked(low) if low is not None else knob.low
        most = knob.checked(high) if high is not None else knob.high
        if not least <= now <= most:
            raise KnownError(
                say("{knob} is at {now} now.", knob=knob.name, now=knob.text(now)),
                say("Bring it within the limit first, then set the limit."),
            )
        self._keeping.keep(OwnRanges({**self._keeping.document(OwnRanges).root, knob.id: (least, most)}))
        return least, most

    def set_limit(self, channel_id: str, most: float | None) -> None:
        """Keep the reading of a sensor above which a test is stopped; None takes the ceiling away."""
        channel = self._given.channel(channel_id)
        if most is not None and not math.isfinite(most):
            raise KnownError(
                say("{channel} can't be held below {most}.", channel=channel.name, most=most), say("Give a number.")
            )
        self._keeping.keep(OwnLimits({**self._keeping.document(OwnLimits).root, channel.id: most}))

    @property
    def typed(self) -> tuple[Workload, ...]:
        """The benchmarks whose figures are typed in or imported."""
        return typed_benchmarks(self._keeping.documents)

    def know_typed(self, name: str, unit: str, direction: Direction, digits: int) -> Workload:
        """Give the benchmark of a name whose figures come from elsewhere, known from now on if it wasn't; see `with_typed`."""
        before = self._keeping.document(TypedWorkloads)
        after, id_ = with_typed(before, self._given, name, unit, direction, digits)
        if after != before:
            self._keeping.keep(after)
        return next(w for w in self.typed if w.id == id_)

    def choose(self, benchmarks: tuple[str, ...]) -> None:
        """Keep which benchmarks are run; raises KnownError for one that isn't there, and for none at all."""
        offered = [w.id for w in self._given.workloads if w.scored]
        benchmarks = tuple(self._given.workload(name).id for name in benchmarks)
        unknown = [name for name in benchmarks if name not in offered]
        if unknown or not benchmarks:
            what = (
                say("There is no benchmark '{unknown}'.", unknown=unknown[0])
                if unknown
                else say("No benchmark would be run.")
            )
            raise KnownError(what, say("There are: {offered}.", offered=", ".join(offered)))
        self._keeping.keep(ChosenBenchmarks([name for name in offered if name in benchmarks]))

    @property
    def conditions(self) -> dict[str, str]:
        """What the tuner told about the rig that it can't find out by itself."""
        return self._keeping.document(Conditions).root

    def tell(self, told: Mapping[str, str]) -> None:
        """Keep conditions, all of them or none; an empty value takes one away."""
        if any(not name.strip() or max(len(name), len(value)) > LONGEST_CONDITION for name, value in told.items()):
            raise KnownError(
                say(
                    "A condition has a name and at most {longest_condition} characters.",
                    longest_condition=LONGEST_CONDITION,
                ),
                say("Shorten it."),
            )
        known = {**self.conditions, **{name.strip(): value.strip() for name, value in told.items()}}
        self._keeping.keep(Conditions({k: v for k, v in known.items() if v}))


def with_typed(
    before: TypedWorkloads,
    given: RigDeclaration,
    name: str,
    unit: str,
    direction: Direction,
    digits: int,
    group: Subsystem | None = None,
    load: bool = False,
) -> tuple[TypedWorkloads, str]:
    """Have the benchmark of a name among those whose figures come from elsewhere, with so many digits at least; gives its id.

    Raises KnownError where it is known with another unit or direction: figures of two kinds don't go together.
    """
    clean = name.strip()
    if not clean or max(len(clean), len(unit)) > LONGEST_NAME:
        raise KnownError(
            say("A benchmark has a name of 1 to {longest_name} characters.", longest_name=LONGEST_NAME),
            say("Shorten it."),
        )
    run = next((w for w in given.workloads if clean in (w.id, w.name)), None)
    if run is not None:
        raise KnownError(
            say("{run} is run by Yondle itself.", run=run.name),
            say("Give what was measured elsewhere another name."),
        )
    known = next((each for each in before.root if each.name.casefold() == clean.casefold()), None)
    if known is None:
        id_ = "typed_" + re.sub(r"[^a-z0-9]+", "_", clean.lower()).strip("_") + f"_{len(before.root) + 1}"
        made = TypedWorkload(id=id_, name=clean, unit=unit, direction=direction, digits=digits, group=group, load=load)
        return TypedWorkloads([*before.root, made]), id_
    if (known.unit, known.direction, known.load) != (unit, direction, load):
        asked = f"{known.unit or say('no unit')}, {named(known.direction)}"
        raise KnownError(
            say("{known} is kept in {asked}.", known=known.name, asked=asked), say("Give it so, or another name.")
        )
    if known.digits >= digits:
        return before, known.id
    finer = [each.model_copy(update={"digits": digits}) if each.id == known.id else each for each in before.root]
    return TypedWorkloads(finer), known.id


def with_own(given: RigDeclaration, kept: Documents) -> RigDeclaration:
    """Lay the tuner's own limits over those a rig came with; what is kept of knobs and sensors that aren't there stays unused."""
    here, heard = {knob.id for knob in given.knobs}, {channel.id for channel in given.channels}
    ranges = {knob: own for knob, own in kept.of(OwnRanges).root.items() if knob in here}
    floors = {**given.floors, **{knob: own[0] for knob, own in ranges.items()}}
    ceilings = {**given.ceilings, **{knob: own[1] for knob, own in ranges.items()}}
    chosen = tuple(kept.of(ChosenBenchmarks).root or given.chosen)
    most = {limit.channel: limit.most for limit in given.limits} | kept.of(OwnLimits).root
    typed, how = typed_benchmarks(kept), kept.of(HowTested)
    own = tuple(w for w in given.workloads if w.id != NO_FIGURES.id or not any(each.scored for each in typed))
    return replace(
        given,
        workloads=(*own, *typed),
        chosen=tuple(name for name in chosen if any(w.id == name for w in given.workloads)),
        floors={k: v for k, v in floors.items() if v > given.knob(k).low},
        ceilings={k: v for k, v in ceilings.items() if v < given.knob(k).high},
        step_passes=how.passes,
        settle_below=how.start_below if how.start_below is not None and given.settle_channel else given.settle_below,
        hard_load_s=how.load_s.get(given.hard_load, given.hard_load_s),
        loads_for={part: (load, how.load_s.get(load, s)) for part, (load, s) in given.loads_for.items()},
        limits=tuple(Limit(c, value) for c, value in most.items() if value is not None and c in heard),
    )


def typed_benchmarks(kept: Documents) -> tuple[Workload, ...]:
    """Give the benchmarks whose figures are typed in or imported."""
    return tuple(
        Workload(
            each.id, each.name, say("measured elsewhere, typed in or imported"),
            Metric(each.name, each.unit, each.direction, each.digits), 0.0, scored=not each.load,
            subsystem=each.group or Subsystem.PROCESSOR, grouped=each.group is not None,
            by_hand=True,
        )
        for each in kept.of(TypedWorkloads).root
    )  # fmt: skip
