"""Roles are declared on knobs and channels; a quantity is a line in one table, and everything else follows from it."""

from __future__ import annotations

from dataclasses import replace
from pathlib import Path

from yondle.analysis.judging import Trial
from yondle.analysis.pointing import point
from yondle.engine.passes import _disturbance
from yondle.model.knobs import Change, Knob, Setup, Subsystem
from yondle.model.measured import Measured
from yondle.model.rigs import RigDeclaration, RigInfo
from yondle.model.sensors import NATURES, OTHERS_USE, ROOM, STOLEN, Channel, Quantity, quantity_in
from yondle.model.verdicts import Failure, Outcome, Verdict
from yondle.model.workloads import Direction, Metric, Workload
from yondle.views.shared.measured import Figure
from yondle.views.shared.showing import above_room_k, temperatures

RATE = Knob("tact", "Tact", "MT/s", Subsystem.MEMORY, 4800, 6400, 200, 5600, role="memory_rate")
FIRST = Knob("tcl", "tCL", "", Subsystem.MEMORY, 28, 46, 1, 40, role="cas")
SECOND = Knob("vdd2", "Second voltage", "V", Subsystem.MEMORY, 0.9, 1.4, 0.01, 1.1, 3, role="controller_voltage")
SHED = Channel("shed", "Shed", "°C", Quantity.TEMPERATURE, Subsystem.WHOLE, role=ROOM)
CHIP = Channel("chip", "Chip", "°C", Quantity.TEMPERATURE, Subsystem.PROCESSOR)
GUESTS = Channel("guests", "Guests", "%", Quantity.USE, Subsystem.PROCESSOR, role=OTHERS_USE)
LOAD = Workload("mill", "Mill", "", Metric("speed", "rounds/s", Direction.HIGHER), 10.0)
ELSEWHERE = RigDeclaration(
    RigInfo("shed_box", "Shed box", "the shed", False), (RATE, FIRST, SECOND), (SHED, CHIP, GUESTS), (LOAD,), (), {}, 0.2,
    constants={"memory_channels": 2.0},
)  # fmt: skip


def test_derived_quantities_follow_roles_whatever_the_knobs_are_called() -> None:
    found = ELSEWHERE.derived(Setup.of({"tact": 6000.0, "tcl": 36.0, "vdd2": 1.1}))
    assert found["first_word_latency"] == 12.0
    assert found["peak_bandwidth"] == 96.0
    assert {d.id for d in ELSEWHERE.derived_of} >= {"memory_clock", "first_word_latency"}


def test_a_failure_of_a_knob_that_plays_the_controllers_voltage_points_to_the_controller() -> None:
    trial = Trial(Setup.of({"vdd2": 1.2}), (Change("vdd2", 1.1, 1.2),), ())
    fell = Outcome(Verdict.DOWN, "", Failure.FROZE)
    assert point(ELSEWHERE, trial, fell).subsystem == str(Subsystem.CONTROLLER)
    plain = replace(ELSEWHERE, knobs=(RATE, FIRST, replace(SECOND, role="")))
    assert point(plain, trial, fell).subsystem == str(Subsystem.MEMORY)


def test_the_room_is_told_from_other_temperatures_by_its_role() -> None:
    figure = Figure(100.0, 0.0, Measured(mean={"shed": 18.0, "chip": 60.0}, most={"shed": 19.0, "chip": 71.0}))
    assert [c.id for c in temperatures(ELSEWHERE)] == ["chip"]
    assert above_room_k(figure, temperatures(ELSEWHERE), ELSEWHERE.playing(ROOM)) == 53.0
    assert ELSEWHERE.playing(STOLEN) is None
    assert ELSEWHERE.playing(STOLEN, OTHERS_USE) is GUESTS


def test_every_quantity_has_its_line_and_units_are_told_apart_by_them() -> None:
    assert set(NATURES) == set(Quantity)
    assert quantity_in("rpm") is Quantity.FAN
    assert quantity_in("furlongs") is Quantity.OTHER
    strips = [nature.strip for nature in NATURES.values() if nature.strip]
    assert len(strips) == len(set(strips))


def test_no_domain_code_names_a_knob_or_a_sensor_of_a_shipped_rig() -> None:
    source = Path(__file__).resolve().parents[3] / "src" / "yondle"
    shipped = (source / "rigs" / "simulated" / "shipped").glob("*.toml")
    ids = {line.split(".")[1].rstrip("]\n") for path in shipped for line in path.read_text("utf-8").splitlines()
           if line.startswith(("[knobs.", "[sensors."))}  # fmt: skip
    assert len(ids) > 40
    roles = (source / "model" / "derived.py", source / "model" / "sensors.py", source / "analysis" / "pointing.py")
    named = []
    for folder in ("model", "analysis", "planning", "engine", "views"):
        for path in (source / folder).rglob("*.py"):
            text = path.read_text("utf-8")
            named += [(path.name, id_) for id_ in ids if f'"{id_}"' in text and path not in roles]
    assert named == []


def test_a_pass_that_was_disturbed_is_told_by_the_role_of_what_others_use() -> None:
    assert _disturbance(ELSEWHERE, Measured(mean={"guests": 40.0}), 0.0) == "other programs used 40 % of the machine"
    assert _disturbance(ELSEWHERE, Measured(mean={"other_use": 40.0}), 0.0) == "", "no channel of this rig"
