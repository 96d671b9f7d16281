"""A small machine behind a real agent, for tests: `python -m tests.bench.agent FOLDER`. Its boot is named by a file there."""

from __future__ import annotations

import os
import signal
import sys
import time
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from yondle.model.errors import KnownError
from yondle.model.knobs import Change, Knob, Risk, Setup, Subsystem
from yondle.model.rigs import KnobReply, RigDeclaration, RigInfo
from yondle.model.sensors import Channel, Limit, Quantity, Reading
from yondle.model.workloads import Metric, PassResult, Workload
from yondle.rigs.bench import agent as agent_module
from yondle.rigs.bench.agent import Agent
from yondle.rigs.bench.word import Word

PASS_S = 0.6
DECLARATION = RigDeclaration(
    info=RigInfo("this", "This machine", "here", False, {"processor": "four cores"}),
    knobs=(
        Knob("clock", "Clock", "MHz", Subsystem.PROCESSOR, 3600, 5200, 25, 4200, risk=Risk.UP, proportional=True),
        Knob("fan", "Fan", "%", Subsystem.COOLING, 0, 100, 5, 40),
    ),
    channels=(
        Channel("temperature", "Temperature", "°C", Quantity.TEMPERATURE, Subsystem.PROCESSOR, 1),
        Channel("in_use", "In use", "%", Quantity.USE, Subsystem.PROCESSOR, 0),
    ),
    workloads=(Workload("stack", "Stack", "adds", Metric("rate", "frames/min"), PASS_S),),
    limits=(Limit("temperature", 95.0),),
    ceilings={},
    sample_interval_s=0.1,
    lends=True,
)


class Pass:
    """A pass that lasts as long as it was ordered."""

    def __init__(self, machine: SmallMachine, seconds: float) -> None:
        self._machine, self._until, self._seconds = machine, time.monotonic() + seconds, seconds

    def poll(self) -> PassResult | None:
        if time.monotonic() < self._until:
            return None
        return PassResult(True, self._machine.values["clock"] / 20.0, self._seconds)

    def stop(self) -> None:
        self._machine.running = None


class SmallMachine:
    """Two knobs, two sensors, one benchmark; what it is at stands in a file, as a machine's settings outlive an agent."""

    def __init__(self, folder: Path) -> None:
        self._folder = folder
        self.declaration = DECLARATION
        self.values = {knob.id: knob.stock for knob in DECLARATION.knobs}
        self.running: Pass | None = None
        self.missing = "the helper isn't installed"
        self._note()

    def boot_id(self) -> str:
        return (self._folder / "boot").read_text().strip()

    def crash_signs(self, since: float) -> tuple[str, ...]:
        kept = self._folder / "sign"
        return ("the kernel panicked",) if kept.exists() and time.time() - since < float(kept.read_text()) else ()

    def apply(self, values: Mapping[str, float]) -> tuple[KnobReply, ...]:
        replies = []
        for name, value in values.items():
            if name == "clock" and value > 5000:
                replies.append(KnobReply(name, value, False, "the board doesn't take it"))
                continue
            self.values[name] = value
            replies.append(KnobReply(name, value, True))
        self._note()
        slow = self._folder / "slow"
        if slow.exists():
            time.sleep(float(slow.read_text()))
        return tuple(replies)

    def read_back(self) -> Setup:
        return Setup.of(self.values)

    def gone_back(self) -> str:
        return ""

    def sample(self) -> tuple[Reading, ...]:
        return 40.0 + self.values["clock"] / 200.0, 100.0 if self.running else 1.0

    def start(self, workload: str, seconds: float, setup: Setup) -> Pass:
        self.running = Pass(self, seconds)
        return self.running

    def facts(self) -> dict[str, str | float]:
        return {"kernel": "6.1"}

    def guarded(self, guarded: bool) -> None:
        if not (self._folder / "dog").exists():
            raise KnownError("Nothing can restart the bench.", "See docs/bench.md.")
        (self._folder / "dog").write_text(str(guarded))

    def close(self) -> tuple[Change, ...]:
        before = dict(self.values)
        self.values = {knob.id: knob.stock for knob in DECLARATION.knobs}
        self._note()
        return tuple(Change(k, v, self.values[k]) for k, v in before.items() if v != self.values[k])

    def _note(self) -> None:
        (self._folder / "values").write_text(" ".join(f"{k}={v:g}" for k, v in self.values.items()))


def main() -> None:
    """Serve."""
    folder = Path(sys.argv[1])
    quick = folder / "silent"
    agent_module.SILENT_S = float(quick.read_text()) if quick.exists() else agent_module.SILENT_S
    if (ahead := folder / "ahead").exists():
        real, ahead_s = time.time, float(ahead.read_text())
        time.time = lambda: real() + ahead_s
    word = Word(folder / "agent.json", (folder / "boot").read_text().strip())

    def taken(session: str) -> dict[str, Any]:
        word.take(session)
        return {"before": word.before}

    agent = Agent(lambda asked: SmallMachine(folder), 0, 1, taken)
    signal.signal(signal.SIGTERM, lambda *_: agent.leave("it was told to end"))
    why = "a fault"
    try:
        why = agent.serve()
    finally:
        word.end(why)


if __name__ == "__main__":
    os.environ.setdefault("YONDLE_LANGUAGE", "en")
    main()
