"""The simulated rig behind the engine's ports: declaration, settings, readings and workloads of one virtual machine."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from yondle.model.errors import KnownError, MachineDownError
from yondle.model.knobs import Knob, Risk, Setup, Subsystem
from yondle.model.rigs import KnobReply, RigDeclaration, RigInfo
from yondle.model.sensors import Limit, Reading
from yondle.model.verdicts import Failure
from yondle.model.workloads import Metric, PassResult, Workload
from yondle.rigs.simulated.demand import metric_of
from yondle.rigs.simulated.rigfile import RigFile
from yondle.rigs.simulated.sensors import KINDS, Sensors
from yondle.rigs.simulated.world import Running, World, WorldState, fresh_state

_KNOBS: dict[str, tuple[str, str, Subsystem, Risk]] = {
    "core_clock": ("Core clock", "MHz", Subsystem.PROCESSOR, Risk.UP),
    "core_voltage": ("Core voltage", "V", Subsystem.PROCESSOR, Risk.DOWN),
    "power_limit": ("Power limit", "W", Subsystem.PROCESSOR, Risk.NONE),
    "fan_level": ("Fan level", "%", Subsystem.COOLING, Risk.NONE),
}


def declaration_of(rig: RigFile) -> RigDeclaration:
    """Declare the knobs, sensors, workloads and ceilings of a rig file."""
    unknown = [name for name in rig.sensors if name not in KINDS]
    if unknown:
        raise KnownError(
            f"The rig file names a sensor this model hasn't got: {unknown[0]}.", f"It has: {', '.join(KINDS)}."
        )
    if rig.check.settle_below_c <= rig.room.dawn_c:
        raise KnownError(
            "check.settle_below_c is not above the room's temperature at dawn.",
            "No cooler gets there; give a higher start temperature.",
        )
    knobs = []
    ceilings = {}
    for name, (title, unit, subsystem, risk) in _KNOBS.items():
        part = getattr(rig.knobs, name)
        knobs.append(
            Knob(
                name,
                title,
                unit,
                subsystem,
                part.low,
                part.high,
                part.step,
                part.stock,
                part.digits,
                risk=risk,
                proportional=name == "core_clock",
            )
        )
        if part.ceiling is not None:
            ceilings[name] = part.ceiling
    return RigDeclaration(
        info=RigInfo(rig.rig.id, rig.rig.name, rig.rig.place, True, dict(rig.rig.facts)),
        knobs=tuple(knobs),
        channels=tuple(KINDS[name].channel for name in rig.sensors),
        workloads=tuple(_workload(name, rig) for name in rig.workloads),
        limits=tuple(Limit(name, part.limit) for name, part in rig.sensors.items() if part.limit is not None),
        ceilings=ceilings,
        sample_interval_s=rig.check.sample_interval_s,
        settle_channel="processor_temperature" if "processor_temperature" in rig.sensors else "",
        settle_below=rig.check.settle_below_c,
        hard_load=rig.check.hard_load,
        hard_load_s=rig.check.hard_load_s,
    )


def _workload(name: str, rig: RigFile) -> Workload:
    work = rig.workloads[name]
    scored = work.figure != "none"
    metric = metric_of(work) if scored else Metric(work.name, "")
    return Workload(name, work.name, work.about, metric, work.pass_s, scored, work.load)


class SimulatedRun:
    """A workload on the virtual machine, looked at from outside."""

    def __init__(self, world: World, run: Running) -> None:
        self._world = world
        self._run = run

    def poll(self) -> PassResult | None:
        """Give the result once the pass is over, None while it runs; raises MachineDownError when it took all down."""
        run = self._run
        if self._world.state.down:
            raise MachineDownError(run.failure or Failure(self._world.state.down))
        if run.failure is not None:
            words = "the program ended by itself"
            if run.failure is Failure.WRONG_RESULTS:
                words = "a result differed from its check value"
            return PassResult(False, None, run.failed_s - run.started_s, run.failure.value, words)
        if self._world.state.t_s < run.ends_s - 1e-9:
            return None
        return PassResult(True, self._world.score_of(run), run.ends_s - run.started_s)

    def stop(self) -> None:
        """End the workload; harmless when it is over."""
        if self._world.running is self._run:
            self._world.running = None


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
        if state.down:
            self.world.advance(self.world.bring_back())
        self._keep()

    def boot_id(self) -> str:
        """Name the present boot of the machine; another one after every restart."""
        return f"{self.world.rig.rig.id}-{self.world.state.boot}"

    def catch_up(self, t_s: float) -> None:
        """Let the machine idle until at least `t_s`, so that its clock never runs behind the logbook's."""
        if t_s > self.world.state.t_s:
            self.world.advance(t_s - self.world.state.t_s)
            self._keep()

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Ask the machine for knob values; raises MachineDownError when it goes down over them."""
        self._alive()
        replies = []
        taken = {}
        for knob in self.declaration.knobs:
            if knob.id not in values:
                continue
            asked = values[knob.id]
            try:
                taken[knob.id] = knob.checked(asked)
                replies.append(KnobReply(knob.id, asked, True))
            except KnownError as refusal:
                replies.append(KnobReply(knob.id, asked, False, refusal.problem))
        self.world.set_values(taken)
        self._keep()
        self._alive()
        return tuple(replies)

    def read_back(self) -> Setup:
        """Read the values in force."""
        self._alive()
        return Setup.of(self.world.state.values)

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

    def close(self) -> None:
        """Keep the machine's state."""
        self._keep()

    def _alive(self) -> None:
        down = self.world.state.down
        if not down:
            return
        self._keep()
        if self._goes_down is not None:
            self._goes_down()
        raise MachineDownError(Failure(down), code="")

    def _keep(self) -> None:
        if self._file is not None:
            self.world.state.save(self._file)
