"""The TOML file that describes a simulated rig, validated on the way in; the format is documented in docs/rig-file.md."""

from __future__ import annotations

import math
import tomllib
from datetime import datetime
from importlib import resources
from pathlib import Path
from typing import Annotated, Literal

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, ValidationError, model_validator

from yondle.model.errors import KnownError

SHIPPED = ("heron",)
FORMAT = "yondle-rig 1"
LARGEST_FILE = 256 * 1024


def _finite(value: float) -> float:
    if not math.isfinite(value):
        raise ValueError("must be a finite number")
    return value


Real = Annotated[float, AfterValidator(_finite)]
Positive = Annotated[float, Field(gt=0), AfterValidator(_finite)]
NotNegative = Annotated[float, Field(ge=0), AfterValidator(_finite)]
Share = Annotated[float, Field(ge=0, le=1)]
Name = Annotated[str, Field(min_length=1, max_length=60)]
Identifier = Annotated[str, Field(pattern=r"^[a-z][a-z0-9_]{0,39}$")]


class _Part(BaseModel):
    model_config = ConfigDict(extra="forbid", frozen=True, strict=False)


class RigPart(_Part):
    """Who the rig is, and where its history starts."""

    id: Identifier
    name: Name
    place: Name
    seed: Annotated[int, Field(ge=0)]
    starts_at: datetime
    facts: dict[Name, Name] = {}


class KnobPart(_Part):
    """The values one knob takes, its stock value, and the tuner's own ceiling if there is one."""

    low: Real
    high: Real
    step: Positive
    stock: Real
    digits: Annotated[int, Field(ge=0, le=4)] = 0
    ceiling: Real | None = None

    @model_validator(mode="after")
    def _on_grid(self) -> KnobPart:
        if self.high <= self.low:
            raise ValueError("high must be above low")
        for name in ("high", "stock", "ceiling"):
            value = getattr(self, name)
            if value is None:
                continue
            notch = (value - self.low) / self.step
            if not -1e-6 <= notch <= (self.high - self.low) / self.step + 1e-6 or abs(notch - round(notch)) > 1e-6:
                raise ValueError(f"{name} must lie on the grid of low, high and step")
        return self


class KnobsPart(_Part):
    """The knobs of this model of a machine."""

    core_clock: KnobPart
    core_voltage: KnobPart
    power_limit: KnobPart
    fan_level: KnobPart


class RoomPart(_Part):
    """Room temperature: a half cosine from the evening to dawn, constant after it."""

    evening_c: Real
    dawn_c: Real
    hours_to_dawn: Positive


class ChipPart(_Part):
    """Electrical constants of the processor."""

    cores: Annotated[int, Field(ge=1, le=256)]
    switching_w_per_v2_ghz: Positive
    idle_activity: Share
    uncore_w: NotNegative
    leakage_w_per_v: NotNegative
    leakage_at_c: Real
    leakage_e_fold_k: Positive
    load_line_mohm: NotNegative
    power_window_s: Positive
    heat_limit_c: Positive
    lowest_clock_mhz: Positive


class HeatPart(_Part):
    """The two heat nodes, die and cooler."""

    die_j_per_k: Positive
    cooler_j_per_k: Positive
    die_to_cooler_w_per_k: Positive
    cooler_to_room_still_w_per_k: Positive
    cooler_to_room_full_w_per_k: Positive
    fan_exponent: Positive
    fan_full_rpm: Positive


class EdgePart(_Part):
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


class LoadPart(_Part):
    """A class of load: how hard it works the core, how far it lowers the edge, and how it fails."""

    activity: Share
    edge_lowered_mhz: Real
    wrong_results_lead_mhz: NotNegative | None = None
    freezes: NotNegative
    restarts: NotNegative
    program_crashes: NotNegative

    @model_validator(mode="after")
    def _fails_somehow(self) -> LoadPart:
        if self.freezes + self.restarts + self.program_crashes <= 0:
            raise ValueError("one of freezes, restarts and program_crashes must be above 0")
        return self


class MemoryPart(_Part):
    """Memory as it is fitted: what latency and bandwidth follow from."""

    rate_mt_s: Positive
    cas: Positive
    channels: Annotated[int, Field(ge=1, le=12)]
    efficiency: Share
    controller_ns: NotNegative
    bandwidth_loss_per_k: NotNegative = 0.0


class WorkloadPart(_Part):
    """One benchmark: the work in a unit of it, its noise, and its figure."""

    name: Name
    about: Annotated[str, Field(max_length=200)]
    load: Identifier
    figure: Literal["per minute", "per second", "seconds", "none"]
    unit: Annotated[str, Field(max_length=30)] = ""
    digits: Annotated[int, Field(ge=0, le=4)] = 1
    compute_gcycles: NotNegative
    traffic_gb: NotNegative
    khops: NotNegative
    fixed_s: NotNegative
    cap_per_s: Positive | None = None
    noise: Annotated[float, Field(ge=0, le=0.2)]
    slow_first: Share
    outlier_chance: Share = 0.0
    pass_s: Annotated[float, Field(gt=0, le=3600)]

    @model_validator(mode="after")
    def _does_something(self) -> WorkloadPart:
        if self.compute_gcycles + self.traffic_gb + self.khops + self.fixed_s <= 0:
            raise ValueError("a unit of work must take some time")
        return self


class SensorPart(_Part):
    """How one sensor sees its true value."""

    noise: NotNegative = 0.0
    quantum: NotNegative = 0.0
    bias: Real = 0.0
    interval_s: NotNegative = 0.0
    dropout_chance: Share = 0.0
    limit: Real | None = None


class CheckPart(_Part):
    """How a setting is checked on this rig: where to start from, and the hard load at the end."""

    settle_below_c: Real
    hard_load: Identifier
    hard_load_s: Annotated[float, Field(gt=0, le=86400)]
    sample_interval_s: Annotated[float, Field(ge=0.1, le=10)]
    restart_s: Positive
    firmware_reset_s: Positive


class RigFile(_Part):
    """A whole rig file."""

    format: Literal["yondle-rig 1"]
    rig: RigPart
    knobs: KnobsPart
    room: RoomPart
    chip: ChipPart
    heat: HeatPart
    edge: EdgePart
    memory: MemoryPart
    check: CheckPart
    loads: dict[Identifier, LoadPart]
    workloads: dict[Identifier, WorkloadPart]
    sensors: dict[Identifier, SensorPart]

    @model_validator(mode="after")
    def _hangs_together(self) -> RigFile:
        for name, workload in self.workloads.items():
            if workload.load not in self.loads:
                raise ValueError(f"workloads.{name}.load names no load of this file: {workload.load}")
        if all(workload.figure == "none" for workload in self.workloads.values()):
            raise ValueError("at least one workload needs a figure: without a score no gain can be told")
        if self.check.hard_load not in self.workloads:
            raise ValueError(f"check.hard_load names no workload of this file: {self.check.hard_load}")
        if self.rig.starts_at.tzinfo is None:
            raise ValueError("rig.starts_at needs a UTC offset, such as 2026-10-17T20:30:00+01:00")
        return self


def parse_rig_file(text: str, source: str) -> RigFile:
    """Read a rig from TOML text; raises KnownError naming the first things wrong and where they stand."""
    try:
        return RigFile.model_validate(tomllib.loads(text))
    except tomllib.TOMLDecodeError as error:
        raise KnownError(f"{source} is no valid TOML: {error}.", "Correct that line and try again.") from error
    except ValidationError as error:
        wrong = "; ".join(
            f"{'.'.join(str(part) for part in item['loc']) or 'file'}: {_plainly(item['type'], item['msg'])}"
            for item in error.errors()[:4]
        )
        more = len(error.errors()) - 4
        tail = f" (and {more} more)" if more > 0 else ""
        raise KnownError(
            f"{source} doesn't describe a rig: {wrong}{tail}.",
            "docs/rig-file.md lists every key with its type and unit.",
        ) from error


def rig_text(which: str) -> tuple[str, str]:
    """Find a rig by shipped name or by path; returns its TOML text and where it came from."""
    if which in SHIPPED:
        text = resources.files("yondle.rigs.simulated").joinpath("shipped", f"{which}.toml").read_text("utf-8")
        return text, f"the shipped rig '{which}'"
    path = Path(which)
    if not path.is_file():
        raise KnownError(
            f"There is no rig '{which}'.", f"Give one of {', '.join(SHIPPED)}, this, or the path of a rig file."
        )
    if path.stat().st_size > LARGEST_FILE:
        raise KnownError(f"{path} is too large for a rig file.", f"A rig file has at most {LARGEST_FILE // 1024} KiB.")
    try:
        return path.read_text("utf-8"), str(path)
    except UnicodeDecodeError as error:
        raise KnownError(f"{path} is no text file.", "Rig files are TOML in UTF-8; see docs/rig-file.md.") from error
    except PermissionError as error:
        raise KnownError(f"{path} may not be read.", "Give yourself permission to read it, or copy it.") from error


def _plainly(kind: str, message: str) -> str:
    if kind == "extra_forbidden":
        return "unknown key"
    if kind == "missing":
        return "missing"
    return message.removeprefix("Value error, ").replace("Input should", "should")
