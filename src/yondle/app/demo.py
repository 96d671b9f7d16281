"""Heron's evening: the demo logbook, made by really running the example climb on the simulated rig."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yondle.app.machine.machines import choose_rig
from yondle.app.plans.plans import AfterMove, make_move, start_plan
from yondle.app.profiles.profiles import keep_profile
from yondle.app.session.session import Session, machine_file
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


def run_neighbours(folder: Path, stopped: Callable[[], bool] = lambda: False) -> list[Path]:
    """Run Heron II, its memory tuned, and Bittern along their power limits, to compare with; gives their logbooks.

    One that is there already is left as it is; one that was stopped over is taken away, to be run whole another time.
    """
    paths = [folder / f"{name}.yondle" for name in NEIGHBOURS]
    for name, path in zip(NEIGHBOURS, paths, strict=True):
        if path.exists() or stopped():
            continue
        session = Session.create(path, choose_rig(name))
        _stop_when(session, stopped)
        try:
            baseline = session.baseline()
            if name == "heron-ii" and not stopped():
                kept = session.try_from(baseline.step.number, MEMORY_TUNED, None)
                keep_profile(session, say("Memory"), number=kept.step.number)
            if not stopped():
                sweep_power(session, stopped)
        finally:
            session.close()
        if stopped():
            for half_run in (path, machine_file(path)):
                half_run.unlink(missing_ok=True)
    return [path for path in paths if path.exists()]


def _stop_when(session: Session, stopped: Callable[[], bool]) -> None:
    """Stop a session's tests as soon as it is asked, not only between two of them."""

    def look(_: Record) -> None:
        if stopped():
            session.stop()

    session.subscribe(look)


def sweep_power(session: Session, stopped: Callable[[], bool] = lambda: False) -> None:
    """Sweep the power limit from where the rig is."""
    low, high = session.declaration.own_range(session.declaration.knob("power_limit"))
    plan = SWEEP.format(low=max(low, LEAST_POWER_W), high=min(high, MOST_POWER_W))
    start_plan(session, plan, say("power limits"), lambda *_: None, stopped)


def evening(declaration: RigDeclaration) -> Plan:
    """Read the plan of Heron's example."""
    return parse_plan(EVENING.read_text("utf-8"), EVENING.name, declaration)


def run_evening(session: Session, after: AfterMove, stopped: Callable[[], bool] = lambda: False) -> None:
    """Run the example: the baseline, then every move of its plan; `after` hears each. Ends early when asked to."""
    baseline = session.baseline()
    after(None, baseline)
    if session.position is None or stopped():
        return
    number = session.position.step.number
    going = moves(
        evening(session.declaration), session.declaration, Tried(baseline.verdict, session.in_force, number, number)
    )
    try:
        move = next(going)
        while True:
            record = make_move(session, move)
            after(move, record)
            if stopped() or session.heed_request() or session.position is None:
                going.close()
                return
            here = session.position.step.number
            move = going.send(Tried(record.verdict, session.in_force, here, record.step.number))
    except StopIteration:
        return
