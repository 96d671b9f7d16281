"""Puts a rig and its clock together from what a logbook says about it."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING

from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere, VirtualHands
from yondle.engine.ports import Clock, Hands, Rig
from yondle.formats.documents import ClockAhead, Documents, KnobsElsewhere, SensorsElsewhere
from yondle.formats.toml_files import read_text
from yondle.language.saying import say
from yondle.logbook.keeping import Keeping
from yondle.model.errors import KnownError
from yondle.model.kept import Keeper
from yondle.model.rigs import ELSEWHERE, Absent
from yondle.model.steps import Attempt, StartAnswer
from yondle.rigs.bench.clock import BenchClock
from yondle.rigs.bench.ssh import SCHEME, Address, address_of
from yondle.rigs.byhand.rig import DOCUMENT, ByHandRig, knobs_by_hand, parse_by_hand
from yondle.rigs.elsewhere.rig import ElsewhereRig
from yondle.rigs.simulated.clock import VirtualClock
from yondle.rigs.simulated.rig import SimulatedRig
from yondle.rigs.simulated.rigfile import parse_rig_file, rig_text

if TYPE_CHECKING:
    from yondle.app.machine.this_machine import ThisSetup
    from yondle.rigs.bench.rig import BenchRig
    from yondle.rigs.linux.guarding import PlanGuard

SIMULATED = "simulated"
THIS, BENCH = "this", "bench"
PACES = (1.0, 20.0, 200.0)


@dataclass(frozen=True, slots=True)
class Machine:
    """A rig with its clock, and whoever can enter values in its firmware without the tuner.

    `virtual` is the clock of a simulated rig, whose pace can be chosen, `guard` what restarts a real one that freezes in a plan,
    `keeper` what keeps profiles over its restarts, `bench` the one across the room.
    """

    rig: Rig
    clock: Clock
    hands: Hands
    virtual: VirtualClock | None = None
    guard: PlanGuard | None = None
    keeper: Keeper | None = None
    bench: BenchRig | None = None

    @property
    def elsewhere(self) -> bool:
        """Tell whether it is a machine that runs no Yondle: nothing is set or run there."""
        return isinstance(self.rig, ElsewhereRig)

    @property
    def away(self) -> bool:
        """Tell whether it is a bench that can't be reached now."""
        return self.bench is not None and self.bench.away

    def last_start(self) -> StartAnswer:
        """Tell how the latest start went, as far as the machine knows; else that it started."""
        return self.rig.last_start() if isinstance(self.rig, SimulatedRig) else StartAnswer()


@dataclass(frozen=True, slots=True)
class RigChoice:
    """Which rig a new logbook is about: its kind, its name, and the definition kept in the logbook."""

    kind: str
    name: str
    definition: str


def choose_rig(which: str, seed: int | None = None, by_hand: Path | None = None, name: str = "") -> RigChoice:
    """Find a rig by name or file; the whole definition goes into the logbook, so it needs nothing else later.

    `by_hand` is a file of knobs that are set by hand on this machine, or that describes one elsewhere, called `name`.
    """
    if which == ELSEWHERE:
        return RigChoice(ELSEWHERE, name.strip() or say("A machine elsewhere"), _by_hand_text(by_hand))
    if which == THIS:
        return RigChoice(THIS, say("This machine"), _by_hand_text(by_hand))
    if which.startswith(SCHEME):
        address = bench_at(which)
        return RigChoice(BENCH, address.host, f"{address}\n{_by_hand_text(by_hand)}")
    if by_hand is not None:
        raise KnownError(
            say("A simulated rig has no knobs set by hand."), say("Leave --by-hand out, or use --rig this.")
        )
    text, source = rig_text(which)
    rig = parse_rig_file(text, source)
    if seed is not None:
        text = _reseeded(text, rig.rig.seed, seed)
    SimulatedRig(rig)
    return RigChoice(SIMULATED, rig.rig.name, text)


def make_machine(
    choice: RigChoice,
    machine_file: Path | None,
    pace: float | None,
    last_time_s: float = 0.0,
    goes_down: Callable[[], None] | None = None,
    this: ThisSetup | None = None,
) -> Machine:
    """Make the rig of a logbook ready.

    A simulated one goes on from its machine file, never before `last_time_s`; `this` says how the real one is measured.
    """
    real = RealClock()
    if choice.kind == THIS:
        from yondle.app.machine.this_machine import ThisSetup, make_this
        from yondle.rigs.linux.keeping import ThisKeeper

        rig_here = make_this(this or ThisSetup(), real)
        here = with_by_hand(rig_here, by_hand_of(choice))
        return Machine(here, real, NobodyThere(), guard=rig_here.guard, keeper=ThisKeeper())
    if choice.kind == BENCH:
        from yondle.app.machine.bench import make_bench

        return make_bench(choice)
    if choice.kind == ELSEWHERE:
        return elsewhere_of(choice)
    if choice.kind != SIMULATED:
        raise KnownError(
            say("The logbook is about a rig of kind '{kind}', which this Yondle doesn't know.", kind=choice.kind),
            say("Open it with the Yondle that made it."),
        )
    rig_file = parse_rig_file(choice.definition, say("the rig in this logbook"))
    rig = SimulatedRig(rig_file, machine_file, goes_down)
    rig.catch_up(last_time_s)
    clock = VirtualClock(rig.world, rig_file.rig.starts_at, real, pace)
    return Machine(rig, clock, VirtualHands(rig, clock), clock)


def elsewhere_of(choice: RigChoice, kept: Documents | None = None) -> Machine:
    """Give a machine elsewhere: with the knobs it was described with, and what a logbook keeps of those described since."""
    knobs = kept.of(KnobsElsewhere).root if kept is not None else {}
    sensors = kept.of(SensorsElsewhere).root if kept is not None else []
    first = knobs_by_hand(choice.definition, say("the rig in this logbook")) if choice.definition else {}
    return Machine(ElsewhereRig(choice.name, {**first, **knobs}, sensors), RealClock(), NobodyThere())


def bench_at(text: str) -> Address:
    """Read where a machine across the room is, with or without its scheme; raises KnownError for what is no address."""
    return address_of(text.strip() if text.strip().startswith(SCHEME) else f"{SCHEME}{text.strip()}")


def by_hand_of(choice: RigChoice) -> str:
    """Give the text of the knobs set by hand on a real machine; nothing where there are none."""
    return choice.definition.partition("\n")[2] if choice.kind == BENCH else choice.definition


def with_by_hand(rig: Rig, text: str) -> Rig:
    """Put the knobs set by hand on a real machine."""
    return ByHandRig(rig, text) if text else rig  # type: ignore[arg-type]


def with_absent(machine: Machine, absent: Absent) -> Machine:
    """Let a real machine know what its record speaks of and it doesn't offer now."""
    machine.rig.declaration = replace(machine.rig.declaration, absent=absent)  # type: ignore[misc]
    return machine


def goes_on(clock: Clock, boot_id: str, keeping: Keeping, latest: Attempt | None, last_s: float) -> None:
    """Let the clock of a real machine go on from where its record ends, so that durations hold over its restarts.

    `latest` is the attempt made last, `last_s` the latest time on record. How far the clock runs ahead is kept with the
    boot it holds for: of the computer whose clock it is.
    """
    if not isinstance(clock, RealClock | BenchClock):
        return
    kept = keeping.find(ClockAhead)
    ahead_s = 0.0
    if kept is not None and kept.boot == boot_id:
        ahead_s = kept.ahead_s
    elif latest is not None and (kept is not None or latest.boot_id != boot_id):
        gone_s = (clock.wall() - datetime.fromisoformat(latest.started_at)).total_seconds()
        ahead_s = max(last_s, latest.started_s + gone_s) - clock.now()
    clock.go_on(ahead_s)
    if kept != (told := ClockAhead(boot=boot_id, ahead_s=ahead_s)):
        keeping.keep(told)


def _by_hand_text(path: Path | None) -> str:
    if path is None:
        return ""
    text = read_text(path, DOCUMENT)
    parse_by_hand(text, str(path))
    return text


def _reseeded(text: str, old: int, new: int) -> str:
    reseeded = text.replace(f"seed = {old}", f"seed = {new}", 1)
    if parse_rig_file(reseeded, say("the rig")).rig.seed != new:
        raise KnownError(
            say("The seed in this rig file can't be replaced."), say("Write it as 'seed = 123' on its own line.")
        )
    return reseeded
