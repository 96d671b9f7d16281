"""The machine Yondle runs on: its workers and whatever else it lets be set, its sensors, and real benchmarks."""

from __future__ import annotations

import os
from collections.abc import Callable, Mapping
from contextlib import suppress
from dataclasses import replace
from functools import partial
from pathlib import Path
from typing import Protocol

from yondle.language.saying import later, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Change, Knob, Setup, Subsystem
from yondle.model.measured import Measured
from yondle.model.rigs import KnobReply, RigDeclaration, RigInfo
from yondle.model.sensors import Channel, Limit, Quantity, Reading
from yondle.model.workloads import PassResult, Workload
from yondle.rigs.linux.administrators import administrators_probes
from yondle.rigs.linux.conditions import Conditions
from yondle.rigs.linux.evidence import THE_HELPER, KernelLog, crash_records
from yondle.rigs.linux.files import Bank, Tree
from yondle.rigs.linux.guarding import PlanGuard
from yondle.rigs.linux.knobs import offered
from yondle.rigs.linux.privilege import RootSetter
from yondle.rigs.linux.probe import Probe
from yondle.rigs.linux.probes import find_probes, hottest, limiter_window_s
from yondle.rigs.linux.proc import CpuTimes, Proc
from yondle.rigs.linux.root.helper.interfaces import Interface
from yondle.rigs.linux.topology import spread_over_cores
from yondle.rigs.linux.use import UseMeter

SAMPLE_INTERVAL_S = 0.1
USE_EVERY_S, SLOW_S = 0.2, 1.0
"""How often use and the log are looked at, and what changes slowly: looking costs more than reading a sensor."""


WORKERS = "workers"
ON_LINE = "processors_on_line"
KERNEL_ERRORS, STOLEN = "kernel_errors", "stolen"


class HostedRun(Protocol):
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

    @property
    def usual(self) -> tuple[str, ...]:
        """The benchmarks run where nothing was chosen."""

    @property
    def hard_load(self) -> tuple[str, float]:
        """The load every check ends with, and its seconds; '' for none."""

    @property
    def loads_for(self) -> dict[Subsystem, tuple[str, float]]:
        """The load that a change in a subsystem is checked with first, and its seconds."""

    @property
    def processors(self) -> tuple[int, ...]:
        """The processors workers may be put on; empty for all."""

    def start(self, workload: str, seconds: float, cpus: list[int]) -> HostedRun:
        """Start a pass with a worker on each of these processors."""

    def pids(self) -> list[int]:
        """The processes of the pass under way."""


class OwnInterface(Protocol):
    """A knob of the tuner's own, whatever it is set by."""

    knob: Knob

    def value(self) -> float | None:
        """Read the value in force; None where it can't be told now."""

    def set(self, value: float) -> None:
        """Set a value that has been checked; raises KnownError with what stands against it."""

    def put_back(self) -> None:
        """Set what was found, where anything else was set; raises KnownError where that can't be."""


class ThisRig:
    """The machine Yondle runs on. A worker is a thread of a benchmark pinned to a processor of its own.

    `line` sets what only root may set; without one those knobs are not offered. `now` dates readings of energy. `own` are
    knobs of the tuner's own, which are put back as it is closed; `owner` is who an administrator's files belong to. `guard`
    restarts a machine that freezes in a plan.
    """

    def __init__(
        self,
        host: WorkloadHost,
        now: Callable[[], float],
        root: Path = Path("/"),
        line: RootSetter | None = None,
        more: tuple[Probe, ...] = (),
        own: tuple[OwnInterface, ...] = (),
        owner: int = 0,
        guard: PlanGuard | None = None,
    ) -> None:
        self.guard = guard
        self._host, self._root, self._line, self._now = host, root, line, now
        self._tree = Tree(root)
        self._proc = Proc(root)
        self._log = KernelLog(root, told=self._told_log if line is not None else None)
        allowed = sorted(os.sched_getaffinity(0))
        self._cpus = spread_over_cores(self._tree, [cpu for cpu in host.processors if cpu in allowed] or allowed)
        self._meter = UseMeter(self._proc, lambda: [os.getpid(), *host.pids()])
        self._conditions = Conditions(root, self._told_memory if line is not None else None)
        self._workers = float(len(self._cpus))
        self._told: dict[str, tuple[float, dict[str, float] | None]] = {}
        energies, installed = (partial(self._told_numbers, what) for what in ("energies", "own"))
        found = [
            *find_probes(self._tree, now, energies if line is not None else None),
            *administrators_probes(root, installed if line is not None else None, owner),
        ]
        here = {probe.channel.id for probe in found}
        self.probes = [*self._own_probes(), *found, *(probe for probe in more if probe.channel.id not in here)]
        self._looks_through = self._log.source == THE_HELPER or any(probe.through_helper for probe in self.probes)
        self._looked_at = -USE_EVERY_S
        self._in_bank = [i for i, probe in enumerate(self.probes) if probe.file is not None]
        self._bank = Bank([probe.file for probe in self.probes if probe.file is not None])
        self._by_itself = [(i, probe.read) for i, probe in enumerate(self.probes) if probe.file is None]
        self._own = {each.knob.id: each for each in own}
        offer = offered(root, owner) if line is not None else None
        self._interfaces = offer.interfaces if offer is not None else {}
        hard_load, hard_load_s = host.hard_load
        self.declaration = RigDeclaration(
            info=RigInfo("this", say("This machine"), say("here"), False, self._parts()),
            knobs=(
                *self._worker_knob(),
                *(offer.knobs.values() if offer is not None else ()),
                *(each.knob for each in own),
            ),
            channels=tuple(probe.channel for probe in self.probes),
            workloads=host.workloads,
            limits=tuple(Limit(p.channel.id, p.most) for p in self.probes if p.most is not None),
            ceilings={},
            sample_interval_s=SAMPLE_INTERVAL_S,
            hard_load=hard_load,
            hard_load_s=hard_load_s,
            loads_for=host.loads_for,
            chosen=host.usual,
            asks=(later("cooler"), later("room temperature in °C"), later("sample of each part")),
            lends=True,
            settle_channel=hottest(self.probes),
            limiter_window_s=limiter_window_s(self._tree),
        )

    def boot_id(self) -> str:
        """The kernel's boot identity."""
        return self._proc.boot_id()

    def crash_signs(self, since: float) -> tuple[str, ...]:
        """Describe the crash records the kernel kept that are younger than `since`, in seconds of the epoch."""
        return tuple(crash_records(self._root, since))

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        """Set the number of workers the next pass gets; what only root may set goes through the helper."""
        return tuple(self._set(knob, values[knob.id]) for knob in self.declaration.knobs if knob.id in values)

    def read_back(self) -> Setup:
        """Give the values in force; processors are counted anew, since others can take them away."""
        values = self._read_interfaces()
        if any(knob.id == WORKERS for knob in self.declaration.knobs):
            taken_away = len(self._cpus) - len(self._usable()) if ON_LINE not in values else 0
            values[WORKERS] = min(self._workers, len(self._cpus) - taken_away)
        return Setup.of(values)

    def gone_back(self) -> str:
        """Say that the helper has put back what it had set, where it has ended since; a new one begins anew."""
        return self._line.ended if self._line is not None else ""

    def restart(self) -> float:
        """Yondle doesn't restart the machine it runs on by itself; the tuner does."""
        raise KnownError(
            say("Yondle doesn't restart this machine by itself."), say("Restart it yourself, then open the logbook.")
        )

    def pending(self) -> Mapping[str, float]:
        """No value of this machine waits for a restart."""
        return {}

    def sample(self) -> tuple[Reading, ...]:
        """Read all channels."""
        now = self._now()
        if now - self._looked_at >= USE_EVERY_S:
            self._looked_at = now
            self._meter.look()
            self._log.look()
        row: list[Reading] = [None] * len(self.probes)
        for i, value in zip(self._in_bank, self._bank.read(), strict=True):
            row[i] = value
        for i, read in self._by_itself:
            row[i] = read()
        return tuple(row)

    def start(self, workload: str, seconds: float, setup: Setup) -> HostedRun:
        """Start a pass with as many pinned workers as are in force.

        What only root may read is looked at through the helper from the first pass on, if whoever is asked allows it.
        """
        if self._line is not None and self._looks_through:
            self._line.begin()
        self._meter.begin()
        self._log.begin()
        usable = self._usable()
        cpus = [usable[i % len(usable)] for i in range(int(self._workers))]
        run = self._host.start(workload, seconds, cpus)
        if self.guard is not None:
            self.guard.begin()
        return _Watched(run, self._log, self.guard)

    def bring_back(self) -> float:
        """This machine can't bring itself back: when it goes down, so does Yondle."""
        return 0.0

    def facts(self) -> dict[str, str | float]:
        """Give the conditions as they are now."""
        return {**self.declaration.info.facts, **self._conditions.facts()}

    def close(self) -> tuple[Change, ...]:
        """Let go of every file, and have what was set put back; gives what reads back otherwise than before."""
        before = self._read_interfaces()
        for each in reversed(list(self._own.values())):
            with suppress(KnownError):
                each.put_back()
        if self._line is not None:
            self._line.close()
        after = self._read_interfaces()
        for probe in self.probes:
            probe.close()
        self._log.close()
        self._tree.close()
        self._proc.close()
        return tuple(Change(knob, old, after[knob]) for knob, old in before.items() if after.get(knob, old) != old)

    def _told_log(self) -> list[str] | None:
        said = self._line.look("log") if self._line is not None else None
        return [str(line) for line in said] if isinstance(said, list) else None

    def _told_memory(self) -> bytes:
        said = self._line.look("memory") if self._line is not None else None
        try:
            return bytes.fromhex(said) if isinstance(said, str) else b""
        except ValueError:
            return b""

    def _told_numbers(self, what: str) -> dict[str, float] | None:
        """Ask the helper once a sample, however many numbers there are."""
        now = self._now()
        asked_at, told = self._told.get(what, (-SLOW_S, None))
        if now - asked_at >= SAMPLE_INTERVAL_S / 2:
            said = self._line.look(what) if self._line is not None else None
            told = said if isinstance(said, dict) else None
            self._told[what] = now, told
        return told

    def _read_interfaces(self) -> dict[str, float]:
        everything: dict[str, Interface | OwnInterface] = {**self._interfaces, **self._own}
        return {knob: value for knob, each in everything.items() if (value := each.value()) is not None}

    def _usable(self) -> list[int]:
        """The processors that are there now; with fewer on line than workers, several share one."""
        allowed = os.sched_getaffinity(0)
        return [cpu for cpu in self._cpus if cpu in allowed] or spread_over_cores(self._tree, sorted(allowed))

    def _set(self, knob: Knob, asked: float) -> KnobReply:
        try:
            value = knob.checked(asked)
            if knob.id == WORKERS:
                self._workers = value
            elif knob.id in self._own:
                if self._own[knob.id].value() != value:
                    self._own[knob.id].set(value)
            elif self._line is not None and self._interfaces[knob.id].value() != value:
                self._line.set(knob.id, value)
        except KnownError as refusal:
            return KnobReply(knob.id, asked, False, refusal.problem)
        return KnobReply(knob.id, asked, True)

    def _worker_knob(self) -> tuple[Knob, ...]:
        count = float(len(self._cpus))
        if count < 2:
            return ()
        return (Knob(WORKERS, say("Workers"), "", Subsystem.PROCESSOR, 1, count, 1, count, proportional=True),)

    def _parts(self) -> dict[str, str]:
        facts = {
            later("processor"): self._proc.processor(),
            later("processors in use"): str(len(self._cpus)),
            later("kernel"): self._proc.kernel(),
        }
        memory = self._proc.memory_gib()
        return {**facts, later("memory"): f"{memory[1]:.1f} GiB"} if memory is not None else facts

    def _own_probes(self) -> list[Probe]:
        """Use, load and the kernel's log: what /proc and /dev tell."""
        processor, memory = Subsystem.PROCESSOR, Subsystem.MEMORY
        found = [
            Probe(Channel("in_use", say("In use"), "%", Quantity.USE, processor, 0), self._meter.whole, "/proc/stat"),
            Probe(
                Channel("other_use", say("Other programs"), "%", Quantity.USE, processor, 1,
                        about=say("processor time that neither Yondle nor its benchmark used")),
                self._meter.others,
                "/proc/stat",
            ),
        ]  # fmt: skip
        if self._proc.cpu_times().get("cpu", CpuTimes(0.0, 0.0)).stolen_s > 0:
            about = say("processor time that the host of this virtual machine took; part of what other programs used")
            channel = Channel(STOLEN, say("Steal time"), "%", Quantity.USE, processor, 1, about=about)
            found.append(Probe(channel, self._meter.stolen, "/proc/stat"))
        for cpu in sorted(self._cpus):
            channel = Channel(
                f"cpu{cpu}_use", say("Processor {cpu}", cpu=cpu), "%", Quantity.USE, processor, 0, core=cpu
            )
            found.append(Probe(channel, self._meter.of(f"cpu{cpu}"), "/proc/stat"))
        if self._proc.clock_mhz() is not None and not list(self._tree.found(_CLOCKS)):
            channel = Channel("clock", say("Clock"), "MHz", Quantity.CLOCK, processor, 0)
            found.append(Probe(channel, self._slowly(self._proc.clock_mhz), "/proc/cpuinfo"))
        if self._proc.memory_gib() is not None:
            channel = Channel("memory_used", say("Memory used"), "GiB", Quantity.OTHER, memory, 2)
            found.append(Probe(channel, self._slowly(self._memory_used), "/proc/meminfo"))
        for resource, subsystem in (("cpu", processor), ("memory", memory)):
            if self._proc.pressure_percent(resource) is not None:
                name = say("Processor pressure") if resource == "cpu" else say("Memory pressure")
                channel = Channel(f"{resource}_pressure", name, "%", Quantity.OTHER, subsystem, 1)
                found.append(Probe(channel, self._pressure(resource), f"/proc/pressure/{resource}"))
        if self._log.readable:
            channel = Channel(
                KERNEL_ERRORS, say("Hardware errors in the kernel's log"), "", Quantity.ERRORS, Subsystem.WHOLE, 0
            )
            found.append(Probe(channel, self._log.sample, self._log.source))
        return found

    def _memory_used(self) -> Reading:
        memory = self._proc.memory_gib()
        return round(memory[0], 3) if memory is not None else None

    def _pressure(self, resource: str) -> Callable[[], Reading]:
        return self._slowly(lambda: self._proc.pressure_percent(resource))

    def _slowly(self, read: Callable[[], Reading]) -> Callable[[], Reading]:
        """Read at most once a second what costs more than it changes."""
        at, value = -SLOW_S, None

        def kept() -> Reading:
            nonlocal at, value
            if self._now() - at >= SLOW_S:
                at, value = self._now(), read()
            return value

        return kept


_CLOCKS = "sys/devices/system/cpu/cpufreq/policy*/scaling_cur_freq"


class _Watched:
    """A pass under way; what the kernel's log said meanwhile goes with its result.

    A guard is told of every look at it, and of its end.
    """

    def __init__(self, run: HostedRun, log: KernelLog, guard: PlanGuard | None) -> None:
        self._run, self._log, self._guard = run, log, guard
        self._errors_before = log.hardware_errors
        self._result: PassResult | None = None

    def poll(self) -> PassResult | None:
        """Give the result once there is one."""
        result = self._result or self._run.poll()
        if self._guard is not None:
            self._guard.look()
        if result is not None and self._result is None:
            self._log.look()
            said, errors = self._log.said(), self._log.hardware_errors - self._errors_before
            more = Measured(
                errors={KERNEL_ERRORS: float(errors)} if errors else {}, told={"kernel log": said} if said else {}
            )
            result = self._result = replace(result, measured=result.measured.joined(more))
        return result

    def stop(self) -> None:
        """End it now."""
        self._run.stop()
        if self._guard is not None:
            self._guard.end()
