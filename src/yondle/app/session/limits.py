"""What the tuner stands for: ranges of knobs, ceilings of sensors, the benchmarks that are run, and conditions told."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass

from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.session import Session
from yondle.formats.documents import HowTested, UnfoldedGroups
from yondle.language.saying import say
from yondle.model.errors import KnownError

LONGEST_LOAD_S = 86_400


class _Rule(Command[None]):
    while_testing = WhileTesting.BETWEEN_PASSES


@dataclass(frozen=True)
class LimitRange(_Rule):
    """Set the lowest and highest value of a knob that this tuner stands for; None is the end of its range.

    Raises KnownError when that would leave out the value in force.
    """

    knob: str
    low: float | None
    high: float | None

    def do(self, session: Session) -> None:
        """Keep it; a proposal outside of it is dropped."""
        knob = session.declaration.settable(self.knob)
        now = session.rests.in_force.get(knob.id, knob.stock)
        least, most = session.own.set_range(knob, self.low, self.high, now)
        session.take_own_limits()
        proposed = session.proposal.value(knob.id) if session.proposal else None
        if proposed is not None and not least <= proposed <= most:
            session.proposal = None


@dataclass(frozen=True)
class LimitReading(_Rule):
    """Set the reading of a sensor above which a test is stopped; None takes the ceiling away."""

    channel: str
    most: float | None

    def do(self, session: Session) -> None:
        """Keep it."""
        session.own.set_limit(self.channel, self.most)
        session.take_own_limits()


@dataclass(frozen=True)
class ChooseBenchmarks(_Rule):
    """Run these benchmarks from now on."""

    benchmarks: tuple[str, ...]

    def do(self, session: Session) -> None:
        """Keep the choice."""
        session.own.choose(self.benchmarks)
        session.take_own_limits()


@dataclass(frozen=True)
class ChangeHowTested(_Rule):
    """Test steps with so many passes and seconds of loads from now on, rounds starting below a reading; None as is usual.

    Raises KnownError for what no test can be run with.
    """

    passes: int | None
    load_s: Mapping[str, float]
    start_below: float | None

    def do(self, session: Session) -> None:
        """Keep it."""
        if self.passes is not None:
            checked_passes(self.passes)
        for load, seconds in self.load_s.items():
            session.declaration.workload(load)
            if not 0.0 <= seconds <= LONGEST_LOAD_S:
                raise KnownError(
                    say("A load can't last {seconds:g} s.", seconds=seconds),
                    say("Give 0 to leave it out, or up to {most} s.", most=LONGEST_LOAD_S),
                )
        if self.start_below is not None and not math.isfinite(self.start_below):
            raise KnownError(say("Rounds can't start below that."), say("Give a temperature in °C."))
        session.keep(HowTested(passes=self.passes, load_s=dict(self.load_s), start_below=self.start_below))
        session.take_own_limits()


def checked_passes(passes: int) -> int:
    """Give the number of passes; raises KnownError for one that can't be run."""
    if not 2 <= passes <= 200:
        raise KnownError(
            say("{passes} passes can't be run.", passes=passes), say("Give 2 to 200; fewer than 3 tell little.")
        )
    return passes


@dataclass(frozen=True)
class TellConditions(Command[None]):
    """Keep conditions the rig can't find out; an empty value takes one away. All of them or none."""

    told: Mapping[str, str]
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> None:
        """Keep them; they are noted with every test that begins from now on."""
        session.own.tell(self.told)
        session.take_documents()


@dataclass(frozen=True)
class UnfoldGroups(Command[None]):
    """Keep which groups of knobs are shown."""

    groups: tuple[str, ...]
    while_testing = WhileTesting.AT_NEXT_READING

    def do(self, session: Session) -> None:
        """Keep them."""
        session.keep(UnfoldedGroups(list(self.groups)))
