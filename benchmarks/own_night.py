"""A night on the real machine's rig with a knob and sensors of one's own, in virtual time: a pump with an edge, and its coolant.

The rig, the engine, the logbook and the own things are the program's; what is behind the files is a model: the less the pump
turns the warmer the coolant, and too warm a load gives wrong results. Run it by `python -m benchmarks.own_night [hours]`.
"""

from __future__ import annotations

import math
import random
import resource
import sys
import tempfile
import threading
from collections import Counter
from dataclasses import replace
from datetime import datetime, timedelta, timezone
from pathlib import Path

from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import Machine
from yondle.app.plans.plans import StartPlan
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline
from yondle.logbook.logbook import Logbook
from yondle.model.verdicts import Failure
from yondle.model.workloads import PassResult
from yondle.rigs.linux.probe import Probe
from yondle.rigs.linux.this import ThisRig
from yondle.rigs.own.knobs import OwnKnob
from yondle.rigs.own.own_file import KnobEntry, parse_own
from yondle.rigs.own.sensors import OwnSensor
from yondle.workloads.host import ChildHost

OWN = """format = "yondle-own 1"
[knob.pump]
name = "Pump"
file = "{folder}/pump"
low = 20
high = 100
step = 5
unit = "%"
works = "cooling"
risk = "down"
[sensor.coolant]
name = "Coolant"
file = "{folder}/coolant"
scale = 1000
unit = "°C"
stop_at = 75
[sensor.load]
name = "Load average"
command = ["cat", "/proc/loadavg"]
pattern = '^(\\S+)'
"""
FOUND = 80.0
TAU_S, ROOM_C, WARMEST_K = 240.0, 24.0, 62.0
WRONG_FROM_C, HAZARD_AT_EDGE = 62.0, 1.0 / 60.0


class VirtualTime:
    """The clock of the night: waiting moves the model."""

    block_s = 60.0

    def __init__(self, pump: PumpModel) -> None:
        self._pump, self._t = pump, 0.0

    def now(self) -> float:
        return self._t

    def wall(self) -> datetime:
        return datetime(2026, 10, 17, 21, 0, tzinfo=timezone(timedelta(hours=1))) + timedelta(seconds=self._t)

    def slept_s(self) -> float:
        return 0.0

    def wait(self, seconds: float) -> None:
        self._t += max(seconds, 0.0)
        self._pump.go_on(max(seconds, 0.0))

    def wake(self) -> None:
        pass


class PumpModel:
    """A coolant that warms under load as the pump's level allows; told through a file, as a driver would."""

    def __init__(self, folder: Path) -> None:
        self._pump, self._told = folder / "pump", folder / "coolant"
        self._pump.write_text(f"{FOUND:g}\n")
        self.celsius, self.loaded, self.hazard = ROOM_C, False, 0.0
        self.go_on(0.0)

    def go_on(self, seconds: float) -> None:
        level = float(self._pump.read_text())
        goal = ROOM_C + (WARMEST_K * (1.0 - 0.8 * level / 100.0) if self.loaded else 0.0)
        self.celsius += (goal - self.celsius) * (1.0 - math.exp(-seconds / TAU_S))
        self._told.write_text(f"{1000 * self.celsius:.0f}\n")
        self.hazard += seconds * HAZARD_AT_EDGE * math.exp((self.celsius - WRONG_FROM_C) / 1.5) if self.loaded else 0.0


class ModelRun:
    """A pass that lasts as long as it was asked for, or until the coolant is too warm."""

    def __init__(self, clock: VirtualTime, pump: PumpModel, seconds: float, chance: random.Random) -> None:
        self._clock, self._pump, self._until, self._seconds = clock, pump, clock.now() + seconds, seconds
        self._chance, self.pid, self.alive = chance, 1, True
        self._fails_at = pump.hazard - math.log(1.0 - chance.random())
        pump.loaded = True

    def poll(self) -> PassResult | None:
        if self._pump.hazard >= self._fails_at:
            self.stop()
            return PassResult(False, None, self._seconds, Failure.WRONG_RESULTS.value, "a checksum differs")
        if self._clock.now() < self._until:
            return None
        self.stop()
        return PassResult(True, 100.0 * self._chance.gauss(1.0, 0.003), self._seconds)

    def stop(self) -> None:
        self._pump.loaded, self.alive = False, False


class ModelHost(ChildHost):
    """Runs the model instead of a benchmark."""

    def __init__(self, clock: VirtualTime, pump: PumpModel) -> None:
        super().__init__(clock.now, clock.wake)
        self.usual, self.hard_load, self.loads_for = ("whole_numbers",), ("mixed_load", 60.0), {}
        self._clock, self._pump, self._chance = clock, pump, random.Random(20261017)

    def start(self, workload: str, seconds: float, cpus: list[int]) -> ModelRun:
        return ModelRun(self._clock, self._pump, seconds, self._chance)


def night(hours: float) -> None:
    """Search the pump's edge and sweep it in rounds, over and over until the night is over; print what came of it."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        (folder / "proc").mkdir()
        (folder / "proc/stat").write_text("cpu  100 0 100 1000 0 0 0 0 0 0\n")
        pump = PumpModel(folder)
        clock = VirtualTime(pump)
        threads, before = threading.active_count(), _resident_mib()
        knobs, probes = [], []
        for thing in parse_own(OWN.replace("{folder}", name), "the night"):
            if isinstance(thing.entry, KnobEntry):
                knobs.append(OwnKnob(thing.id, thing.entry, thing.pattern))
            else:
                made = OwnSensor(thing.id, thing.entry, thing.pattern)
                probes.append(Probe(made.channel, made.read, made.source, made.close, most=thing.entry.stop_at))
        rig = ThisRig(ModelHost(clock, pump), clock.now, folder, more=tuple(probes), own=tuple(knobs))
        rig.declaration = replace(rig.declaration, sample_interval_s=1.0)
        book = Logbook.create(folder / "night.yondle", "this", "This machine", "")
        session = Session(book, Machine(rig, clock, NobodyThere()))
        session.do(RunBaseline())
        plans = [
            'format = "yondle-plan 1"\nname = "Edge"\npasses = 5\n[[do]]\nkind = "edge"\nknob = "pump"\n'
            'loads = ["mixed_load"]\nstandard = "daily"\nstyle = "even"\n',
            'format = "yondle-plan 1"\nname = "Sweep"\npasses = 5\n[[do]]\nkind = "sweep"\nknob = "pump"\n'
            "from = 55\nto = 100\nby = 15\nrounds = 5\n",
        ]
        ran = 0
        while clock.now() < 3600 * hours:
            session.do(StartPlan(plans[ran % 2], "the night"))
            ran += 1
        steps, findings = session.snapshot.steps, session.snapshot.findings
        tests = [a for r in steps for a in r.attempts if a.outcome is not None]
        passes = [p for a in tests for p in a.all_passes if p.result is not None]
        read = sum("own_coolant" in p.result.measured.mean for p in passes if p.result is not None)
        verdicts = Counter(str(a.outcome.verdict) for a in tests if a.outcome is not None)
        at_end = (folder / "pump").read_text()
        session.close()
        print(f"{clock.now() / 3600:.1f} h of virtual time, {ran} plans, {len(tests)} tests, {len(passes)} passes")
        print(f"verdicts: {dict(verdicts)}; with the coolant's reading: {read} of {len(passes)} passes")
        print(
            "found:", "; ".join(f"{f.knob} {f.value:g}, {f.failures} failures in {f.runs} runs" for f in findings[:3])
        )
        print(f"the pump before the end: {at_end.strip()}, after it: {(folder / 'pump').read_text().strip()}")
        print(f"threads {threads} -> {threading.active_count()}, memory {before:.0f} -> {_resident_mib():.0f} MiB")


def _resident_mib() -> float:
    return int(Path("/proc/self/statm").read_text().split()[1]) * resource.getpagesize() / (1 << 20)


if __name__ == "__main__":
    night(float(sys.argv[1]) if len(sys.argv) > 1 else 9.0)
