"""The laws of the simulated machine."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats
from scipy.integrate import solve_ivp
from tests.conftest import HERON

from yondle.rigs.simulated.chip import Chip
from yondle.rigs.simulated.demand import Memory, unit_s
from yondle.rigs.simulated.faults import Edge
from yondle.rigs.simulated.heat import Heat
from yondle.rigs.simulated.rigfile import parse_rig_file
from yondle.rigs.simulated.sensors import Sensors
from yondle.rigs.simulated.world import World, fresh_state

RIG = parse_rig_file(HERON, "heron")
temperatures = st.floats(5, 95)
watts = st.floats(0, 150)
fans = st.integers(4, 20).map(lambda n: 5.0 * n)


@given(temperatures, temperatures, st.floats(5, 20), watts, fans, st.floats(0.5, 400))
def test_heat_flows_as_the_differential_equation_says(
    die: float, cooler: float, room: float, power: float, fan: float, dt: float
) -> None:
    heat, part = Heat(RIG.heat, RIG.room), RIG.heat
    gca = heat.cooler_to_room_w_per_k(fan)

    def flow(_: float, x: np.ndarray) -> list[float]:
        across = part.die_to_cooler_w_per_k * (x[0] - x[1])
        return [(power - across) / part.die_j_per_k, (across - gca * (x[1] - room)) / part.cooler_j_per_k]

    exact = solve_ivp(flow, (0, dt), [die, cooler], method="LSODA", rtol=1e-8, atol=1e-8).y[:, -1]
    assert heat.advance(die, cooler, room, power, fan, dt) == pytest.approx(tuple(exact), abs=2e-4)


@given(temperatures, temperatures, watts, fans)
def test_heat_taken_in_two_steps_is_heat_taken_in_one(die: float, cooler: float, power: float, fan: float) -> None:
    heat = Heat(RIG.heat, RIG.room)
    half = heat.advance(die, cooler, 10.0, power, fan, 7.0)
    assert heat.advance(*half, 10.0, power, fan, 7.0) == pytest.approx(
        heat.advance(die, cooler, 10.0, power, fan, 14.0), abs=1e-9
    )


@given(st.floats(3.6, 5.2), st.floats(0.9, 1.4), st.floats(0.02, 1.0), temperatures, st.floats(40, 140))
def test_the_power_allowance_is_kept_and_the_load_line_lowers_the_voltage(
    clock: float, volt: float, activity: float, die: float, allowed: float
) -> None:
    chip = Chip(RIG.chip)
    draw = chip.draw(clock, volt, activity, die, allowed, math.inf)
    assert draw.power_w <= allowed * 1.001 or draw.clock_ghz == pytest.approx(RIG.chip.lowest_clock_mhz / 1000)
    assert draw.clock_ghz <= clock
    assert draw.power_limited == (draw.clock_ghz < clock)
    assert draw.voltage_v < volt


@given(st.floats(0.8, 1.4), st.floats(0, 0.3), temperatures, st.floats(0, 40), st.sampled_from(sorted(RIG.loads)))
def test_more_voltage_never_lowers_the_edge_and_heat_never_raises_it(
    volt: float, more: float, die: float, hotter: float, load: str
) -> None:
    edge, part = Edge(RIG.edge), RIG.loads[load]
    here = edge.clock_mhz(volt, die, part)
    assert edge.clock_mhz(volt + more, die, part) >= here
    assert edge.clock_mhz(volt, die + hotter, part) <= here


@given(st.floats(4.0, 5.0), st.floats(0.01, 0.5), st.sampled_from(sorted(RIG.workloads)))
def test_more_clock_never_makes_work_slower(clock: float, more: float, name: str) -> None:
    memory, work = Memory(RIG.memory), RIG.workloads[name]
    assert unit_s(work, 8, clock + more, memory, 30.0) <= unit_s(work, 8, clock, memory, 30.0)


def test_star_match_lives_on_latency_and_stacking_on_the_clock() -> None:
    memory = Memory(RIG.memory)

    def answer(name: str) -> float:
        work = RIG.workloads[name]
        return math.log(unit_s(work, 8, 4.2, memory, 30) / unit_s(work, 8, 4.62, memory, 30)) / math.log(1.1)

    assert answer("stacking") > 0.8
    assert answer("star_match") < 0.2


def test_times_to_failure_follow_the_hazard_that_was_declared() -> None:
    """At a constant hazard the times must be exponential with its mean (Kolmogorov-Smirnov)."""
    text = HERON.replace("power_window_s = 8.0", "power_window_s = 0.001").replace("mhz_per_k = 2.2", "mhz_per_k = 0.0")
    text = text.replace("wrong_results_lead_mhz = 14.0", "").replace("leakage_w_per_v = 5.0", "leakage_w_per_v = 0.0")
    rig = parse_rig_file(text, "flat")
    times = []
    hazard = 0.0
    for seed in range(300):
        own = rig.model_copy(update={"rig": rig.rig.model_copy(update={"seed": seed})})
        state = fresh_state(own)
        state.values["core_clock"], state.values["power_limit"] = 4600.0, 140.0
        world = World(own, state)
        run = world.start("mixed_load", 1e6)
        world.advance(1.0)
        if not hazard:
            edge = world.edge.clock_mhz(world.draw.voltage_v, 60.0, run.load)
            hazard = world.edge.hazard_per_s(4600.0, edge)
        while run.failure is None:
            world.advance(50.0)
        times.append(run.failed_s - run.started_s)
    assert stats.kstest(times, "expon", args=(0, 1 / hazard)).pvalue > 0.01


def test_the_same_seed_gives_the_same_history_to_the_bit() -> None:
    def history(seed: int) -> list[object]:
        rig = RIG.model_copy(update={"rig": RIG.rig.model_copy(update={"seed": seed})})
        world = World(rig, fresh_state(rig))
        sensors = Sensors(world, rig.sensors)
        world.set_values({"core_clock": 4500.0})
        run = world.start("stacking", 30.0)
        seen: list[object] = []
        for _ in range(30):
            world.advance(1.0)
            seen.append(sensors.sample())
        return [*seen, world.score_of(run)]

    assert history(1) == history(1)
    assert history(1) != history(2)


def test_the_room_is_cold_in_the_evening_and_warms_toward_dawn() -> None:
    heat = Heat(RIG.heat, RIG.room)
    night = [heat.room_c(3600.0 * hour) for hour in range(12)]
    assert night == sorted(night)
    assert night[0] == 9.5
    assert night[-1] == 17.0


def test_a_clock_far_beyond_the_edge_never_starts_and_comes_back_at_stock_after_a_firmware_reset() -> None:
    world = World(RIG, fresh_state(RIG))
    world.set_values({"core_clock": 5200.0})
    assert world.state.down == "never started"
    assert world.bring_back() == RIG.check.firmware_reset_s
    world.advance(RIG.check.firmware_reset_s)
    assert not world.state.down
    assert world.state.boot == 2
    assert world.state.values["core_clock"] == 4200.0
