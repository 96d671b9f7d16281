"""What one pass measured beside its figure, by channel, and the one codec between that and the flat facts that are written."""

from __future__ import annotations

import sys
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field, replace
from functools import cache

Facts = Mapping[str, str | float]
"""As they are written: 'mean core_temperature', 'errors memory_errors', 'part shadows', and what else a workload tells."""

_NOTHING: Mapping[str, float] = {}
PER_WORKER, PER_SECOND = "per_worker", "per_second"


@dataclass(frozen=True, slots=True)
class Measured:
    """Readings of one pass by the ids of channels, and what its workload told.

    `mean` is over the samples of the pass (of a flag the share of the time it was set), `most` and `least` its extremes where
    they tell something, `start` what it read when the pass began where the machine had settled before; `errors` and
    `counted` how often a counter of errors or of events went up in it. `settings` are the values of knobs as the workload
    found them in effect, `parts` sub-scores by name, `told` everything else by the workload's own names.
    """

    mean: Mapping[str, float] = field(default_factory=lambda: _NOTHING)
    most: Mapping[str, float] = field(default_factory=lambda: _NOTHING)
    least: Mapping[str, float] = field(default_factory=lambda: _NOTHING)
    start: Mapping[str, float] = field(default_factory=lambda: _NOTHING)
    errors: Mapping[str, float] = field(default_factory=lambda: _NOTHING)
    counted: Mapping[str, float] = field(default_factory=lambda: _NOTHING)
    settings: Mapping[str, float] = field(default_factory=lambda: _NOTHING)
    parts: Mapping[str, float] = field(default_factory=lambda: _NOTHING)
    told: Facts = field(default_factory=lambda: _NOTHING)

    @classmethod
    def of(cls, facts: Facts) -> Measured:
        """Read it from flat facts; raises ValueError for a reading that is no number."""
        kinds: dict[str, dict[str, float]] = {}
        told: dict[str, str | float] = {}
        for name, value in facts.items():
            kind, id_ = _parted(name)
            if not kind:
                told[id_] = value
            elif isinstance(value, str):
                raise ValueError(name)
            else:
                kinds.setdefault(kind, {})[id_] = value
        return cls(**kinds, told=told) if told else cls(**kinds)

    def facts(self) -> dict[str, str | float]:
        """Write it as flat facts: channel by channel, then what was counted, sub-scores, and what the workload told."""
        return dict(self._facts())

    def _facts(self) -> Iterator[tuple[str, str | float]]:
        by_channel = {"mean": self.mean, "most": self.most, "least": self.least, "start": self.start}
        for id_ in dict.fromkeys(id_ for readings in by_channel.values() for id_ in readings):
            for word, readings in by_channel.items():
                if id_ in readings:
                    yield f"{word} {id_}", readings[id_]
        for word in ("errors", "counted", "measured", "part"):
            for id_, value in getattr(self, _KINDS[word]).items():
                yield f"{word} {id_}", value
        yield from self.told.items()

    def joined(self, other: Measured) -> Measured:
        """Put both together; where both tell the same the other's stands."""
        mine = ((name, getattr(self, name), getattr(other, name)) for name in (*_KINDS.values(), "told"))
        return replace(self, **{name: {**one, **two} for name, one, two in mine if two})

    @property
    def per_worker(self) -> tuple[float, ...]:
        """What each worker did, in the unit of the figure; empty where that isn't told."""
        return _numbers(self.told.get(PER_WORKER, ""))

    @property
    def per_second(self) -> tuple[float, ...]:
        """What was done in each second, in the unit of the figure; empty where that isn't told."""
        return _numbers(self.told.get(PER_SECOND, ""))


_KINDS = {
    "mean": "mean", "most": "most", "least": "least", "start": "start", "errors": "errors", "counted": "counted",
    "measured": "settings", "part": "parts",
}  # fmt: skip
"""The first word of a fact, and where it belongs."""

NOTHING_MEASURED = Measured()


@cache
def _parted(name: str) -> tuple[str, str]:
    """Part a fact's name into where it belongs and the id it is about; names, the same for every pass, are held once."""
    word, space, id_ = name.partition(" ")
    kind = _KINDS.get(word, "") if space else ""
    return kind, sys.intern(id_ if kind else name)


def _numbers(told: str | float) -> tuple[float, ...]:
    return tuple(float(part) for part in str(told).split(",") if part.strip())
