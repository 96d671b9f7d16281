"""What a bench across the room costs: processor time of the agent, what goes over the line, how long it takes to be there."""

from __future__ import annotations

import os
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from pathlib import Path

from tests.linux.trees import desktop, put

from benchmarks.measuring import Line
from yondle.rigs.bench import line as across
from yondle.rigs.bench.protocol import FORMAT

MORE, FOR_S, AT_REST_S = 46, 60.0, 30.0
"""So many sensors more than the stand-in has make 64 of them."""
ALONE = """
import sys, time
from pathlib import Path
from yondle.app.machine.clocks import RealClock
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost
clock = RealClock()
rig = ThisRig(ChildHost(clock.now), clock.now, Path(sys.argv[1]))
rig.sample()
time.sleep(1.0)
used, began = time.process_time(), time.monotonic()
while time.monotonic() - began < float(sys.argv[2]):
    rig.sample()
    time.sleep(0.1)
print((time.process_time() - used) / (time.monotonic() - began))
"""
"""The same samples, taken and thrown away."""
AGENT = """
import os, sys
from pathlib import Path
from yondle.app.machine.agent import BenchHere
from yondle.app.machine.clocks import RealClock
from yondle.rigs.bench.agent import Agent
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost
clock = RealClock()
rig = lambda asked: BenchHere(ThisRig(ChildHost(clock.now), clock.now, Path(sys.argv[1])))
Agent(rig, 0, 1).serve()
"""


def lines() -> Iterator[Line]:
    """Have a real agent stream a stand-in machine's sensors for a minute, and read what the kernel counted."""
    with tempfile.TemporaryDirectory() as folder:
        root = desktop(Path(folder))
        more = {f"sys/class/hwmon/hwmon9/temp{i}_input": str(30000 + i) for i in range(1, MORE + 1)}
        put(root, {"sys/class/hwmon/hwmon9/name": "board", **more})
        counter = _Counting([sys.executable, "-c", AGENT, str(root)])
        try:
            told = counter.line.ask("begin", 60.0, format=FORMAT, session="b", nice=0, memory_mib=0, processors=[])
            channels = len(told["declaration"]["channels"])
            counter.line.channels = channels
            rest = counter.measure(AT_REST_S, lambda: time.sleep(1.0))
            counter.line.stream(0.1)
            alone = subprocess.Popen(
                [sys.executable, "-c", ALONE, str(root), str(FOR_S)], stdout=subprocess.PIPE, text=True
            )
            streaming = counter.measure(FOR_S, lambda: counter.line.take(1.0))
            plain = 100 * float(alone.communicate()[0])
        finally:
            counter.line.close()
    began = time.monotonic()
    there = across.Line([sys.executable, "-m", "yondle.main", "agent"])
    there.ask("begin", 60.0, format=FORMAT, session="b", nice=0, memory_mib=0, processors=[])
    ready_s = time.monotonic() - began
    there.close()
    share, wide = 100 * streaming[0], streaming[1] / 1000
    yield Line(
        f"the agent, {channels} sensors ten times a second",
        f"{share:.2f} % of a core",
        f"the samples alone {plain:.2f} %",
        f"{share / plain:.2f}",
        "under 0.5 %",
    )
    yield Line(
        "what goes over the line then", f"{wide:.1f} kB/s", f"at rest {rest[1] / 1000:.2f} kB/s", "", "under 20 kB/s"
    )
    yield Line("the agent at rest", f"{100 * rest[0]:.3f} % of a core", "", "", "")
    yield Line("from its start until it has told what it has", f"{1000 * ready_s:.0f} ms", "", "", "")


class _Counting:
    """A line whose bytes are counted, both ways, by what the kernel says of the agent."""

    def __init__(self, command: list[str]) -> None:
        self.line = across.Line(command)
        self._pid = self.line.pid

    def measure(self, seconds: float, does: object) -> tuple[float, float]:
        """Give the share of a processor and the bytes a second over a while."""
        assert callable(does)
        began, used, said = time.monotonic(), self._used_s(), self._bytes()
        while time.monotonic() - began < seconds:
            does()
        passed = time.monotonic() - began
        return (self._used_s() - used) / passed, (self._bytes() - said) / passed

    def _used_s(self) -> float:
        return int(Path(f"/proc/{self._pid}/schedstat").read_text().split()[0]) / 1e9

    def _bytes(self) -> int:
        return self.line.heard_bytes


if __name__ == "__main__":
    os.environ.setdefault("YONDLE_LANGUAGE", "en")
    for each in lines():
        print(each)
