"""The hidden state of the simulated machine and its law of motion; sensors and benchmarks only look at it."""

from __future__ import annotations

import json
import math
import os
from collections.abc import Mapping
from dataclasses import asdict, dataclass, field
from functools import cache
from itertools import chain
from pathlib import Path
from random import Random

from pydantic import TypeAdapter

from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.verdicts import MACHINE_FAILURES, Failure
from yondle.rigs.simulated import memory
from yondle.rigs.simulated.chip import Chip, Draw
from yondle.rigs.simulated.demand import Speeds, figure, frame_times_ms, graphics_share, unit_s
from yondle.rigs.simulated.faults import MOST_LOST, REPLAY_S, Fate, HiddenEdge, Rates
from yondle.rigs.simulated.firmware import MEMORY_SETTINGS, Firmware
from yondle.rigs.simulated.graphics import Graphics, GraphicsDraw
from yondle.rigs.simulated.heat import Heat
from yondle.rigs.simulated.knobs import Taken, declared
from yondle.rigs.simulated.parts import LoadPart, WorkloadPart
from yondle.rigs.simulated.reckoning import reckons
from yondle.rigs.simulated.rigfile import RigFile
from yondle.rigs.simulated.settings import ResolvedSettings, resolve

LONGEST_STEP_S = 1.0
LATEST_S = 1e9
"""Thirty years: a clock beyond that is a damaged one."""
RESTARTING = "restarting"
_IDLE = LoadPart(activity=0.02, edge_lowered_mhz=-60.0, freezes=1.0, restarts=1.0, program_crashes=0.0)
_NO_GRAPHICS = GraphicsDraw(0.0, 0.0, False)
_CACHE_PER_K = 4.0


COOLEST_CORE_SHARE, PARKED_SHARE = 0.8, 0.35
"""How far above the cooler the coolest core under load lies, and one that isn't in use, as shares of the hottest."""


def _core_shares(rig: RigFile) -> tuple[float, ...]:
    """How far each core is above the cooler, as a share of the hottest: this chip's own spread of contact and leakage."""
    chance = Random(f"{rig.rig.seed}/cores")
    shares = [chance.uniform(COOLEST_CORE_SHARE, 1.0) for _ in range(rig.chip.cores)]
    hottest = max(range(len(shares)), key=shares.__getitem__)
    return tuple(1.0 if core == hottest else share for core, share in enumerate(shares))


@dataclass(slots=True)
class WorldState:
    """All that outlives a moment: it is kept in the machine file, so the machine is the same after Yondle restarts."""

    t_s: float
    values: dict[str, float]
    die_c: float
    cooler_c: float
    mean_power_w: float
    regulator_w: float = 0.0
    memory_c: float = 0.0
    graphics_c: float = 0.0
    graphics_power_w: float = 0.0
    boot: int = 1
    runs: int = 0
    looks: int = 0
    core_corrected: int = 0
    memory_corrected: int = 0
    down: str = ""
    code: str = ""
    up_at_s: float = 0.0
    reset: bool = False
    warmed: list[str] = field(default_factory=list)
    reported: dict[str, float] = field(default_factory=dict)
    pending: dict[str, list[float]] = field(default_factory=dict)
    last_start: list[str] = field(default_factory=lambda: ["", ""])
    falls: list[list[int | str]] = field(default_factory=list)
    """Every time the machine went down: the boot and the failure. The truth that tests hold verdicts against."""

    def save(self, path: Path) -> None:
        """Write the state to the machine file in one step, so it is always a whole one."""
        fresh = path.with_name(path.name + ".new")
        fresh.write_text(json.dumps(asdict(self)), "utf-8")
        os.replace(fresh, path)

    @classmethod
    def load(cls, path: Path, values: dict[str, float]) -> WorldState:
        """Read the state back; raises KnownError when the file is no machine file with just these knobs."""
        try:
            state = _checked_state().validate_python(json.loads(path.read_text("utf-8"), parse_constant=float))
            if state.values.keys() != values.keys():
                raise ValueError(say("it belongs to another rig"))
            figures = [v for name, v in asdict(state).items() if isinstance(v, float) and name != "up_at_s"]
            figures += [*state.values.values(), *state.reported.values(), *chain(*state.pending.values())]
            if not all(abs(figure) <= LATEST_S for figure in figures) or not all(
                knob in values and len(pair) == 2 for knob, pair in state.pending.items()
            ):
                raise ValueError(say("it belongs to another rig"))
            if not 0.0 <= state.t_s <= LATEST_S:
                raise ValueError(say("its clock is wrong"))
            return state
        except (ValueError, TypeError, AttributeError, RecursionError) as error:
            raise KnownError(
                say("{path} is no state of a simulated machine.", path=path),
                say("Move it away: the machine then starts afresh at stock."),
            ) from error


@cache
def _checked_state() -> TypeAdapter[WorldState]:
    return TypeAdapter(WorldState)


@dataclass(slots=True)
class Running:
    """A workload under way: how much is done, what hazard is left to live through, and what becomes of it."""

    workload: str
    work: WorkloadPart
    load: LoadPart
    fate: Fate
    chance: Random
    started_s: float
    ends_s: float
    first: bool
    units: float = 0.0
    failure: Failure | None = None
    failed_s: float = 0.0


@reckons("__init__", "advance")
class World:
    """The machine: advanced in time, loaded with work, and set from outside through its knobs' values."""

    def __init__(self, rig: RigFile, state: WorldState) -> None:
        self.rig = rig
        self.state = state
        self.heat = Heat(rig.heat, rig.room)
        self.chip = Chip(rig.chip)
        self.edge = HiddenEdge(rig.edge)
        self.graphics = Graphics(rig.graphics) if rig.graphics else None
        self.firmware = Firmware(rig, declared(rig), self.edge, self.graphics)
        self.running: Running | None = None
        self.core_shares = _core_shares(rig)
        self._idle = rig.loads.get("idle", _IDLE)
        self.graphics_draw = _NO_GRAPHICS
        self.settings: ResolvedSettings
        self._settle_in()
        s = self.settings
        self.draw = Draw(s.core_clock_ghz, s.core_voltage_v, state.mean_power_w, False, False)

    # -- from outside ----------------------------------------------------------------------------------------------

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
        state, seed = self.state, self.rig.rig.seed
        work = self.rig.workloads[workload]
        load = self.rig.loads[work.load]
        state.runs += 1
        chance = Random(f"{seed}/run/{state.runs}")
        first = workload not in state.warmed
        if first:
            state.warmed.append(workload)
        fate = Fate(load, chance, Random(f"{seed}/run/{state.runs}/others"))
        self.running = Running(workload, work, load, fate, chance, state.t_s, state.t_s + seconds, first)
        self._freeze_if_far_beyond(load)
        return self.running

    def score_of(self, run: Running) -> float | None:
        """Give the figure of a finished run."""
        return figure(run.work, run.units, run.ends_s - run.started_s, run.first, run.chance)

    def frames_of(self, run: Running) -> tuple[float, ...]:
        """Give the frame times in ms of a finished run, empty for one that draws no frames."""
        seconds = run.ends_s - run.started_s
        if not run.work.frames or run.units <= 0:
            return ()
        return frame_times_ms(run.work, run.units / seconds, seconds, run.chance)

    def set_live(self, taken: Mapping[str, Taken]) -> None:
        """Put values in force at once; far beyond the edge the machine freezes over them."""
        for knob, value in taken.items():
            self.state.values[knob] = value.in_force
            self.state.reported.pop(knob, None)
            if value.reported != value.in_force:
                self.state.reported[knob] = value.reported
        self._settle_in()
        self._freeze_if_far_beyond(self._idle)

    def keep_for_restart(self, taken: Mapping[str, Taken]) -> None:
        """Keep values that come into force with the next restart."""
        for knob, value in taken.items():
            if value.in_force == self.state.values[knob]:
                self.state.pending.pop(knob, None)
            else:
                self.state.pending[knob] = [value.reported, value.in_force]

    def sleep(self, seconds: float) -> None:
        """Suspend the machine: it cools, and what runs on it goes on where it was."""
        room = self.heat.room_c(self.state.t_s)
        self._warm(room, self.settings.fan_percent, 0.0, 0.0, 0.0, seconds)
        self.state.mean_power_w = self.state.graphics_power_w = 0.0
        self.state.t_s += seconds
        if self.running is not None:
            self.running.started_s += seconds
            self.running.ends_s += seconds

    def go_down(self, failure: Failure, code: str = "") -> None:
        """Take the machine down: no work, no readings, until it has been brought back."""
        self.state.falls.append([self.state.boot, failure.value])
        self.state.down = failure.value
        self.state.code = code
        self.state.up_at_s = math.inf
        self.running = None

    def restart(self) -> float:
        """Restart in good order; returns the seconds until the machine answers, or has failed to start."""
        self.state.down = RESTARTING
        self.state.last_start = ["", ""]
        self.running = None
        return self._up_in(self.rig.check.restart_s)

    def bring_back(self) -> float:
        """Start the machine again; one that could not start has its firmware reset, which takes longer."""
        check = self.rig.check
        self.state.reset = self.state.down in (Failure.NEVER_STARTED.value, Failure.STOPPED_IN_START.value)
        return self._up_in(check.firmware_reset_s if self.state.reset else check.restart_s)

    # -- the law of motion -----------------------------------------------------------------------------------------

    def _up_in(self, seconds: float) -> float:
        self.state.up_at_s = self.state.t_s + seconds
        return seconds

    def _settle_in(self) -> None:
        """Work out all that follows from the values in force until they change again."""
        rig = self.rig
        self.settings = s = resolve(rig, self.state.values)
        self.state.warmed = []
        self.chip.fit(s.cores, s.load_line_share)
        self._latency_ns = memory.latency_ns(rig.memory, s)
        self._bandwidth_gb_s = memory.bandwidth_gb_s(rig.memory, s, 0.0)
        graphics = self.graphics
        self._graphics_gb_s = graphics.memory_gb_s(s) if graphics is not None else math.inf
        self._link_gb_s = graphics.link_gb_s(s) if graphics is not None else math.inf
        self._speeds = self._speeds_at(s.core_clock_ghz, 0.0)
        self._memory_edges: dict[tuple[int, float], memory.MemoryEdge] = {}

    def _freeze_if_far_beyond(self, load: LoadPart) -> None:
        s = self.settings
        edge = self.edge.clock_mhz(s.core_voltage_v, self.state.die_c, load)
        core = self.edge.starts(1000.0 * self._asked_ghz(load), edge)
        pictures = self.graphics is None or self.graphics.starts(s.graphics_clock_mhz, self.state.graphics_c)
        if not (core and pictures):
            self.go_down(Failure.FROZE)

    def _asked_ghz(self, load: LoadPart) -> float:
        return self.settings.core_clock_ghz - (self.settings.vector_offset_ghz if load.vector else 0.0)

    def _step(self, dt: float) -> None:
        state, rig = self.state, self.rig
        s = self.settings
        room = self.heat.room_c(state.t_s)
        fan = s.fan_percent
        if state.down:
            self._rest(room, fan, dt)
            return
        run = self.running if self.running is not None and self.running.failure is None else None
        decay = math.exp(-dt / rig.chip.power_window_s)
        limit_w = (s.power_limit_w - decay * state.mean_power_w) / (1.0 - decay)
        heat_w = self.heat.power_to_reach(s.heat_limit_c, state.die_c, state.cooler_c, room, fan, dt)
        asked_ghz = self._asked_ghz(run.load) if run is not None else s.core_clock_ghz
        speeds = self._speeds_at(asked_ghz, state.cooler_c)
        busy = self._busy(run, speeds)
        draw = self.chip.draw(asked_ghz, s.core_voltage_v, self._activity(run, busy), state.die_c, limit_w, heat_w)
        self.draw = draw
        graphics_w = 0.0
        if self.graphics is not None:
            use = busy * max(run.load.graphics_use, graphics_share(run.work, speeds)) if run is not None else 0.0
            self.graphics_draw = self.graphics.draw(s, use, state.graphics_power_w, dt)
            graphics_w = self.graphics_draw.power_w
        if run is not None:
            self._work(run, draw, dt)
        self._warm(room, fan, draw.power_w, graphics_w, run.load.memory_use if run else 0.0, dt)
        state.mean_power_w = decay * state.mean_power_w + (1.0 - decay) * draw.power_w
        state.t_s += dt

    def _rest(self, room: float, fan: float, dt: float) -> None:
        """Let a machine that is down cool, until it comes up again."""
        state = self.state
        self._warm(room, fan, 0.0, 0.0, 0.0, dt)
        state.mean_power_w = 0.0
        state.t_s += dt
        if state.t_s >= state.up_at_s - 1e-9:
            self._boot()

    def _warm(self, room: float, fan: float, chip_w: float, graphics_w: float, memory_use: float, dt: float) -> None:
        state, s, edges = self.state, self.settings, self.rig.memory_edge
        state.regulator_w = chip_w + (state.regulator_w - chip_w) * math.exp(-dt / self.rig.edge.regulator_time_s)
        state.die_c, state.cooler_c = self.heat.advance(state.die_c, state.cooler_c, room, chip_w, fan, dt)
        if self.graphics is not None:
            part = self.graphics.part
            state.graphics_c = self.graphics.heated(s, state.graphics_c, room, graphics_w, dt)
            decay = math.exp(-dt / part.power_window_s)
            state.graphics_power_w = decay * state.graphics_power_w + (1.0 - decay) * graphics_w
        if edges is not None:
            own = edges.heat_k_per_v2 * s.memory_voltage_v**2 * memory_use
            steady = room + own + edges.coupling * (state.cooler_c - room)
            state.memory_c = steady + (state.memory_c - steady) * math.exp(-dt / edges.heat_time_s)

    def _speeds_at(self, clock_ghz: float, cooler_c: float) -> Speeds:
        s = self.settings
        lost = self.rig.memory.bandwidth_loss_per_k * max(0.0, cooler_c - memory.BANDWIDTH_REFERENCE_C)
        return Speeds(
            s.cores,
            s.threads,
            clock_ghz,
            self._bandwidth_gb_s * (1.0 - min(lost, 0.5)),
            self._latency_ns,
            self.graphics_draw.clock_mhz / 1000.0 or s.graphics_clock_mhz / 1000.0 or math.inf,
            self._graphics_gb_s,
            self._link_gb_s,
        )

    def _busy(self, run: Running | None, speeds: Speeds) -> float:
        """The share of the time a run works; a capped benchmark idles in between."""
        if run is None:
            return 0.0
        return 1.0 if run.work.cap_per_s is None else min(1.0, run.work.cap_per_s * unit_s(run.work, speeds))

    def _activity(self, run: Running | None, busy: float) -> float:
        if run is None:
            return self.rig.chip.idle_activity
        second = 1.0 + self.rig.chip.second_thread_power if self.settings.threads > 1 else 1.0
        return run.load.activity * busy * second

    def _work(self, run: Running, draw: Draw, dt: float) -> None:
        """Do a step's share of the work, live through its hazard, and count the errors that were corrected."""
        state, part, s = self.state, self.rig.memory_edge, self.settings
        speeds = self._speeds_at(draw.clock_ghz, state.cooler_c)
        lowered = self.edge.lowered_by_regulator_mhz(state.regulator_w)
        lowered += self.rig.chip.second_thread_edge_mhz if s.threads > 1 else 0.0
        clock_mhz = draw.clock_ghz * 1000.0
        edge = self.edge.clock_mhz(draw.voltage_v, state.die_c, run.load, lowered)
        core = self.edge.hazard_per_s(clock_mhz, edge)
        lead = run.load.wrong_results_lead_mhz
        wrong = self.edge.hazard_per_s(clock_mhz, edge - lead) if lead is not None else 0.0
        core_errors = run.fate.corrected(self.edge.corrected_per_s(clock_mhz, edge) * dt)
        memory_hazard, memory_errors, short = 0.0, 0, memory.Short.MODULES
        if part is not None:
            held = self._memory_edge(run.load)
            short, use, rate = held.short, run.load.memory_use, s.memory_rate_mt_s
            memory_hazard = use * memory.hazard_per_s(part, rate, held.rate_mt_s)
            if short is memory.Short.MODULES:
                early = memory.hazard_per_s(part, rate, held.rate_mt_s - part.corrected_lead_mt_s)
                memory_errors = run.fate.corrected(use * early * dt)
        pixels, graphics = 0.0, 0.0
        if self.graphics is not None and run.load.graphics_use:
            pixels, graphics = self.graphics.hazards_per_s(
                s, self.graphics_draw.clock_mhz, state.graphics_c, run.load.graphics_edge_lowered_mhz
            )
        state.core_corrected += core_errors
        state.memory_corrected += memory_errors
        lost = min(MOST_LOST, (core_errors + memory_errors) * REPLAY_S / dt)
        done = dt * (1.0 - lost) / unit_s(run.work, speeds)
        if run.work.cap_per_s is not None:
            done = min(done, dt * run.work.cap_per_s)
        run.units += done
        failed = run.fate.spend(Rates(core, wrong, memory_hazard, pixels, graphics), short, dt)
        if failed is None:
            return
        run.failure, after = failed
        run.failed_s = state.t_s + after
        if run.failure in MACHINE_FAILURES:
            self.go_down(run.failure)

    def _memory_edge(self, load: LoadPart) -> memory.MemoryEdge:
        part = self.rig.memory_edge
        assert part is not None
        key = round(self.state.memory_c * _CACHE_PER_K), load.memory_edge_lowered_mt_s
        kept = self._memory_edges.get(key)
        if kept is None:
            kept = memory.edge(part, self.settings, key[0] / _CACHE_PER_K, key[1])
            self._memory_edges[key] = kept
        return kept

    def _boot(self) -> None:
        state = self.state
        pending = {knob: Taken(said, real) for knob, (said, real) in state.pending.items()}
        values, reported = self.firmware.after_restart(state.values, pending, state.reset)
        trained = state.reset or all(values[k] == state.values[k] for k in MEMORY_SETTINGS & values.keys())
        state.boot += 1
        chance = Random(f"{self.rig.rig.seed}/boot/{state.boot}")
        start = self.firmware.start(values, trained, state.die_c, state.memory_c, self._idle, chance)
        if start.extra_s and start.failure is None and state.down == RESTARTING:
            self._advance_in_start(start.extra_s)
        state.values, state.reported, state.pending = values, reported, {}
        state.mean_power_w = state.graphics_power_w = 0.0
        state.core_corrected = state.memory_corrected = 0
        state.reset = False
        self._settle_in()
        if start.failure is not None:
            state.last_start = [start.failure.value, start.code]
            self.go_down(start.failure, start.code)
            return
        state.down = state.code = ""

    def _advance_in_start(self, seconds: float) -> None:
        """Memory training: the machine idles so much longer before it answers."""
        room = self.heat.room_c(self.state.t_s)
        self._warm(room, self.settings.fan_percent, 0.0, 0.0, 0.0, seconds)
        self.state.t_s += seconds


def fresh_state(rig: RigFile) -> WorldState:
    """Give the state of a machine that has idled long in the evening room at stock."""
    stock = {knob.id: knob.stock for knob in declared(rig)}
    settings = resolve(rig, stock)
    heat, chip = Heat(rig.heat, rig.room), Chip(rig.chip)
    chip.fit(settings.cores, settings.load_line_share)
    room = heat.room_c(0.0)
    die = cooler = room
    power = 0.0
    for _ in range(40):
        power = chip.draw(
            settings.core_clock_ghz, settings.core_voltage_v, rig.chip.idle_activity, die, math.inf, math.inf
        ).power_w
        cooler = room + power / heat.cooler_to_room_w_per_k(settings.fan_percent)
        die = cooler + power / rig.heat.die_to_cooler_w_per_k
    coupling = rig.memory_edge.coupling if rig.memory_edge else 0.0
    state = WorldState(t_s=0.0, values=stock, die_c=die, cooler_c=cooler, mean_power_w=power, regulator_w=power)
    state.memory_c = room + coupling * (cooler - room)
    state.graphics_c = room
    if rig.graphics is not None:
        idle = Graphics(rig.graphics).draw(settings, 0.0, 0.0, LONGEST_STEP_S).power_w
        state.graphics_c = room + idle / rig.graphics.to_room_still_w_per_k
        state.graphics_power_w = idle
    return state
