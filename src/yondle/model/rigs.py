"""What a rig tells about itself: its parts, its conditions, and how it answers a request to set something."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace
from difflib import get_close_matches
from typing import TypeVar

from yondle.language.saying import later, named, say
from yondle.model.derived import DERIVED, Derived, derived_values
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Setup, Subsystem, When
from yondle.model.sensors import Channel, Limit
from yondle.model.workloads import Workload

ELSEWHERE = "elsewhere"
"""The machine of a logbook that runs nothing, by its id; nothing is set or tested there."""


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
    after_restart: bool = False
    """Taken, but in force only after a restart."""


@dataclass(frozen=True, slots=True)
class Absent:
    """What a machine had when its record was written and doesn't offer now; names and units of old tests come from it."""

    knobs: tuple[Knob, ...] = ()
    channels: tuple[Channel, ...] = ()
    workloads: tuple[Workload, ...] = ()


@dataclass(frozen=True, slots=True)
class RigDeclaration:
    """Everything about a rig that is known before it runs; knobs, channels and workloads are declared here once."""

    info: RigInfo
    knobs: tuple[Knob, ...]
    channels: tuple[Channel, ...]
    workloads: tuple[Workload, ...]
    limits: tuple[Limit, ...]
    ceilings: dict[str, float]
    """The highest value of a knob that this tuner stands for."""
    sample_interval_s: float
    settle_channel: str = ""
    settle_below: float | None = None
    """What rounds start below; None where the baseline is to find it."""
    limiter_window_s: float | None = None
    """Over how long the slowest power limiter takes its mean; None where nothing tells."""
    hard_load: str = ""
    hard_load_s: float = 0.0
    loads_for: dict[Subsystem, tuple[str, float]] = field(default_factory=dict)
    """The load, with its seconds, that a change in a subsystem is checked with before the hard load."""
    constants: dict[str, float] = field(default_factory=dict)
    """What derived quantities need and no knob sets, such as the memory channels fitted."""
    codes: dict[str, tuple[Subsystem, str]] = field(default_factory=dict)
    """What the codes mean that the board shows where a start stops."""
    restart_s: float = 0.0
    entry_s: float = 0.0
    floors: dict[str, float] = field(default_factory=dict)
    """The lowest value of a knob that this tuner stands for."""
    others_at_most: float = 5.0
    """Work of other programs, in % of the machine, above which a pass is a disturbed one."""
    step_passes: int | None = None
    """Score passes of a step, where the tuner wants others than the usual ones."""
    chosen: tuple[str, ...] = ()
    """The benchmarks that are run; all there are when none was chosen."""
    asks: tuple[str, ...] = ()
    """Conditions the rig can't find out by itself, which the tuner is asked for once."""
    absent: Absent = Absent()
    lends: bool = False
    """True where settings last only while Yondle runs: whoever sets them puts everything back when it ends."""

    def knob(self, knob_id: str) -> Knob:
        """Find a knob by its id, also one that is gone by now; raises KnownError naming the knobs there are."""
        return _find((*self.knobs, *self.absent.knobs), knob_id, later("knob"), self.info.name)

    def workload(self, workload_id: str) -> Workload:
        """Find a workload by its id, also one that is gone by now; raises KnownError naming the workloads there are."""
        return _find((*self.workloads, *self.absent.workloads), workload_id, later("workload"), self.info.name)

    def channel(self, channel_id: str) -> Channel:
        """Find a sensor channel by its id, also one that is gone by now; raises KnownError naming the channels there are."""
        return _find((*self.channels, *self.absent.channels), channel_id, later("sensor"), self.info.name)

    def playing(self, *roles: str) -> Channel | None:
        """Find the channel that plays the first of these roles that any plays."""
        return next((c for role in roles for c in self.channels if c.plays == role), None)

    def limited(self, name: str) -> tuple[Knob | None, Channel | None]:
        """Find a knob, else a sensor, by its id or name; raises KnownError naming both kinds where it is neither."""
        knobs = [k for k in self.knobs if _plainly(name) in (_plainly(k.id), _plainly(k.name))]
        things: tuple[Knob | Channel, ...] = (*(knobs or self.knobs), *(self.channels if not knobs else ()))
        found = _find(things, name, later("knob or sensor"), self.info.name)
        return (found, None) if isinstance(found, Knob) else (None, found)

    def settable(self, knob_id: str) -> Knob:
        """Find a knob that can be set now; raises KnownError for one that is gone, and for one that never was."""
        knob = self.knob(knob_id)
        if knob not in self.knobs:
            raise KnownError(
                say("{knob} isn't offered on {rig} any more.", knob=knob.name, rig=self.info.name),
                say("'yondle inspect' says what can be set here and what is missing."),
            )
        return knob

    def fitted(self, setup: Setup) -> Setup:
        """Bring a setup that was written with another set of knobs to the present one.

        A knob that came since was at stock then, as it was found. One that is gone is left out where it was at stock:
        nobody has to set it. Where it wasn't, it stays, and the setup can't be put in force here (`not_offered`).
        """
        here = {knob.id for knob in self.knobs}
        if here == set(setup):
            return setup
        gone = {knob.id: knob.stock for knob in self.absent.knobs}
        kept = {k: v for k, v in setup.items() if k in here or gone.get(k) != v}
        return Setup.of({**{knob.id: knob.stock for knob in self.knobs}, **kept})

    def not_offered(self, setup: Setup) -> tuple[str, ...]:
        """Name the values of a setup that can't be set now, since their knobs are gone."""
        here = {knob.id for knob in self.knobs}
        known = {knob.id: knob for knob in self.absent.knobs}
        return tuple(
            f"{known[k].name} {known[k].text(v)}" if k in known else f"{k} {v:g}"
            for k, v in setup.items()
            if k not in here
        )

    def own_range(self, knob: Knob) -> tuple[float, float]:
        """Give the lowest and highest value of a knob that this tuner stands for."""
        return self.floors.get(knob.id, knob.low), self.ceilings.get(knob.id, knob.high)

    def beyond(self, knob: Knob, value: float) -> str:
        """Say which of the tuner's own limits a value lies beyond; nothing where it is allowed."""
        if self.allows(knob, value):
            return ""
        low, high = self.own_range(knob)
        side, limit = (say("above"), high) if value > high else (say("below"), low)
        return say(
            "{knob} {value} is {side} your own limit of {limit}",
            knob=knob.name,
            value=knob.text(value),
            side=side,
            limit=knob.text(limit),
        )

    def allows(self, knob: Knob, value: float) -> bool:
        """Tell whether a value lies within what this tuner stands for."""
        low, high = self.own_range(knob)
        if value in knob.stops:
            low, high = self.floors.get(knob.id, value), self.ceilings.get(knob.id, value)
        return low - knob.step * 1e-6 <= value <= high + knob.step * 1e-6

    @property
    def read_ever(self) -> tuple[Channel, ...]:
        """The sensors there are and those that were there before: what they read stays, as of a meter since removed."""
        return (*self.channels, *self.absent.channels)

    @property
    def benchmarks(self) -> tuple[Workload, ...]:
        """The workloads that yield a figure and are chosen, with those whose figures come from elsewhere."""
        return tuple(w for w in self.workloads if w.scored and (w.by_hand or not self.chosen or w.id in self.chosen))

    @property
    def stock(self) -> Setup:
        """The setup with every knob at stock."""
        return Setup.of({k.id: k.stock for k in self.knobs})

    def derived(self, setup: Setup) -> dict[str, float]:
        """Work out the derived quantities of a setup."""
        return derived_values(self._meant(setup), self.constants)

    @property
    def derived_of(self) -> tuple[Derived, ...]:
        """The derived quantities this rig can have."""
        found = self.derived(self.stock)
        return tuple(replace(d, name=named(d.name), formula=named(d.formula)) for d in DERIVED if d.id in found)

    def _meant(self, setup: Setup) -> dict[str, float]:
        """Knob values as quantities: a switch between '1' and '2' modules means its name, not its place in the list."""
        return {
            knob.plays: float(knob.bare(setup[knob.id])) if knob.choices and _is_count(knob) else setup[knob.id]
            for knob in self.knobs
            if knob.id in setup
        }

    def differing(self, before: Setup, after: Setup, *when: When) -> dict[str, float]:
        """Give the values of `after` that differ from `before`, of knobs that are set in one of these ways."""
        return {
            knob.id: after[knob.id]
            for knob in self.knobs
            if knob.when in when and knob.id in after and before.get(knob.id) != after[knob.id]
        }


def _is_count(knob: Knob) -> bool:
    return all(name.isdigit() for name in knob.choices)


_Named = TypeVar("_Named", Knob, Workload, Channel, Knob | Channel)


def _find(things: tuple[_Named, ...], wanted: str, kind: str, rig: str) -> _Named:
    """Find a thing by its id, or by its name as it is shown, however it is written; else say what may have been meant."""
    for thing in things:
        if thing.id == wanted:
            return thing
    plain = _plainly(wanted)
    named_so = [thing for thing in things if plain in (_plainly(thing.id), _plainly(thing.name))]
    if len(named_so) == 1:
        return named_so[0]
    problem = say("{rig} has no {kind} called '{wanted}'.", rig=rig, kind=named(kind), wanted=wanted)
    if len(named_so) > 1:
        ids = ", ".join(thing.id for thing in named_so)
        raise KnownError(say("'{wanted}' could be several: {ids}.", wanted=wanted, ids=ids), say("Name one of them."))
    by_name = {spelled: thing.id for thing in things for spelled in (_plainly(thing.id), _plainly(thing.name))}
    near = list(dict.fromkeys(by_name[spelled] for spelled in get_close_matches(plain, by_name, 3, _NEAR_ENOUGH)))
    if near:
        raise KnownError(problem, say("Did you mean {near}?", near=say(" or ").join(near)))
    raise KnownError(problem, say("It has: {known}.", known=", ".join(thing.id for thing in things) or say("none")))


_NEAR_ENOUGH = 0.7
"""How alike two spellings have to be (twice the letters in common over all letters) for the one to be a slip of the other."""


def _plainly(words: str) -> str:
    return re.sub(r"[\s_-]+", " ", words).strip().casefold()
