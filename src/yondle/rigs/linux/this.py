"""This machine as a rig that needs no privilege: the number of pinned workers, readings from /proc, real benchmarks."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Protocol

from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Setup, Subsystem
from yondle.model.rigs import KnobReply, RigDeclaration, RigInfo
from yondle.model.sensors import Channel, Quantity, Reading
from yondle.model.workloads import PassResult, Workload
from yondle.rigs.linux.conditions import Conditions
from yondle.rigs.linux.proc import CpuTimes, Proc

SAMPLE_INTERVAL_S = 0.25
LONG_RUN_S = 30.0


class WorkloadRun(Protocol):
    """A workload under way in a child process."""

    def poll(self) -> PassResult | None:
        """Give the result once there is one."""

    def stop(self) -> None:
        """End it now."""


class WorkloadHost(Protocol):
    """Whoever starts workloads on this machine."""

    @property
    def workloads(self) -> tuple[Workload, ...]:
        """The workloads it can run."""

    def start(self, workload: str, seconds: float, cpus: list[int]) -> WorkloadRun:
        """Start a pass with a worker on each of these processors."""

    def pids(self) -> list[int]:
        """The processes of the pass under way."""


class ThisRig:
    """The machine Yondle runs on. A worker is a thread of a benchmark pinned to a processor of its own."""

    def __init__(self, host: WorkloadHost, root: Path = Path("/"), long_run_s: float = LONG_RUN_S) -> None:
        self._host = host
        self._proc = Proc(root)
        self._cpus = sorted(os.sched_getaffinity(0))
        self._meter = _UseMeter(self._proc, lambda: [os.getpid(), *host.pids()])
        memory = self._proc.memory_gib()
        facts = {
            "processor": self._proc.processor(),
            "processors in use": str(len(self._cpus)),
            "kernel": self._proc.kernel(),
        }
        if memory is not None:
            facts["memory"] = f"{memory[1]:.1f} GiB"
        self._conditions = Conditions(root)
        count = float(len(self._cpus))
        self._workers = count
        readings: list[tuple[Channel, Callable[[], Reading]]] = [
            (Channel("in_use", "In use", "%", Quantity.USE, Subsystem.PROCESSOR, 0), self._meter.whole),
            (
                Channel("other_use", "Other programs", "%", Quantity.USE, Subsystem.PROCESSOR, 1,
                        about="processor time that neither Yondle nor its benchmark used"),
                self._meter.others,
            ),
        ]  # fmt: skip
        for cpu in self._cpus:
            channel = Channel(f"cpu{cpu}_use", f"Processor {cpu}", "%", Quantity.USE, Subsystem.PROCESSOR, 0)
            readings.append((channel, self._meter.of(f"cpu{cpu}")))
        if self._proc.clock_mhz() is not None:
            channel = Channel("clock", "Clock", "MHz", Quantity.CLOCK, Subsystem.PROCESSOR, 0)
            readings.append((channel, self._proc.clock_mhz))
        if memory is not None:
            channel = Channel("memory_used", "Memory used", "GiB", Quantity.OTHER, Subsystem.MEMORY, 2)
            readings.append((channel, self._memory_used))
        for resource, subsystem in (("cpu", Subsystem.PROCESSOR), ("memory", Subsystem.MEMORY)):
            if self._proc.pressure_percent(resource) is not None:
                name = "Waiting for processor" if resource == "cpu" else "Waiting for memory"
                channel = Channel(f"{resource}_pressure", name, "%", Quantity.OTHER, subsystem, 1)
                readings.append((channel, self._pressure(resource)))
        self._readings = [read for _, read in readings]
        knobs: tuple[Knob, ...] = ()
        if count > 1:
            knobs = (Knob("workers", "Workers", "", Subsystem.PROCESSOR, 1, count, 1, count, proportional=True),)
        self.declaration = RigDeclaration(
            info=RigInfo("this", "This machine", "here", False, facts),
            knobs=knobs,
            channels=tuple(channel for channel, _ in readings),
            workloads=host.workloads,
            limits=(),
            ceilings={},
            sample_interval_s=SAMPLE_INTERVAL_S,
            hard_load=host.workloads[0].id if host.workloads else "",
            hard_load_s=long_run_s,
            asks=("cooler", "room temperature in °C", "sample of each part"),
        )

    def boot_id(self) -> str:
        """The kernel's boot identity."""
        return self._proc.boot_id()

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Set the number of workers the next pass gets."""
        replies = []
        for knob in self.declaration.knobs:
            if knob.id not in values:
                continue
            asked = values[knob.id]
            try:
                self._workers = knob.checked(asked)
                replies.append(KnobReply(knob.id, asked, True))
            except KnownError as refusal:
                replies.append(KnobReply(knob.id, asked, False, refusal.problem))
        return tuple(replies)

    def read_back(self) -> Setup:
        """Give the values in force; the processors are counted anew, since others can take them away."""
        usable = float(len(os.sched_getaffinity(0)))
        return Setup.of({knob.id: min(self._workers, usable) for knob in self.declaration.knobs})

    def restart(self) -> float:
        """Yondle doesn't restart the machine it runs on by itself; the tuner does."""
        raise KnownError(
            "Yondle doesn't restart this machine by itself.", "Restart it yourself, then open the logbook."
        )

    def pending(self) -> Mapping[str, float]:
        """No value of this machine waits for a restart."""
        return {}

    def sample(self) -> tuple[Reading, ...]:
        """Read all channels."""
        self._meter.look()
        return tuple(read() for read in self._readings)

    def start(self, workload: str, seconds: float, setup: Setup) -> WorkloadRun:
        """Start a pass with as many pinned workers as are in force."""
        self._meter.look()
        return self._host.start(workload, seconds, self._cpus[: int(self._workers)])

    def bring_back(self) -> float:
        """This machine can't bring itself back: when it goes down, so does Yondle."""
        return 0.0

    def facts(self) -> dict[str, str | float]:
        """Give the conditions as they are now."""
        return {**self.declaration.info.facts, **self._conditions.facts()}

    def close(self) -> None:
        """Nothing is held."""

    def _memory_used(self) -> Reading:
        memory = self._proc.memory_gib()
        return round(memory[0], 3) if memory is not None else None

    def _pressure(self, resource: str) -> Callable[[], Reading]:
        return lambda: self._proc.pressure_percent(resource)


class _UseMeter:
    """Use of the processors between two looks, in all and by others than Yondle and its benchmark."""

    def __init__(self, proc: Proc, own_pids: Callable[[], list[int]]) -> None:
        self._proc = proc
        self._own_pids = own_pids
        self._before: dict[str, CpuTimes] = {}
        self._now: dict[str, CpuTimes] = proc.cpu_times()
        self._own: dict[int, float] = {}
        self._own_used_s = 0.0

    def look(self) -> None:
        """Take the times; shares are over the span since the look before."""
        self._before, self._now = self._now, self._proc.cpu_times()
        own = {pid: self._proc.process_s([pid]) for pid in self._own_pids()}
        self._own_used_s = sum(max(0.0, seconds - self._own.get(pid, 0.0)) for pid, seconds in own.items())
        self._own = own

    def whole(self) -> Reading:
        """Use of all processors in %."""
        return self._share("cpu", 0.0)

    def others(self) -> Reading:
        """Use by other programs in %."""
        return self._share("cpu", self._own_used_s)

    def of(self, name: str) -> Callable[[], Reading]:
        """Give the reading of one processor's use in %."""
        return lambda: self._share(name, 0.0)

    def _share(self, name: str, less_s: float) -> Reading:
        before, now = self._before.get(name), self._now.get(name)
        if before is None or now is None or now.whole_s <= before.whole_s:
            return None
        busy = now.busy_s - before.busy_s - less_s
        return round(min(100.0, max(0.0, 100.0 * busy / (now.whole_s - before.whole_s))), 2)
