"""The simulated rig behind the engine's ports: declaration, settings, readings and workloads of one virtual machine."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from yondle.language.saying import named, say
from yondle.model.errors import KnownError, MachineDownError
from yondle.model.knobs import Change, Setup, Subsystem, When
from yondle.model.measured import Measured
from yondle.model.pacing import pacing
from yondle.model.rigs import KnobReply, RigDeclaration, RigInfo
from yondle.model.sensors import Limit, Reading
from yondle.model.steps import StartAnswer
from yondle.model.verdicts import Failure
from yondle.model.workloads import Metric, PassResult, Workload
from yondle.rigs.simulated.demand import metric_of
from yondle.rigs.simulated.knobs import Taken, declared, take
from yondle.rigs.simulated.reckoning import reckons
from yondle.rigs.simulated.rigfile import RigFile
from yondle.rigs.simulated.sensors import EACH_CORE, KINDS, Sensors, seen_by
from yondle.rigs.simulated.world import LATEST_S, RESTARTING, Running, World, WorldState, fresh_state

_COMES_UP_WITHIN = 20
"""Starts at stock until a machine that is down is up; one that needs more never comes up."""
LONGEST_IDLE_S = 86_400.0
"""More rest than this is not lived through, second by second."""


def declaration_of(rig: RigFile) -> RigDeclaration:
    """Declare the knobs, sensors, workloads and ceilings of a rig file."""
    unknown = [name for name in rig.sensors if name not in (*KINDS, EACH_CORE)]
    if unknown:
        raise KnownError(
            say("The rig file names a sensor this model hasn't got: {unknown}.", unknown=unknown[0]),
            say("It has: {kinds}.", kinds=", ".join((*KINDS, EACH_CORE))),
        )
    if rig.check.settle_below_c <= rig.room.dawn_c:
        raise KnownError(
            say("check.settle_below_c is not above the room's temperature at dawn."),
            say("No cooler gets there; give a higher start temperature."),
        )
    check = rig.check
    loads_for = {
        subsystem: (load, seconds)
        for subsystem, load, seconds in (
            (Subsystem.MEMORY, check.memory_load, check.memory_load_s),
            (Subsystem.GRAPHICS, check.graphics_load, check.graphics_load_s),
        )
        if load is not None
    }
    seen = seen_by(rig.sensors, rig.chip.cores)
    return RigDeclaration(
        info=RigInfo(rig.rig.id, rig.rig.name, named(rig.rig.place), True, dict(rig.rig.facts)),
        knobs=declared(rig),
        channels=tuple(kind.channel for kind, _ in seen),
        workloads=tuple(_workload(name, rig) for name in rig.workloads),
        limits=tuple(Limit(kind.channel.id, part.limit) for kind, part in seen if part.limit is not None),
        ceilings={name: part.ceiling for name, part in rig.knobs.items() if part.ceiling is not None},
        sample_interval_s=check.sample_interval_s,
        settle_channel="processor_temperature" if "processor_temperature" in rig.sensors else "",
        settle_below=check.settle_below_c,
        limiter_window_s=max(part.power_window_s for part in (rig.chip, rig.graphics) if part is not None),
        hard_load=check.hard_load,
        hard_load_s=check.hard_load_s,
        loads_for=loads_for,
        constants=_constants(rig),
        codes=_codes(rig),
        restart_s=check.restart_s,
        entry_s=check.firmware_entry_s,
    )


def _constants(rig: RigFile) -> dict[str, float]:
    constants = {"memory_rate": rig.memory.rate_mt_s, "cas": rig.memory.cas, "memory_channels": rig.memory.channels}
    if rig.graphics is not None:
        constants["graphics_bytes_per_clock"] = rig.graphics.bytes_per_clock
    return constants


def _codes(rig: RigFile) -> dict[str, tuple[Subsystem, str]]:
    meanings = (
        (rig.codes.core, Subsystem.PROCESSOR, say("the processor doesn't answer")),
        (rig.codes.memory, Subsystem.MEMORY, say("memory training doesn't end")),
        (rig.codes.graphics, Subsystem.GRAPHICS, say("graphics doesn't answer")),
    )
    return {code: (subsystem, words) for code, subsystem, words in meanings if code}


def _workload(name: str, rig: RigFile) -> Workload:
    work = rig.workloads[name]
    load = rig.loads[work.load]
    scored = work.figure != "none"
    metric = metric_of(work) if scored else Metric(named(work.name), "")
    less = "vector_offset" if load.vector and "vector_offset" in rig.knobs else ""
    subsystem = Subsystem.PROCESSOR
    if load.graphics_use > 0.5:
        subsystem = Subsystem.GRAPHICS
    elif load.memory_use > 0.5:
        subsystem = Subsystem.MEMORY
    return Workload(name, named(work.name), named(work.about), metric, work.pass_s, scored, work.load, less, subsystem)


@reckons("poll")
class SimulatedRun:
    """A workload on the virtual machine, looked at from outside."""

    def __init__(self, world: World, run: Running) -> None:
        self._world = world
        self._run = run

    def poll(self) -> PassResult | None:
        """Give the result once the pass is over, None while it runs; raises MachineDownError when it took all down."""
        run = self._run
        if self._world.state.down:
            raise MachineDownError(run.failure or Failure(self._world.state.down), self._world.state.code)
        if run.failure is not None:
            words = say("the program ended by itself")
            if run.failure is Failure.WRONG_RESULTS:
                words = say("a result differed from its check value")
            return PassResult(False, None, run.failed_s - run.started_s, run.failure.value, words)
        if self._world.state.t_s < run.ends_s - 1e-9:
            return None
        score, frames = self._world.score_of(run), self._world.frames_of(run)
        parts = pacing(frames).parts() if frames else {}
        measured = Measured(parts=parts)
        return PassResult(True, score, run.ends_s - run.started_s, measured=measured, frame_times_ms=frames)

    def stop(self) -> None:
        """End the workload; harmless when it is over."""
        if self._world.running is self._run:
            self._world.running = None


@reckons("__init__", "catch_up", "apply", "enter", "restart", "read_back", "sample", "start", "bring_back", "facts")
class SimulatedRig:
    """One virtual machine. Its state is kept in `machine_file` when there is one, and so outlives the program.

    With `goes_down` the rig behaves as the machine Yondle itself runs on: when it goes down, that is called
    after the state is kept, and the program goes down with it.
    """

    def __init__(
        self, rig: RigFile, machine_file: Path | None = None, goes_down: Callable[[], None] | None = None
    ) -> None:
        self.declaration = declaration_of(rig)
        self._file = machine_file
        self._goes_down = goes_down
        state = fresh_state(rig)
        if machine_file is not None and machine_file.exists():
            state = WorldState.load(machine_file, state.values)
        self.world = World(rig, state)
        self._sensors = Sensors(self.world, rig.sensors)
        for _ in range(_COMES_UP_WITHIN):
            if not state.down:
                break
            self.world.advance(self.world.bring_back())
        else:
            raise ValueError(say("it doesn't start at stock"))
        self._keep()

    def boot_id(self) -> str:
        """Name the present boot of the machine; another one after every restart."""
        return f"{self.world.rig.rig.id}-{self.world.state.boot}"

    def catch_up(self, t_s: float) -> None:
        """Let the machine idle until at least `t_s`, so that its clock never runs behind the logbook's.

        Of a longer time only the last day is lived through, by when all heat has settled. Raises KnownError for a time that no
        rig has reached.
        """
        state = self.world.state
        if not t_s <= LATEST_S:
            raise KnownError(
                say("The logbook holds a time of {t_s:g}\u202fs, which no rig has reached.", t_s=t_s),
                say("Work on a copy: keep the file as it is and restore the latest good copy you have."),
            )
        if t_s > state.t_s:
            state.t_s = max(state.t_s, t_s - LONGEST_IDLE_S)
            self.world.advance(t_s - state.t_s)
            self._keep()

    def crash_signs(self, since: float) -> tuple[str, ...]:
        """A simulated rig keeps no crash records."""
        return ()

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Ask the machine for knob values; raises MachineDownError when it goes down over them.

        Values of knobs that take a restart are kept for it; those of knobs set by hand are refused: see `enter`.
        """
        self._alive()
        replies, live, later = [], {}, {}
        for knob in self.declaration.knobs:
            if knob.id not in values:
                continue
            asked = values[knob.id]
            taken = take(knob, self.world.rig.knobs[knob.id], asked)
            if isinstance(taken, str):
                replies.append(KnobReply(knob.id, asked, False, taken))
            elif knob.when in (When.BY_HAND, When.AT_HAND):
                replies.append(KnobReply(knob.id, asked, False, say("it is set by hand")))
            elif knob.when is When.RESTART:
                later[knob.id] = taken
                replies.append(KnobReply(knob.id, asked, True, taken.message, after_restart=True))
            else:
                live[knob.id] = taken
                replies.append(KnobReply(knob.id, asked, True, taken.message))
        self.world.keep_for_restart(later)
        if live:
            self.world.set_live(live)
        self._keep()
        self._alive()
        return tuple(replies)

    def enter(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Enter values in firmware setup as the tuner would, for the next restart, and turn dials, which act at once.

        A value that is refused stays as it was; raises MachineDownError when the machine goes down over a dial.
        """
        self._alive()
        replies: list[KnobReply] = []
        kept: dict[str, Taken] = {}
        live: dict[str, Taken] = {}
        for knob_id, asked in values.items():
            knob = self.declaration.knob(knob_id)
            taken = take(knob, self.world.rig.knobs[knob_id], asked)
            if isinstance(taken, str):
                replies.append(KnobReply(knob_id, asked, False, taken))
            else:
                at_once = knob.when is When.AT_HAND
                (live if at_once else kept)[knob_id] = taken
                replies.append(KnobReply(knob_id, asked, True, taken.message, after_restart=not at_once))
        self.world.keep_for_restart(kept)
        if live:
            self.world.set_live(live)
        self._keep()
        self._alive()
        return tuple(replies)

    def restart(self) -> float:
        """Restart in good order; returns how many seconds until the machine answers, or has failed to start."""
        self._alive()
        seconds = self.world.restart()
        self._keep()
        if self._goes_down is not None:
            self._goes_down()
        return seconds

    def read_back(self) -> Setup:
        """Read the values the machine reports, of those knobs that can be read."""
        self._alive()
        state = self.world.state
        values = {**state.values, **state.reported}
        return Setup.of({knob.id: values[knob.id] for knob in self.declaration.knobs if knob.readable})

    def gone_back(self) -> str:
        """No value of a simulated machine goes back by itself."""
        return ""

    def last_start(self) -> StartAnswer:
        """Tell how the latest ordered restart went, as the owner standing before the machine would."""
        failure, code = self.world.state.last_start
        return StartAnswer(Failure(failure) if failure else None, "", code)

    def pending(self) -> dict[str, float]:
        """Give the values that wait for a restart."""
        return {knob: said for knob, (said, _) in self.world.state.pending.items()}

    def sample(self) -> tuple[Reading, ...]:
        """Read all channels, in the order of the declaration."""
        self._alive()
        return self._sensors.sample()

    def start(self, workload: str, seconds: float, setup: Setup) -> SimulatedRun:
        """Start a workload under the values in force."""
        self._alive()
        run = SimulatedRun(self.world, self.world.start(workload, seconds))
        self._keep()
        self._alive()
        return run

    def bring_back(self) -> float:
        """Start the machine again; returns how many seconds until it answers."""
        cost = self.world.bring_back()
        self._keep()
        return cost

    def facts(self) -> dict[str, str | float]:
        """Give the conditions as they are now."""
        return {
            **self.declaration.info.facts,
            "room temperature in °C": round(self.world.heat.room_c(self.world.state.t_s), 1),
        }

    def close(self) -> tuple[Change, ...]:
        """Keep the machine's state: nothing is put back."""
        self._keep()
        return ()

    def _alive(self) -> None:
        down = self.world.state.down
        if not down:
            return
        self._keep()
        if self._goes_down is not None:
            self._goes_down()
        failure = Failure.RESTARTED if down == RESTARTING else Failure(down)
        raise MachineDownError(failure, self.world.state.code)

    def _keep(self) -> None:
        if self._file is not None:
            self.world.state.save(self._file)
