"""What a rig tells about itself: its parts, its conditions, and how it answers a request to set something."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TypeVar

from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Setup
from yondle.model.sensors import Channel, Limit
from yondle.model.workloads import Workload


@dataclass(frozen=True, slots=True)
class RigInfo:
    """A machine as its tuner would describe it; `facts` holds parts, samples and versions by name."""

    id: str
    name: str
    place: str
    simulated: bool
    facts: dict[str, str] = field(default_factory=dict)


@dataclass(frozen=True, slots=True)
class KnobReply:
    """How the machine answered a value: what was asked, whether it was taken, and what it says in its own words."""

    knob: str
    asked: float
    taken: bool
    message: str = ""


@dataclass(frozen=True, slots=True)
class RigDeclaration:
    """Everything about a rig that is known before it runs; knobs, channels and workloads are declared here once."""

    info: RigInfo
    knobs: tuple[Knob, ...]
    channels: tuple[Channel, ...]
    workloads: tuple[Workload, ...]
    limits: tuple[Limit, ...]
    ceilings: dict[str, float]
    sample_interval_s: float
    settle_channel: str = ""
    settle_below: float = 0.0
    hard_load: str = ""
    hard_load_s: float = 0.0

    def knob(self, knob_id: str) -> Knob:
        """Find a knob by its id; raises KnownError naming the knobs there are."""
        return _find(self.knobs, knob_id, "knob", self.info.name)

    def workload(self, workload_id: str) -> Workload:
        """Find a workload by its id; raises KnownError naming the workloads there are."""
        return _find(self.workloads, workload_id, "workload", self.info.name)

    def channel(self, channel_id: str) -> Channel:
        """Find a sensor channel by its id; raises KnownError naming the channels there are."""
        return _find(self.channels, channel_id, "sensor", self.info.name)

    @property
    def benchmarks(self) -> tuple[Workload, ...]:
        """The workloads that yield a figure."""
        return tuple(w for w in self.workloads if w.scored)

    @property
    def stock(self) -> Setup:
        """The setup with every knob at stock."""
        return Setup.of({k.id: k.stock for k in self.knobs})


_Named = TypeVar("_Named", Knob, Workload, Channel)


def _find(things: tuple[_Named, ...], wanted: str, kind: str, rig: str) -> _Named:
    for thing in things:
        if thing.id == wanted:
            return thing
    known = ", ".join(thing.id for thing in things) or "none"
    raise KnownError(f"{rig} has no {kind} called '{wanted}'.", f"It has: {known}.")
