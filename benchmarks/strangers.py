"""Machines nobody has seen, and what they really do: constants drawn anew, and the same machine without its noise.

Most are Heron: power-limited, memory-bound, capped, noisy, coarse, with two slopes, hot, or plain; memory's rate can be set
live, so that an evening can sweep it. Some are Bittern, whose clocks all hang on the bus and are set by hand.
"""

from __future__ import annotations

import math
import re
import tomllib
from random import Random

from benchmarks.chips import Meter
from yondle.model.knobs import Setup
from yondle.model.workloads import Workload
from yondle.rigs.simulated.rigfile import parse_rig_file, rig_text
from yondle.rigs.simulated.sensors import _wall_w
from yondle.rigs.simulated.world import World, fresh_state

BUS_CLOCKED, RESTARTS = "bus-clocked", "restarts"
KINDS = (
    "plain", "power-limited", "memory-bound", "capped", "noisy", "coarse", "two slopes", "fast and hot", BUS_CLOCKED, RESTARTS,
)  # fmt: skip
START_C = 36.0
"""Where passes are meant to start."""
WINDOWS = 5.0
"""After so many windows of load a limiter has nothing saved up: what is left is what lasts."""


def drawn(seed: str, again: int = 0) -> tuple[str, str]:
    """Give a kind of machine and its rig file, drawn once more where the one before doesn't even hold at stock."""
    chance = Random(f"{seed}, {again}" if again else seed)
    kind = KINDS[int(seed.rsplit("/", 1)[1]) % len(KINDS)]
    return kind, _bittern(chance) if kind == BUS_CLOCKED else _heron(kind, chance)


def neighbour(text: str, seed: str) -> str:
    """Give another machine of the same kind: with other parts, a few per cent better or worse in each."""
    chance, setting = Random(seed), _Setter(text)
    setting("rig", "seed", chance.randrange(10**6))
    setting("rig", "name", '"Neighbour"')
    for name, work in parse_rig_file(text, "rig").workloads.items():
        if work.figure != "none":
            at = f"workloads.{name}"
            setting(at, "compute_gcycles", work.compute_gcycles * chance.uniform(0.94, 1.06))
            setting(at, "traffic_gb", work.traffic_gb * chance.uniform(0.85, 1.15))
            setting(at, "fixed_s", work.fixed_s * chance.uniform(0.5, 2.0))
    return setting.text


def _bittern(chance: Random) -> str:
    """Draw a machine whose clocks hang on the bus; its workloads are Heron's."""
    setting = _Setter(rig_text("bittern")[0])
    setting("rig", "seed", chance.randrange(10**6))
    setting("knobs.power_limit", "stock", chance.choice((50, 65, 95)))
    setting("room", "evening_c", chance.uniform(10.0, 22.0))
    setting("chip", "switching_w_per_v2_ghz", chance.uniform(2.6, 4.0))
    setting("chip", "power_window_s", chance.uniform(4.0, 28.0))
    setting("edge", "clock_mhz", chance.uniform(3900.0, 4200.0))
    setting("edge", "corrected_lead_mhz", chance.uniform(60.0, 400.0))
    for name, work in tomllib.loads(rig_text("heron")[0])["workloads"].items():
        if work["figure"] == "none" or name.startswith("frames"):
            continue
        at = f"workloads.{name}"
        bound = chance.uniform(0.4, 3.0)
        setting(at, "compute_gcycles", work["compute_gcycles"] * chance.uniform(0.6, 1.4))
        setting(at, "traffic_gb", work["traffic_gb"] * bound)
        setting(at, "khops", work["khops"] * bound)
        setting(at, "fixed_s", work["fixed_s"] * chance.uniform(0.3, 4.0))
        setting(at, "noise", work["noise"] * chance.uniform(0.5, 1.5))
    return setting.text


def _heron(kind: str, chance: Random) -> str:
    text = rig_text("heron")[0]
    setting = _Setter(text)
    setting("rig", "seed", chance.randrange(10**6))
    setting.without("knobs.memory_rate", "when")
    limit = chance.choice((45, 50, 55, 60, 65)) if kind == "power-limited" else 5 * chance.randrange(16, 22)
    setting("knobs.power_limit", "stock", limit)
    setting("room", "evening_c", chance.uniform(8.0, 24.0))
    setting("room", "dawn_c", chance.uniform(14.0, 27.0))
    setting("chip", "switching_w_per_v2_ghz", chance.uniform(1.1, 1.6) * (1.4 if kind == "fast and hot" else 1.0))
    setting("chip", "power_window_s", chance.uniform(4.0, 28.0))
    setting("heat", "cooler_j_per_k", chance.uniform(250.0, 700.0))
    setting("edge", "clock_mhz", chance.uniform(4650.0, 5000.0))
    setting("edge", "mhz_per_v", chance.uniform(1800.0, 3200.0))
    setting("edge", "mhz_per_k", chance.uniform(1.0, 3.0))
    setting("edge", "width_mhz", chance.uniform(6.0, 25.0))
    if kind == "two slopes":
        setting("edge", "corrected_lead_mhz", chance.uniform(40.0, 90.0))
        setting("edge", "corrected_width_mhz", chance.uniform(20.0, 50.0))
    for name, work in tomllib.loads(text)["workloads"].items():
        if work["figure"] == "none":
            continue
        at = f"workloads.{name}"
        bound = chance.uniform(2.0, 5.0) if kind == "memory-bound" else chance.uniform(0.4, 1.8)
        size = chance.uniform(6.0, 12.0) if kind == "coarse" and work["figure"] != "seconds" else 1.0
        setting(at, "compute_gcycles", work["compute_gcycles"] * size * chance.uniform(0.6, 1.4))
        setting(at, "traffic_gb", work["traffic_gb"] * size * bound)
        setting(at, "khops", work["khops"] * size * bound)
        setting(at, "fixed_s", work["fixed_s"] * size * chance.uniform(0.3, 4.0))
        setting(
            at, "noise", work["noise"] * (chance.uniform(2.0, 4.0) if kind == "noisy" else chance.uniform(0.5, 1.3))
        )
        if kind == "coarse":
            setting(at, "digits", 0 if work["figure"] != "seconds" else 1)
        if kind == "capped" and work["figure"] == "per second":
            setting(at, "compute_gcycles", work["compute_gcycles"] * chance.uniform(3.0, 9.0))
    return setting.text


class _Setter:
    """Sets values of a rig file's tables, as text."""

    def __init__(self, text: str) -> None:
        self.text = text

    def __call__(self, table: str, key: str, value: float | str) -> None:
        """Set a key of a table, which is added where it isn't there."""
        if f"[{table}]\n" not in self.text:
            self.text += f"\n[{table}]\n"
        head, rest = self.text.split(f"[{table}]\n", 1)
        body, *tail = re.split(r"(?=^\[)", rest, maxsplit=1, flags=re.MULTILINE)
        line = f"{key} = {value:.6g}" if isinstance(value, float) and not value.is_integer() else f"{key} = {value}"
        pattern = re.compile(rf"^{key} = .*$", re.MULTILINE)
        body = pattern.sub(line, body) if pattern.search(body) else f"{line}\n{body}"
        self.text = f"{head}[{table}]\n{body}{''.join(tail)}"

    def without(self, table: str, key: str) -> None:
        """Take a key out of a table."""
        head, rest = self.text.split(f"[{table}]\n", 1)
        self.text = f"{head}[{table}]\n" + re.sub(rf"^{key} = .*\n", "", rest, count=1, flags=re.MULTILINE)


class _Even(Meter):
    """Corrects as many errors as are expected, evenly, since they cost time; fails never."""

    owed = 0.0

    def corrected(self, expected: float) -> int:
        """Give the errors that are due by now."""
        self.owed += expected
        due = int(self.owed)
        self.owed -= due
        return due


class Truth:
    """What a machine does at a setup, without noise: work a second and watts in one pass from where passes start.

    Errors that are corrected cost time; a trend that is followed to where there are many knows nothing of them: without.
    """

    def __init__(self, text: str, at_s: float, corrects: bool = True) -> None:
        self._fate = _Even if corrects else Meter
        tireless = _Setter(text)
        graphics = [("graphics", "mhz")] if parse_rig_file(text, "truth").graphics is not None else []
        for table, margin in (("edge", "mhz"), ("memory_edge", "mt_s"), *graphics):
            tireless(table, f"start_margin_{margin}", 20000)
        self.rig, self._at_s = parse_rig_file(tireless.text, "truth"), at_s
        self._known: dict[tuple[Setup, str], tuple[float, float]] = {}

    def log(self, setup: Setup, workload: str) -> float:
        """Give the logarithm of the speed: up is better, whatever the figure is."""
        return math.log(self._pass(setup, workload)[0])

    def watts(self, setup: Setup, workload: str) -> float:
        """Give the mean power drawn from the wall."""
        return self._pass(setup, workload)[1]

    def figure(self, setup: Setup, benchmark: Workload) -> float:
        """Give the figure itself."""
        speed = self._pass(setup, benchmark.id)[0]
        kind = self.rig.workloads[benchmark.id].figure
        return 1.0 / speed if kind == "seconds" else speed * (60.0 if kind == "per minute" else 1.0)

    def _pass(self, setup: Setup, workload: str) -> tuple[float, float]:
        if (setup, workload) not in self._known:
            self._known[setup, workload] = self._run(setup, workload)
        return self._known[setup, workload]

    def _run(self, setup: Setup, workload: str) -> tuple[float, float]:
        work = self.rig.workloads[workload]
        state = fresh_state(self.rig)
        state.t_s, state.die_c, state.cooler_c = self._at_s, START_C, START_C
        state.values.update(setup)
        world = World(self.rig, state)
        step = 0.25
        before_s = WINDOWS * max(
            self.rig.chip.power_window_s, self.rig.graphics.power_window_s if self.rig.graphics else 0.0
        )
        run = world.start(workload, before_s + work.pass_s + 60.0)
        run.fate = self._fate()  # type: ignore[assignment]
        world.advance(before_s)
        before, joules = run.units, 0.0
        for _ in range(round(work.pass_s / step)):
            world.advance(step)
            joules += _wall_w(world) * step
        speed = (run.units - before) / work.pass_s
        return min(speed, work.cap_per_s or math.inf), joules / work.pass_s
