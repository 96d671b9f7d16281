"""Heron's evening: the demo logbook, made by really running the example climb on the simulated rig."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

from yondle.app.machine.machines import choose_rig
from yondle.app.plans.plans import AfterMove, StartPlan, make_move, never, told_by_steps
from yondle.app.profiles.profiles import KeepProfile
from yondle.app.session.commands import Command
from yondle.app.session.opening import create_logbook, machine_file
from yondle.app.session.owner import Errand
from yondle.app.session.requests import Stop, heeded
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryFrom
from yondle.language.saying import say
from yondle.model.events import Record
from yondle.model.rigs import RigDeclaration
from yondle.planning.climb import Tried
from yondle.planning.plan_files import parse_plan
from yondle.planning.plans import Plan, moves

DEMO_PACE = 20.0
NEIGHBOURS = ("heron-ii", "bittern")
MEMORY_TUNED = {
    "memory_rate": 6400.0, "cas": 36.0, "trcd": 38.0, "trp": 36.0, "tras": 70.0, "trfc": 700.0, "memory_voltage": 1.25,
    "controller_voltage": 1.15,
}  # fmt: skip
"""What Heron II's better memory takes."""
SWEEP = """
format = "yondle-plan 1"
name = "power limits"
passes = 5
[[do]]
kind = "sweep"
knob = "power_limit"
from = {low}
to = {high}
by = 5
"""
EVENING = Path(__file__).parent / "plans" / "heron-evening.toml"
LEAST_POWER_W, MOST_POWER_W = 40.0, 110.0


@dataclass(frozen=True)
class RunNeighbours(Errand[list[Path]]):
    """Run Heron II, its memory tuned, and Bittern along their power limits, to compare with; gives their logbooks.

    One that is there already is left as it is; one that was stopped over is taken away, to be run whole another time.
    """

    folder: Path
    stopped: Callable[[], bool] = never

    def run(self) -> list[Path]:
        """Give the logbooks that are there."""
        paths = [self.folder / f"{name}.yondle" for name in NEIGHBOURS]
        for name, path in zip(NEIGHBOURS, paths, strict=True):
            if not path.exists() and not self.stopped():
                self._run(name, path)
        return [path for path in paths if path.exists()]

    def _run(self, name: str, path: Path) -> None:
        session, stopped = create_logbook(path, choose_rig(name)), self.stopped
        _stop_when(session, stopped)
        try:
            baseline = session.do(RunBaseline())
            if name == "heron-ii" and not stopped():
                kept = session.do(TryFrom(baseline.step.number, MEMORY_TUNED))
                session.do(KeepProfile(say("Memory"), step=kept.step.number))
            if not stopped():
                sweep_power(session, stopped)
        finally:
            session.close()
        if stopped():
            for half_run in (path, machine_file(path)):
                half_run.unlink(missing_ok=True)


def _stop_when(session: Session, stopped: Callable[[], bool]) -> None:
    """Stop a session's tests as soon as it is asked, not only between two of them."""

    def look(_: Record) -> None:
        if stopped():
            session.do(Stop())

    session.subscribe(look)


def sweep_power(session: Session, stopped: Callable[[], bool] = lambda: False) -> None:
    """Sweep the power limit from where the rig is."""
    low, high = session.declaration.own_range(session.declaration.knob("power_limit"))
    plan = SWEEP.format(low=max(low, LEAST_POWER_W), high=min(high, MOST_POWER_W))
    session.do(StartPlan(plan, say("power limits"), paused=stopped))


def evening(declaration: RigDeclaration) -> Plan:
    """Read the plan of Heron's example."""
    return parse_plan(EVENING.read_text("utf-8"), EVENING.name, declaration)


@dataclass(frozen=True)
class RunEvening(Command[None]):
    """Run the example: the baseline, then every move of its plan; `after` hears each. Ends early when asked to."""

    after: AfterMove = told_by_steps
    stopped: Callable[[], bool] = never
    tests = runs = True

    def do(self, session: Session) -> None:
        """Run it, with the rig's owner entering values by hand."""
        with session.unattended():
            self._run(session)

    def _run(self, session: Session) -> None:
        baseline = RunBaseline().do(session)
        self.after(None, baseline)
        rests = session.rests
        if rests.position is None or self.stopped():
            return
        start = Tried(baseline.verdict, rests.in_force, rests.position, rests.position)
        going = moves(evening(session.declaration), session.declaration, start)
        try:
            move = next(going)
            while True:
                record = make_move(session, move)
                self.after(move, record)
                if self.stopped() or heeded(session) or rests.position is None:
                    going.close()
                    return
                move = going.send(Tried(record.verdict, rests.in_force, rests.position, record.step.number))
        except StopIteration:
            return
