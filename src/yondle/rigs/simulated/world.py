"""The hidden state of the simulated machine and its law of motion; sensors and benchmarks only look at it."""

from __future__ import annotations

import json
import math
import os
from dataclasses import asdict, dataclass, field
from pathlib import Path
from random import Random

from yondle.model.errors import KnownError
from yondle.model.verdicts import MACHINE_FAILURES, Failure
from yondle.rigs.simulated.chip import Chip, Draw
from yondle.rigs.simulated.demand import Memory, figure, unit_s
from yondle.rigs.simulated.faults import Edge, Fate
from yondle.rigs.simulated.heat import Heat
from yondle.rigs.simulated.rigfile import LoadPart, RigFile, WorkloadPart

LONGEST_STEP_S = 1.0
_IDLE = LoadPart(activity=0.02, edge_lowered_mhz=-60.0, freezes=1.0, restarts=1.0, program_crashes=0.0)


@dataclass(slots=True)
class WorldState:
    """All that outlives a moment: it is kept in the machine file, so the machine is the same after Yondle restarts."""

    t_s: float
    values: dict[str, float]
    die_c: float
    cooler_c: float
    mean_power_w: float
    boot: int = 1
    runs: int = 0
    looks: int = 0
    down: str = ""
    up_at_s: float = 0.0
    warmed: list[str] = field(default_factory=list)

    def save(self, path: Path) -> None:
        """Write the state to the machine file in one step, so it is always a whole one."""
        fresh = path.with_name(path.name + ".new")
        fresh.write_text(json.dumps(asdict(self)), "utf-8")
        os.replace(fresh, path)

    @classmethod
    def load(cls, path: Path, values: dict[str, float]) -> WorldState:
        """Read the state back; raises KnownError when the file is no machine file with just these knobs."""
        try:
            state = cls(**json.loads(path.read_text("utf-8")))
            if state.values.keys() != values.keys() or not math.isfinite(state.t_s + state.die_c + state.cooler_c):
                raise ValueError("it belongs to another rig")
            return state
        except (ValueError, TypeError, AttributeError) as error:
            raise KnownError(
                f"{path} is no state of a simulated machine.", "Move it away: the machine then starts afresh at stock."
            ) from error


@dataclass(slots=True)
class Running:
    """A workload under way: how much is done, how much hazard it has gathered, and what becomes of it."""

    workload: str
    work: WorkloadPart
    load: LoadPart
    fate: Fate
    chance: Random
    started_s: float
    ends_s: float
    first: bool
    units: float = 0.0
    crash_gathered: float = 0.0
    wrong_gathered: float = 0.0
    failure: Failure | None = None
    failed_s: float = 0.0


class World:
    """The machine: advanced in time, loaded with work, and set from outside through its knobs' values."""

    def __init__(self, rig: RigFile, state: WorldState) -> None:
        self.rig = rig
        self.state = state
        self.heat = Heat(rig.heat, rig.room)
        self.chip = Chip(rig.chip)
        self.edge = Edge(rig.edge)
        self.memory = Memory(rig.memory)
        self.running: Running | None = None
        self._idle = rig.loads.get("idle", _IDLE)
        self.draw = Draw(state.values["core_clock"] / 1000.0, state.values["core_voltage"], 0.0, False, False)

    def advance(self, seconds: float) -> None:
        """Let virtual time pass."""
        end = self.state.t_s + seconds
        while end - self.state.t_s > 1e-9:
            now = self.state.t_s
            dt = min(end - now, LONGEST_STEP_S)
            running = self.running
            if running is not None and now < running.ends_s < now + dt:
                dt = running.ends_s - now
            if self.state.down and now < self.state.up_at_s < now + dt:
                dt = self.state.up_at_s - now
            self._step(dt)

    def start(self, workload: str, seconds: float) -> Running:
        """Start a workload; its fate is drawn from the seed and the count of runs so far."""
        state = self.state
        work = self.rig.workloads[workload]
        load = self.rig.loads[work.load]
        state.runs += 1
        chance = Random(f"{self.rig.rig.seed}/run/{state.runs}")
        first = workload not in state.warmed
        if first:
            state.warmed.append(workload)
        fate = Fate.drawn(load, chance)
        self.running = Running(workload, work, load, fate, chance, state.t_s, state.t_s + seconds, first)
        self._go_down_if_it_cannot_start(load)
        return self.running

    def score_of(self, run: Running) -> float | None:
        """Give the figure of a finished run."""
        return figure(run.work, run.units, run.ends_s - run.started_s, run.first, run.chance)

    def set_values(self, values: dict[str, float]) -> None:
        """Put knob values in force; far beyond the edge the machine goes down at once."""
        self.state.values = {**self.state.values, **values}
        self.state.warmed = []
        self._go_down_if_it_cannot_start(self._idle)

    def go_down(self, failure: Failure) -> None:
        """Take the machine down: no work, no readings, until it has been brought back."""
        self.state.down = failure.value
        self.state.up_at_s = math.inf
        self.running = None

    def bring_back(self) -> float:
        """Start the machine again; returns the seconds until it is up, at stock, with a new boot."""
        check = self.rig.check
        cost = check.firmware_reset_s if self.state.down == Failure.NEVER_STARTED.value else check.restart_s
        self.state.up_at_s = self.state.t_s + cost
        return cost

    def _go_down_if_it_cannot_start(self, load: LoadPart) -> None:
        values = self.state.values
        edge = self.edge.clock_mhz(values["core_voltage"], self.state.die_c, load)
        if not self.edge.starts(values["core_clock"], edge):
            self.go_down(Failure.NEVER_STARTED)

    def _step(self, dt: float) -> None:
        state, rig = self.state, self.rig
        values = state.values
        room = self.heat.room_c(state.t_s)
        fan = values["fan_level"]
        if state.down:
            state.die_c, state.cooler_c = self.heat.advance(state.die_c, state.cooler_c, room, 0.0, fan, dt)
            state.mean_power_w = 0.0
            state.t_s += dt
            if state.t_s >= state.up_at_s - 1e-9:
                self._boot()
            return
        run = self.running
        decay = math.exp(-dt / rig.chip.power_window_s)
        limit_w = (values["power_limit"] - decay * state.mean_power_w) / (1.0 - decay)
        heat_w = self.heat.power_to_reach(rig.chip.heat_limit_c, state.die_c, state.cooler_c, room, fan, dt)
        asked_ghz = values["core_clock"] / 1000.0
        draw = self.chip.draw(
            asked_ghz, values["core_voltage"], self._activity(asked_ghz), state.die_c, limit_w, heat_w
        )
        self.draw = draw
        if run is not None and run.failure is None:
            self._work(run, draw, dt)
        state.die_c, state.cooler_c = self.heat.advance(state.die_c, state.cooler_c, room, draw.power_w, fan, dt)
        state.mean_power_w = decay * state.mean_power_w + (1.0 - decay) * draw.power_w
        state.t_s += dt

    def _activity(self, clock_ghz: float) -> float:
        """How hard the core works; a capped benchmark idles in between."""
        run = self.running
        if run is None or run.failure is not None:
            return self.rig.chip.idle_activity
        activity = run.load.activity
        if run.work.cap_per_s is not None:
            busy = run.work.cap_per_s * unit_s(
                run.work, self.rig.chip.cores, clock_ghz, self.memory, self.state.cooler_c
            )
            activity *= min(1.0, busy)
        return activity

    def _work(self, run: Running, draw: Draw, dt: float) -> None:
        state = self.state
        done = dt / unit_s(run.work, self.rig.chip.cores, draw.clock_ghz, self.memory, state.cooler_c)
        if run.work.cap_per_s is not None:
            done = min(done, dt * run.work.cap_per_s)
        run.units += done
        clock_mhz = draw.clock_ghz * 1000.0
        edge = self.edge.clock_mhz(draw.voltage_v, state.die_c, run.load)
        hazard = self.edge.hazard_per_s(clock_mhz, edge)
        crash_in = (run.fate.until_crash - run.crash_gathered) / hazard
        run.crash_gathered += hazard * dt
        wrong_in = math.inf
        lead = run.load.wrong_results_lead_mhz
        if lead is not None:
            wrong = self.edge.hazard_per_s(clock_mhz, edge - lead)
            wrong_in = (run.fate.until_wrong - run.wrong_gathered) / wrong
            run.wrong_gathered += wrong * dt
        first = min(crash_in, wrong_in)
        if first >= dt:
            return
        run.failure = Failure.WRONG_RESULTS if wrong_in < crash_in else run.fate.kind
        run.failed_s = state.t_s + max(first, 0.0)
        if run.failure in MACHINE_FAILURES:
            self.go_down(run.failure)

    def _boot(self) -> None:
        knobs = self.rig.knobs
        state = self.state
        state.values = {name: getattr(knobs, name).stock for name in type(knobs).model_fields}
        state.warmed = []
        state.down = ""
        state.boot += 1
        state.mean_power_w = 0.0


def fresh_state(rig: RigFile) -> WorldState:
    """Give the state of a machine that has idled long in the evening room at stock."""
    stock = {name: getattr(rig.knobs, name).stock for name in type(rig.knobs).model_fields}
    heat, chip = Heat(rig.heat, rig.room), Chip(rig.chip)
    room = heat.room_c(0.0)
    die = cooler = room
    power = 0.0
    for _ in range(40):
        power = chip.draw(
            stock["core_clock"] / 1000.0, stock["core_voltage"], rig.chip.idle_activity, die, math.inf, math.inf
        ).power_w
        cooler = room + power / heat.cooler_to_room_w_per_k(stock["fan_level"])
        die = cooler + power / rig.heat.die_to_cooler_w_per_k
    return WorldState(t_s=0.0, values=stock, die_c=die, cooler_c=cooler, mean_power_w=power)
