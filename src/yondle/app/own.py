"""What the tuner told once and a logbook keeps: limits on knobs and sensors, and conditions nobody else knows."""

from __future__ import annotations

import math
from dataclasses import replace

from yondle.logbook.keeping import Keeping
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import Limit

LONGEST_CONDITION = 200


class Own:
    """The tuner's own limits and conditions; every change is kept when its call returns."""

    def __init__(self, keeping: Keeping, given: RigDeclaration) -> None:
        self._keeping = keeping
        self._given = given

    def declaration(self) -> RigDeclaration:
        """Lay the tuner's own limits over those the rig came with."""
        given, ranges = self._given, self._keeping.value("ranges") or {}
        floors = {**given.floors, **{knob: own[0] for knob, own in ranges.items()}}
        ceilings = {**given.ceilings, **{knob: own[1] for knob, own in ranges.items()}}
        most = {limit.channel: limit.most for limit in given.limits} | (self._keeping.value("limits") or {})
        return replace(
            given,
            floors={k: v for k, v in floors.items() if v > given.knob(k).low},
            ceilings={k: v for k, v in ceilings.items() if v < given.knob(k).high},
            limits=tuple(Limit(channel, value) for channel, value in most.items() if value is not None),
        )

    def set_range(self, knob: Knob, low: float | None, high: float | None, now: float) -> tuple[float, float]:
        """Keep the lowest and highest value of a knob; raises KnownError when that would leave out the one in force."""
        least = knob.checked(low) if low is not None else knob.low
        most = knob.checked(high) if high is not None else knob.high
        if not least <= now <= most:
            raise KnownError(
                f"{knob.name} is at {knob.text(now)} now.", "Bring it within the limit first, then set the limit."
            )
        self._keeping.keep("ranges", {**(self._keeping.value("ranges") or {}), knob.id: [least, most]})
        return least, most

    def set_limit(self, channel_id: str, most: float | None) -> None:
        """Keep the reading of a sensor above which a test is stopped; None takes the ceiling away."""
        channel = self._given.channel(channel_id)
        if most is not None and not math.isfinite(most):
            raise KnownError(f"{channel.name} can't be held below {most}.", "Give a number.")
        self._keeping.keep("limits", {**(self._keeping.value("limits") or {}), channel_id: most})

    @property
    def conditions(self) -> dict[str, str]:
        """What the tuner told about the rig that it can't find out by itself."""
        told: dict[str, str] = self._keeping.value("conditions") or {}
        return told

    def tell(self, name: str, value: str) -> None:
        """Keep a condition; an empty value takes it away."""
        if not name.strip() or max(len(name), len(value)) > LONGEST_CONDITION:
            raise KnownError(f"A condition has a name and at most {LONGEST_CONDITION} characters.", "Shorten it.")
        told = {**self.conditions, name.strip(): value.strip()}
        self._keeping.keep("conditions", {k: v for k, v in told.items() if v})
