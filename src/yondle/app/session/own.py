"""What the tuner told once and a logbook keeps: limits on knobs and sensors, and conditions nobody else knows."""

from __future__ import annotations

import math
import re
from dataclasses import replace

from yondle.language.saying import named, say
from yondle.logbook.keeping import Keeping
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Limit
from yondle.model.workloads import Direction, Metric, Workload

LONGEST_CONDITION = 200
LONGEST_NAME = 60
CHOSEN, TYPED = "chosen benchmarks", "typed workloads"


class OwnSettings:
    """The tuner's own limits and conditions; every change is kept when its call returns."""

    def __init__(self, keeping: Keeping, given: RigDeclaration) -> None:
        self._keeping = keeping
        self._given = given

    def declaration(self) -> RigDeclaration:
        """Lay the tuner's own limits over those the rig came with."""
        given = self._given
        here, heard = {knob.id for knob in given.knobs}, {channel.id for channel in given.channels}
        ranges = {knob: own for knob, own in (self._keeping.value("ranges") or {}).items() if knob in here}
        floors = {**given.floors, **{knob: own[0] for knob, own in ranges.items()}}
        ceilings = {**given.ceilings, **{knob: own[1] for knob, own in ranges.items()}}
        chosen = tuple(self._keeping.value(CHOSEN) or given.chosen)
        most = {limit.channel: limit.most for limit in given.limits} | (self._keeping.value("limits") or {})
        return replace(
            given,
            workloads=(*given.workloads, *self.typed),
            chosen=tuple(name for name in chosen if any(w.id == name for w in given.workloads)),
            floors={k: v for k, v in floors.items() if v > given.knob(k).low},
            ceilings={k: v for k, v in ceilings.items() if v < given.knob(k).high},
            limits=tuple(Limit(c, value) for c, value in most.items() if value is not None and c in heard),
        )

    @property
    def guard_nothing(self) -> tuple[str, ...]:
        """Name the sensors that have a limit of the tuner's own and aren't there any more."""
        heard = {channel.id for channel in self._given.channels}
        kept = self._keeping.value("limits") or {}
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
        self._keeping.keep("ranges", {**(self._keeping.value("ranges") or {}), knob.id: [least, most]})
        return least, most

    def set_limit(self, channel_id: str, most: float | None) -> None:
        """Keep the reading of a sensor above which a test is stopped; None takes the ceiling away."""
        channel = self._given.channel(channel_id)
        if most is not None and not math.isfinite(most):
            raise KnownError(
                say("{channel} can't be held below {most}.", channel=channel.name, most=most), say("Give a number.")
            )
        self._keeping.keep("limits", {**(self._keeping.value("limits") or {}), channel.id: most})

    @property
    def typed(self) -> tuple[Workload, ...]:
        """The benchmarks whose figures are typed in or imported."""
        return tuple(
            Workload(
                kept["id"], kept["name"], say("measured elsewhere, typed in or imported"),
                Metric(kept["name"], kept["unit"], Direction(kept["direction"]), kept["digits"]), 0.0, by_hand=True,
            )
            for kept in self._keeping.value(TYPED) or []
        )  # fmt: skip

    def know_typed(self, name: str, unit: str, direction: Direction, digits: int) -> Workload:
        """Give the benchmark of a name whose figures come from elsewhere, known from now on if it wasn't.

        Raises KnownError where it is known with another unit or direction: figures of two kinds don't go together.
        """
        clean = name.strip()
        if not clean or max(len(clean), len(unit)) > LONGEST_NAME:
            raise KnownError(
                say("A benchmark has a name of 1 to {longest_name} characters.", longest_name=LONGEST_NAME),
                say("Shorten it."),
            )
        run = next((w for w in self._given.workloads if clean in (w.id, w.name)), None)
        if run is not None:
            raise KnownError(
                say("{run} is run by Yondle itself.", run=run.name),
                say("Give what was measured elsewhere another name."),
            )
        known = next((w for w in self.typed if w.name.casefold() == clean.casefold()), None)
        if known is not None:
            if (known.metric.unit, known.metric.direction) != (unit, direction):
                asked = f"{known.metric.unit or say('no unit')}, {named(known.metric.direction)}"
                raise KnownError(
                    say("{known} is kept in {asked}.", known=known.name, asked=asked),
                    say("Give it so, or another name."),
                )
            return known if known.metric.digits >= digits else self._finer(known, digits)
        id_ = "typed_" + re.sub(r"[^a-z0-9]+", "_", clean.lower()).strip("_") + f"_{len(self.typed) + 1}"
        kept = {"id": id_, "name": clean, "unit": unit, "direction": direction.value, "digits": digits}
        self._keeping.keep(TYPED, [*(self._keeping.value(TYPED) or []), kept])
        return self.typed[-1]

    def _finer(self, known: Workload, digits: int) -> Workload:
        """Show the figures of a benchmark with more digits after the point from now on."""
        kept = self._keeping.value(TYPED) or []
        self._keeping.keep(TYPED, [{**each, "digits": digits} if each["id"] == known.id else each for each in kept])
        return next(w for w in self.typed if w.id == known.id)

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
        self._keeping.keep(CHOSEN, [name for name in offered if name in benchmarks])

    @property
    def conditions(self) -> dict[str, str]:
        """What the tuner told about the rig that it can't find out by itself."""
        told: dict[str, str] = self._keeping.value("conditions") or {}
        return told

    def tell(self, name: str, value: str) -> None:
        """Keep a condition; an empty value takes it away."""
        if not name.strip() or max(len(name), len(value)) > LONGEST_CONDITION:
            raise KnownError(
                say(
                    "A condition has a name and at most {longest_condition} characters.",
                    longest_condition=LONGEST_CONDITION,
                ),
                say("Shorten it."),
            )
        told = {**self.conditions, name.strip(): value.strip()}
        self._keeping.keep("conditions", {k: v for k, v in told.items() if v})
