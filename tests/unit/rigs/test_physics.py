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

from yondle.rigs.simulated import memory
from yondle.rigs.simulated.chip import Chip
from yondle.rigs.simulated.demand import Speeds, unit_s
from yondle.rigs.simulated.faults import HiddenEdge
from yondle.rigs.simulated.graphics import Graphics
from yondle.rigs.simulated.heat import Heat
from yondle.rigs.simulated.knobs import Taken
from yondle.rigs.simulated.rig import declaration_of
from yondle.rigs.simulated.rigfile import parse_rig_file, rig_text
from yondle.rigs.simulated.sensors import Sensors
from yondle.rigs.simulated.settings import resolve
from yondle.rigs.simulated.world import PARKED_SHARE, World, fresh_state

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
    edge, part = HiddenEdge(RIG.edge), RIG.loads[load]
    here = edge.clock_mhz(volt, die, part)
    assert edge.clock_mhz(volt + more, die, part) >= here
    assert edge.clock_mhz(volt, die + hotter, part) <= here


def speeds(clock_ghz: float = 4.2, **changes: float) -> Speeds:
    values = resolve(RIG, {**fresh_state(RIG).values, **changes})
    bandwidth, latency = memory.bandwidth_gb_s(RIG.memory, values, 30.0), memory.latency_ns(RIG.memory, values)
    graphics = Graphics(RIG.graphics)
    shown = values.graphics_clock_mhz / 1000, graphics.memory_gb_s(values), graphics.link_gb_s(values)
    return Speeds(values.cores, values.threads, clock_ghz, bandwidth, latency, *shown)


@given(st.floats(4.0, 5.0), st.floats(0.01, 0.5), st.sampled_from(sorted(RIG.workloads)))
def test_more_clock_never_makes_work_slower(clock: float, more: float, name: str) -> None:
    work = RIG.workloads[name]
    assert unit_s(work, speeds(clock + more)) <= unit_s(work, speeds(clock))


@pytest.mark.parametrize(
    ("knob", "value", "answers", "does_not"),
    [
        ("core_clock", None, "stacking", "star_match"),
        ("cas", 30.0, "star_match", "sharpening"),
        ("graphics_clock", 2310.0, "frames", "stacking"),
        ("cores_in_use", 4.0, "stacking", "star_match"),
    ],
)
def test_every_benchmark_answers_to_its_knob_in_its_own_proportion(
    knob: str, value: float | None, answers: str, does_not: str
) -> None:
    turned = speeds(4.62) if value is None else speeds(**{knob: value})

    def answer(name: str) -> float:
        work = RIG.workloads[name]
        return abs(math.log(unit_s(work, speeds()) / unit_s(work, turned)))

    assert answer(answers) > 2 * answer(does_not)


def test_times_to_failure_follow_the_hazard_that_was_declared() -> None:
    """At a constant hazard the times must be exponential with its mean (Kolmogorov-Smirnov)."""
    text = HERON.replace("power_window_s = 8.0", "power_window_s = 0.001").replace("mhz_per_k = 2.2", "mhz_per_k = 0.0")
    text = text.replace("wrong_results_lead_mhz = 14.0", "").replace("leakage_w_per_v = 5.0", "leakage_w_per_v = 0.0")
    text = text.replace("regulator_mhz_per_w = 0.25", "regulator_mhz_per_w = 0.0")
    text = text.replace("memory_use = 0.8", "memory_use = 0.0").replace("graphics_use = 0.5", "graphics_use = 0.0")
    rig = parse_rig_file(text, "flat")
    times = []
    hazard = 0.0
    for seed in range(300):
        own = rig.model_copy(update={"rig": rig.rig.model_copy(update={"seed": seed})})
        state = fresh_state(own)
        state.values.update(core_clock=4600.0, power_limit=140.0, threads_per_core=1.0)
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
        world.set_live({"core_clock": Taken(4500.0, 4500.0)})
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


def test_what_goes_into_the_machine_as_power_is_stored_or_goes_to_the_room() -> None:
    """Energy balance of an hour of load: the integral of power equals heat stored plus heat given to the room."""
    world = World(RIG, fresh_state(RIG))
    world.start("mixed_load", 3600.0)
    before = world.state.die_c, world.state.cooler_c
    put_in = given_off = 0.0
    for _ in range(3600):
        t, cooler = world.state.t_s, world.state.cooler_c
        world.advance(1.0)
        put_in += world.draw.power_w
        mean_cooler = (cooler + world.state.cooler_c) / 2
        given_off += world.heat.cooler_to_room_w_per_k(40.0) * (mean_cooler - world.heat.room_c(t))
    part = RIG.heat
    stored = part.die_j_per_k * (world.state.die_c - before[0]) + part.cooler_j_per_k * (
        world.state.cooler_c - before[1]
    )
    assert put_in > 200_000
    assert stored + given_off == pytest.approx(put_in, rel=2e-3)


def test_the_older_machine_loses_speed_before_it_crashes() -> None:
    """It corrects errors without counting them; heat and a soaked regulator bring more of them, so its work slows down."""
    rig = parse_rig_file(rig_text("bittern")[0], "bittern")
    state = fresh_state(rig)
    state.values.update(core_ratio=38.0, power_limit=125.0)
    world = World(rig, state)
    run = world.start("mixed_load", 1200.0)
    rates = []
    while run.failure is None and world.state.t_s < 1200.0:
        done = run.units
        world.advance(20.0)
        rates.append(run.units - done)
    assert run.failure is not None
    assert len(rates) > 6
    assert sum(rates[-4:-1]) < 0.985 * sum(rates[:3])


def test_each_core_has_its_own_temperature_and_one_that_is_parked_is_cool() -> None:
    state = fresh_state(RIG)
    state.values.update(cores_in_use=6.0)
    world = World(RIG, state)
    world.start("mixed_load", 600.0)
    world.advance(120.0)
    exact = {"noise": 0.0, "quantum": 0.0, "bias": 0.0}
    parts = {name: part.model_copy(update=exact) for name, part in RIG.sensors.items()}
    declared = declaration_of(RIG).channels
    seen = dict(zip((c.core for c in declared), Sensors(world, parts).sample(), strict=True))
    cores = [seen[core] or 0.0 for core in range(RIG.chip.cores)]
    cooler, die = world.state.cooler_c, world.state.die_c
    assert len(set(cores[:6])) == 6
    assert all(cooler < core <= die + 1e-3 for core in cores)
    assert cores[6] == cores[7] == pytest.approx(cooler + PARKED_SHARE * (die - cooler), abs=1e-3)
    assert max(World(RIG, fresh_state(RIG)).core_shares) == 1.0
