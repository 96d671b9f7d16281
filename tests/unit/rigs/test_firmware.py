"""How the simulated machine takes values, restarts with them, and comes back from those it can't start with."""

from __future__ import annotations

import pytest
from tests.conftest import HERON

from yondle.app.machine.machines import choose_rig
from yondle.model.errors import MachineDownError
from yondle.model.verdicts import Failure
from yondle.rigs.simulated.rig import SimulatedRig
from yondle.rigs.simulated.rigfile import parse_rig_file


@pytest.fixture
def rig() -> SimulatedRig:
    return SimulatedRig(parse_rig_file(HERON, "heron"))


def restarted(rig: SimulatedRig) -> float:
    began = rig.world.state.t_s
    rig.world.advance(rig.restart())
    return rig.world.state.t_s - began


def test_a_value_entered_in_firmware_is_in_force_after_the_restart_and_live_ones_are_lost(rig: SimulatedRig) -> None:
    rig.apply({"core_clock": 4300.0})
    assert rig.enter({"memory_rate": 5800.0})[0].after_restart
    assert rig.read_back()["memory_rate"] == 5600.0
    assert rig.pending() == {"memory_rate": 5800.0}
    took = restarted(rig)
    assert (rig.read_back()["memory_rate"], rig.read_back()["core_clock"]) == (5800.0, 4200.0)
    assert took >= 75.0 + 40.0, "new memory settings are trained"
    assert restarted(rig) == 75.0
    assert rig.read_back()["memory_rate"] == 5800.0


@pytest.mark.parametrize(
    ("knob", "asked", "reads", "in_force", "says"),
    [
        ("memory_voltage", 1.45, 1.1, 1.1, "at most 1.40"),
        ("controller_voltage", 1.085, 1.08, 1.08, "rounded to 1.080"),
        ("graphics_power_limit", 90.0, 90.0, 70.0, ""),
        ("link_width", 1.0, 1.0, 1.0, ""),
    ],
)
def test_the_machine_refuses_rounds_or_reports_what_is_not_in_force(
    rig: SimulatedRig, knob: str, asked: float, reads: float, in_force: float, says: str
) -> None:
    by_hand = str(rig.declaration.knob(knob).when) == "by hand"
    reply = (rig.enter if by_hand else rig.apply)({knob: asked})[0]
    if str(rig.declaration.knob(knob).when) != "live":
        restarted(rig)
    assert says in reply.message.replace("\u202f", " ")
    assert rig.read_back()[knob] == reads
    assert rig.world.state.values[knob] == in_force


def test_memory_that_can_not_start_stops_with_a_code_and_costs_a_firmware_reset(rig: SimulatedRig) -> None:
    rig.enter({"memory_rate": 7000.0, "memory_channels": 0.0})
    restarted(rig)
    with pytest.raises(MachineDownError) as down:
        rig.read_back()
    assert (down.value.failure, down.value.code) == (Failure.STOPPED_IN_START, "b7")
    assert rig.last_start().code == "b7"
    assert rig.bring_back() == 210.0
    rig.world.advance(210.0)
    assert rig.read_back()["memory_rate"] == 5600.0
    assert rig.read_back()["memory_channels"] == 0.0, "what was swapped stays fitted"
    assert rig.boot_id() == "heron-3"


def test_an_old_machine_takes_its_clock_from_the_bus_and_never_starts_beyond_its_edge() -> None:
    rig = SimulatedRig(parse_rig_file(choose_rig("bittern").definition, "bittern"))
    rig.enter({"bus_clock": 102.0, "core_ratio": 36.0})
    restarted(rig)
    told = rig.read_back()
    assert "core_voltage" not in told, "this firmware doesn't tell"
    setup = rig.declaration.stock.with_values(told)
    derived = rig.declaration.derived(setup)
    assert (derived["core_clock"], derived["memory_rate"]) == (3672.0, 1632.0)
    assert derived["first_word_latency"] == pytest.approx(2000 * 9 / 1632)
    assert rig.world.settings.core_clock_ghz == pytest.approx(3.672)
    rig.enter({"core_ratio": 44.0})
    restarted(rig)
    with pytest.raises(MachineDownError) as down:
        rig.read_back()
    assert (down.value.failure, down.value.code) == (Failure.NEVER_STARTED, "c0")


def test_the_state_of_a_machine_outlives_the_program_in_the_middle_of_a_restart(tmp_path: object) -> None:
    from pathlib import Path

    file = Path(str(tmp_path)) / "machine"
    parsed = parse_rig_file(HERON, "heron")
    rig = SimulatedRig(parsed, file)
    rig.enter({"memory_rate": 7000.0})
    rig.restart()
    again = SimulatedRig(parsed, file)
    assert again.read_back()["memory_rate"] == 5600.0
    assert again.last_start().failure is Failure.STOPPED_IN_START


def test_the_twin_has_a_worse_chip_and_better_memory() -> None:
    one, two = (SimulatedRig(parse_rig_file(choose_rig(name).definition, name)) for name in ("heron", "heron-ii"))
    load = one.world.rig.loads["mixed"]
    assert two.world.edge.clock_mhz(1.2, 60, load) < one.world.edge.clock_mhz(1.2, 60, load) - 50
    assert [k.id for k in one.declaration.knobs] == [k.id for k in two.declaration.knobs]
    two.enter({"memory_rate": 6400.0})
    restarted(two)
    assert two.read_back()["memory_rate"] == 6400.0
