"""The tables of a rig file as validated values; docs/rig-file.md lists every key, docs/rig-model.md what it does."""

from __future__ import annotations

from datetime import datetime
from typing import Annotated, Literal

from pydantic import Field, model_validator

from yondle.formats.knob_table import Identifier, KnobTable, Name, Positive, Real, StrictTable
from yondle.language.saying import say
from yondle.model.knobs import When

NotNegative = Annotated[Real, Field(ge=0)]
Waited = Annotated[Positive, Field(le=86400)]
Share = Annotated[float, Field(ge=0, le=1)]
Timing = Annotated[int, Field(ge=1, le=60000)]


class RigPart(StrictTable):
    """Who the rig is, and where its history starts."""

    id: Identifier
    name: Name
    place: Name
    seed: Annotated[int, Field(ge=0)]
    starts_at: datetime
    facts: dict[Name, Name] = Field(default_factory=dict)


class KnobPart(KnobTable):
    """The values one knob takes, and how the machine takes a value."""

    when: When = When.LIVE
    swapped: bool = False
    readable: bool = True
    refused_above: Real | None = None
    refused_below: Real | None = None
    rounded_to: Positive | None = None
    in_force_up_to: Real | None = None


class RoomPart(StrictTable):
    """Room temperature: a half cosine from the evening to dawn, constant after it."""

    evening_c: Real
    dawn_c: Real
    hours_to_dawn: Positive


class ChipPart(StrictTable):
    """Electrical constants of the processor; clock and voltage are those in force where no knob sets them."""

    cores: Annotated[int, Field(ge=1, le=256)]
    switching_w_per_v2_ghz: Positive
    idle_activity: Share
    uncore_w: NotNegative
    leakage_w_per_v: NotNegative
    leakage_at_c: Real
    leakage_e_fold_k: Positive
    load_line_mohm: NotNegative
    load_line_levels: tuple[Share, ...] = ()
    power_window_s: Positive
    heat_limit_c: Positive
    lowest_clock_mhz: Positive
    bus_clock_mhz: Positive = 100.0
    clock_mhz: Positive | None = None
    voltage_v: Positive | None = None
    power_limit_w: Positive = 10000.0
    second_thread_power: Share = 0.08
    second_thread_edge_mhz: NotNegative = 10.0


class ModePart(StrictTable):
    """A named power mode: its share of the power limit, and a clock it doesn't go beyond."""

    power_share: Annotated[float, Field(gt=0, le=2)]
    clock_up_to_mhz: Positive | None = None


class HeatPart(StrictTable):
    """The two heat nodes, die and cooler."""

    die_j_per_k: Positive
    cooler_j_per_k: Positive
    die_to_cooler_w_per_k: Positive
    cooler_to_room_still_w_per_k: Positive
    cooler_to_room_full_w_per_k: Positive
    fan_exponent: Positive
    fan_full_rpm: Positive


class EdgePart(StrictTable):
    """The edge of what the core holds, and how fast things get worse beyond it."""

    clock_mhz: Positive
    at_v: Positive
    at_c: Real
    mhz_per_v: NotNegative
    mhz_per_v2: NotNegative
    mhz_per_k: NotNegative
    width_mhz: Positive
    start_margin_mhz: Positive
    floor_per_h: NotNegative
    corrected_lead_mhz: NotNegative | None = None
    corrected_width_mhz: Positive | None = None
    regulator_mhz_per_w: NotNegative = 0.0
    regulator_time_s: Positive = 500.0


class LoadPart(StrictTable):
    """A class of load: how hard it works each part, how far it lowers the edges, and how a core failure shows."""

    activity: Share
    edge_lowered_mhz: Real
    wrong_results_lead_mhz: NotNegative | None = None
    freezes: NotNegative
    restarts: NotNegative
    program_crashes: NotNegative
    vector: bool = False
    memory_use: Share = 0.15
    memory_edge_lowered_mt_s: Real = 0.0
    graphics_use: Share = 0.0
    graphics_edge_lowered_mhz: Real = 0.0

    @model_validator(mode="after")
    def _fails_somehow(self) -> LoadPart:
        if self.freezes + self.restarts + self.program_crashes <= 0:
            raise ValueError(say("one of freezes, restarts and program_crashes must be above 0"))
        return self


class MemoryPart(StrictTable):
    """Memory as it is fitted (where no knob sets it), and what latency and bandwidth follow from."""

    rate_mt_s: Positive
    cas: Positive
    trcd: Timing = 40
    trp: Timing = 40
    tras: Timing = 77
    trfc: Timing = 500
    refresh_interval: Timing = 5460
    channels: Annotated[int, Field(ge=1, le=12)]
    channel_choices: tuple[Annotated[int, Field(ge=1, le=12)], ...] = ()
    voltage_v: Positive = 1.1
    controller_voltage_v: Positive = 1.05
    efficiency: Share
    row_cycle_share: NotNegative = 0.0
    controller_ns: NotNegative
    controller_cycles: NotNegative = 0.0
    controller_gb_s: Positive = 1000.0
    bandwidth_loss_per_k: NotNegative = 0.0


class MemoryEdgePart(StrictTable):
    """What the memory and its controller hold: needs in ns at a voltage, rates at a voltage, and how they worsen."""

    at_v: Positive
    at_c: Real
    io_mt_s: Positive
    io_mt_s_per_v: NotNegative
    io_mt_s_per_v2: NotNegative
    io_mt_s_per_k: NotNegative
    cas_ns: Positive
    trcd_ns: Positive
    trp_ns: Positive
    tras_ns: Positive
    trfc_ns: Positive
    ns_share_per_v: NotNegative
    knee_v: Positive
    retention_us: Positive
    retention_halves_per_k: Positive
    controller_at_v: Positive
    controller_mt_s: Positive
    controller_mt_s_per_v: NotNegative
    controller_mt_s_per_v2: NotNegative
    half_ratio_factor: Annotated[float, Field(ge=1)] = 1.6
    two_cycle_mt_s: NotNegative = 200.0
    width_mt_s: Positive
    start_margin_mt_s: Positive
    corrected_lead_mt_s: NotNegative
    heat_k_per_v2: NotNegative
    heat_time_s: Positive
    coupling: Share = 0.1


class GraphicsPart(StrictTable):
    """Graphics: clock, power, one heat node, and the edges of its clock and of its memory's clock."""

    clock_mhz: Positive
    memory_clock_mhz: Positive
    power_limit_w: Positive
    fan_percent: Positive = 40.0
    idle_w: NotNegative
    switching_w_per_ghz_v2: Positive
    memory_w_per_ghz: NotNegative
    volt_at_clock_v: Positive
    volt_per_ghz: NotNegative
    power_window_s: Positive
    joules_per_k: Positive
    to_room_still_w_per_k: Positive
    to_room_full_w_per_k: Positive
    bytes_per_clock: Positive
    edge_mhz: Positive
    at_c: Real
    mhz_per_k: NotNegative
    width_mhz: Positive
    artefact_lead_mhz: NotNegative
    start_margin_mhz: Positive
    memory_edge_mhz: Positive
    memory_width_mhz: Positive
    memory_retry_lead_mhz: NotNegative
    lanes: tuple[Annotated[int, Field(ge=1, le=16)], ...] = (16,)
    lanes_in_force_at_most: Annotated[int, Field(ge=1, le=16)] = 16
    link_gb_s_per_lane: Positive = 1.97


class WorkloadPart(StrictTable):
    """One benchmark: the work in a unit of it, its noise, and its figure."""

    name: Name
    about: Annotated[str, Field(max_length=200)]
    load: Identifier
    figure: Literal["per minute", "per second", "seconds", "none"]
    unit: Annotated[str, Field(max_length=30)] = ""
    digits: Annotated[int, Field(ge=0, le=4)] = 1
    compute_gcycles: NotNegative
    serial_gcycles: NotNegative = 0.0
    second_thread_gain: Annotated[float, Field(ge=-0.2, le=0.6)] = 0.2
    traffic_gb: NotNegative
    khops: NotNegative
    graphics_gcycles: NotNegative = 0.0
    graphics_traffic_gb: NotNegative = 0.0
    link_gb: NotNegative = 0.0
    fixed_s: NotNegative
    cap_per_s: Positive | None = None
    frames: bool = False
    frame_spread: Annotated[float, Field(ge=0, le=1)] = 0.08
    noise: Annotated[float, Field(ge=0, le=0.2)]
    slow_first: Share
    outlier_chance: Share = 0.0
    pass_s: Annotated[float, Field(gt=0, le=3600)]

    @model_validator(mode="after")
    def _does_something(self) -> WorkloadPart:
        work = self.compute_gcycles + self.serial_gcycles + self.traffic_gb + self.khops + self.fixed_s
        if work + self.graphics_gcycles + self.graphics_traffic_gb + self.link_gb <= 0:
            raise ValueError(say("a unit of work must take some time"))
        return self


class SensorPart(StrictTable):
    """How one sensor sees its true value."""

    noise: NotNegative = 0.0
    quantum: NotNegative = 0.0
    bias: Real = 0.0
    drift_per_h: Real = 0.0
    interval_s: NotNegative = 0.0
    dropout_chance: Share = 0.0
    limit: Real | None = None


class CheckPart(StrictTable):
    """How a setting is checked on this rig: where to start from, the hard loads at the end, and what restarts cost."""

    settle_below_c: Real
    hard_load: Identifier
    hard_load_s: Annotated[float, Field(gt=0, le=86400)]
    memory_load: Identifier | None = None
    memory_load_s: Annotated[float, Field(gt=0, le=86400)] = 120.0
    graphics_load: Identifier | None = None
    graphics_load_s: Annotated[float, Field(gt=0, le=86400)] = 120.0
    sample_interval_s: Annotated[float, Field(ge=0.1, le=10)]
    restart_s: Waited
    firmware_reset_s: Waited
    firmware_entry_s: Waited = 120.0
    training_s: Annotated[NotNegative, Field(le=86400)] = 40.0


class CodesPart(StrictTable):
    """The code the board shows where a start stops."""

    core: Annotated[str, Field(max_length=8)] = ""
    memory: Annotated[str, Field(max_length=8)] = ""
    graphics: Annotated[str, Field(max_length=8)] = ""
