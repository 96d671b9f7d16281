"""The laws of the simulated memory and graphics."""

from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from tests.conftest import HERON

from yondle.model.knobs import Subsystem
from yondle.rigs.simulated import memory
from yondle.rigs.simulated.graphics import Graphics
from yondle.rigs.simulated.rigfile import parse_rig_file
from yondle.rigs.simulated.settings import ResolvedSettings, resolve
from yondle.rigs.simulated.world import fresh_state

RIG = parse_rig_file(HERON, "heron")
STOCK = resolve(RIG, fresh_state(RIG).values)
EDGE = RIG.memory_edge
GRAPHICS = Graphics(RIG.graphics)
timings = st.sampled_from(["cas", "trcd", "trp", "tras", "trfc"])
rates = st.integers(24, 40).map(lambda n: 200.0 * n)


def with_more(timing: str, by: int, settings: ResolvedSettings = STOCK) -> ResolvedSettings:
    return replace(settings, **{timing: getattr(settings, timing) + by})


@given(rates, st.floats(1.0, 1.5), st.floats(0, 0.3), st.floats(10, 80), st.floats(0, 30))
def test_more_memory_voltage_never_lowers_the_edge_and_heat_never_raises_it(
    rate: float, volt: float, more: float, warm: float, warmer: float
) -> None:
    here = replace(STOCK, memory_rate_mt_s=rate, memory_voltage_v=volt)
    edge = memory.edge(EDGE, here, warm, 0.0).rate_mt_s
    assert memory.edge(EDGE, replace(here, memory_voltage_v=volt + more), warm, 0.0).rate_mt_s >= edge - 1e-6
    assert memory.edge(EDGE, here, warm + warmer, 0.0).rate_mt_s <= edge + 1e-6


@given(rates, timings, st.integers(1, 40))
def test_a_looser_timing_never_lowers_the_edge(rate: float, timing: str, by: int) -> None:
    here = replace(STOCK, memory_rate_mt_s=rate)
    loose = memory.edge(EDGE, with_more(timing, by, here), 35.0, 0.0).rate_mt_s
    assert loose >= memory.edge(EDGE, here, 35.0, 0.0).rate_mt_s - 1e-6


@given(rates, st.integers(1, 20))
def test_latency_rises_with_cas_and_falls_with_the_rate(rate: float, by: int) -> None:
    here = replace(STOCK, memory_rate_mt_s=rate)
    latency = memory.latency_ns(RIG.memory, here)
    assert memory.latency_ns(RIG.memory, with_more("cas", by, here)) > latency
    assert memory.latency_ns(RIG.memory, replace(here, memory_rate_mt_s=rate + 200.0)) < latency


@given(rates)
def test_bandwidth_rises_with_the_rate_and_never_passes_the_controller(rate: float) -> None:
    here = replace(STOCK, memory_rate_mt_s=rate)
    now = memory.bandwidth_gb_s(RIG.memory, here, 20.0)
    assert now < memory.bandwidth_gb_s(RIG.memory, replace(here, memory_rate_mt_s=rate + 200.0), 20.0)
    assert now < RIG.memory.controller_gb_s
    assert memory.bandwidth_gb_s(RIG.memory, replace(here, channels=1), 20.0) < now


def test_what_the_memory_is_short_of_is_named() -> None:
    fast = replace(STOCK, memory_rate_mt_s=7400.0, memory_voltage_v=1.4, cas=52, trcd=54, trp=54, tras=110, trfc=1300)
    assert memory.edge(EDGE, fast, 35.0, 0.0).short.value is Subsystem.CONTROLLER
    assert memory.edge(EDGE, STOCK, 35.0, 0.0).short.value is Subsystem.MEMORY
    relaxed = replace(fast, half_ratio=True)
    assert memory.edge(EDGE, relaxed, 35.0, 0.0).rate_mt_s > memory.edge(EDGE, fast, 35.0, 0.0).rate_mt_s
    assert memory.latency_ns(RIG.memory, relaxed) > memory.latency_ns(RIG.memory, fast)


@given(st.floats(1500, 2700), st.floats(0.1, 1.0), st.floats(30, 90))
def test_graphics_keeps_its_power_limit_by_lowering_its_clock(clock: float, use: float, limit: float) -> None:
    asked = replace(STOCK, graphics_clock_mhz=clock, graphics_power_w=limit)
    draw = GRAPHICS.draw(asked, use, limit, 1.0)
    floor = 0.3 * clock * 1.001
    assert draw.power_w <= limit * 1.01 or draw.clock_mhz <= floor
    assert draw.power_limited == (draw.clock_mhz < clock)


def test_graphics_shows_wrong_pixels_before_it_crashes_and_more_memory_clock_gets_to_be_less() -> None:
    wrong, crash = GRAPHICS.hazards_per_s(STOCK, 2330.0, 55.0, 0.0)
    assert wrong > 5 * crash
    clocks = [1400.0 + 25.0 * n for n in range(33)]
    speeds = [GRAPHICS.memory_gb_s(replace(STOCK, graphics_memory_mhz=clock)) for clock in clocks]
    best = clocks[speeds.index(max(speeds))]
    assert 1750.0 < best < 2150.0


@pytest.mark.parametrize(("asked", "in_use"), [(0.0, 4), (1.0, 8), (2.0, 8)])
def test_the_splitter_leaves_eight_lanes_whatever_is_reported(asked: float, in_use: int) -> None:
    assert resolve(RIG, {**fresh_state(RIG).values, "link_width": asked}).lanes == in_use
