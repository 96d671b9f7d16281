"""What curves show upward: a gain, a value, a gain per watt or per degree, what was drawn and how warm it got."""

from __future__ import annotations

import math
from enum import StrEnum

import numpy as np

from yondle.analysis.efficiency import power_channel
from yondle.analysis.margins import FEWEST_PASSES, spread, turned_logs
from yondle.analysis.student import t_quantile
from yondle.language.saying import later
from yondle.model.knobs import Knob
from yondle.model.quantities import FAHRENHEIT
from yondle.model.rigs import RigDeclaration
from yondle.model.sensors import ROOM, Channel, Quantity
from yondle.model.workloads import Workload
from yondle.views.shared.measured import Figure, Group, Setting


class Measure(StrEnum):
    """What curves show upward."""

    GAIN = "gain"
    VALUE = "value"
    PER_WATT = "per watt"
    PER_DEGREE = "per degree"
    POWER = "power"
    TEMPERATURE = "temperature"
    PROPORTION = "in proportion"
    NOISE = "noise"
    BATTERY = "battery"
    PRICE = "price"


MEASURE_WORDS = {
    Measure.GAIN: later("gain over the baseline, %"),
    Measure.VALUE: "value",
    Measure.PER_WATT: later("gain in score per watt over the baseline, %"),
    Measure.PER_DEGREE: later("gain in score per degree above the room over the baseline, %"),
    Measure.POWER: later("mean power in the passes, W"),
    Measure.TEMPERATURE: later("hottest sensor in the passes, °F")
    if FAHRENHEIT
    else later("hottest sensor in the passes, °C"),
    Measure.PROPORTION: later("share of a score in proportion to the knob, %"),
    Measure.NOISE: later("noise, dB(A)"),
    Measure.BATTERY: later("battery used, %"),
    Measure.PRICE: "price",
}
AXIS_WORDS = {
    **MEASURE_WORDS,
    Measure.GAIN: later("gain, %"),
    Measure.PER_WATT: later("gain per watt, %"),
    Measure.PER_DEGREE: later("gain per degree, %"),
    Measure.POWER: later("mean power, W"),
    Measure.TEMPERATURE: later("hottest sensor"),
    Measure.PROPORTION: later("share of proportion, %"),
}
"""The same, in few words that fit beside an axis."""
TOLD_COSTS = (Measure.NOISE, Measure.BATTERY, Measure.PRICE)
"""Costs that no sensor of a machine reads, and figures from elsewhere may be told with."""
AGAINST_BASELINE = (Measure.GAIN, Measure.PER_WATT, Measure.PER_DEGREE)
_ON_LOGS = (*AGAINST_BASELINE, Measure.VALUE, Measure.PROPORTION)


def unit_of(measure: Measure, benchmark: Workload) -> str:
    """Give the unit of what is shown."""
    units = {
        Measure.VALUE: benchmark.metric.unit,
        Measure.POWER: "W",
        Measure.TEMPERATURE: "°C",
        Measure.NOISE: "dB(A)",
        Measure.PRICE: "",
    }
    return units.get(measure, "%")


def measures_for(knob: Knob, declaration: RigDeclaration) -> tuple[Measure, ...]:
    """List what can be shown along a knob: what a sensor reads, and proportion where a score could follow it so."""
    heat = bool(temperatures(declaration))
    there = {
        Measure.PER_WATT: power_channel(declaration) is not None,
        Measure.POWER: power_channel(declaration) is not None,
        Measure.PER_DEGREE: heat and declaration.playing(ROOM) is not None,
        Measure.TEMPERATURE: heat,
        **{cost: any(c.id == cost.value for c in declaration.channels) for cost in TOLD_COSTS},
        Measure.PROPORTION: knob.sized and (knob.proportional or bool(knob.choices)),
    }
    return tuple(m for m in Measure if there.get(m, True))


def temperatures(declaration: RigDeclaration) -> tuple[Channel, ...]:
    """List the sensors of which the hottest is followed: all temperatures but the room's."""
    return tuple(c for c in declaration.channels if c.quantity is Quantity.TEMPERATURE and c.plays != ROOM)


def hottest_c(figure: Figure, channels: tuple[Channel, ...]) -> float | None:
    """Give the highest reading of a pass over some temperatures; None where none was read."""
    return max((v for c in channels if (v := figure.measured.most.get(c.id)) is not None), default=None)


def above_room_k(figure: Figure, channels: tuple[Channel, ...], room: Channel | None) -> float | None:
    """Give how far the hottest sensor stood above the room; None where either wasn't read, or it was no warmer."""
    hot, cold = hottest_c(figure, channels), figure.measured.mean.get(room.id) if room is not None else None
    return hot - cold if hot is not None and cold is not None and hot > cold else None


class Shower:
    """Turns figures into what is shown."""

    def __init__(self, declaration: RigDeclaration, measure: Measure, base: Setting | None, group: Group) -> None:
        self.measure, self.base, self._group = measure, base, group
        self._power = power_channel(declaration)
        self._hot, self._room = temperatures(declaration), declaration.playing(ROOM)

    def shown(self, benchmark: Workload, setting: Setting) -> list[float]:
        """Give every pass as it is shown; passes that lack what it takes are left out."""
        figures = setting.figures.get(benchmark.id, ())
        match self.measure:
            case Measure.VALUE:
                return [f.score for f in figures]
            case Measure.POWER:
                return [w for f in figures if (w := _watts(f, self._power)) is not None]
            case Measure.NOISE | Measure.BATTERY | Measure.PRICE:
                return [f.measured.mean[self.measure.value] for f in figures if self.measure.value in f.measured.mean]
            case Measure.TEMPERATURE:
                return [c for f in figures if (c := hottest_c(f, self._hot)) is not None]
            case _:
                against = self._against(benchmark)
                logs = self._logs(benchmark, figures)
                if against is None:
                    return []
                if self.measure is Measure.PROPORTION:
                    knob = self._group.knob
                    size, first = (knob.size(s.setup[knob.id]) for s in (setting, self._first(benchmark)))
                    return [100.0 * math.exp(v - against) * first / size for v in logs] if size and first else []
                return [100.0 * math.expm1(v - against) for v in logs]

    def range(self, benchmark: Workload, setting: Setting) -> tuple[float, float, float]:
        """Give the middle and the 95 % range of what is shown: on logs for scores, as they are for readings."""
        values = self.shown(benchmark, setting)
        if self.measure is Measure.VALUE:
            summed = spread(values)
            return (summed.mean, summed.low, summed.high) if summed is not None else (math.nan,) * 3
        on_logs = self.measure in _ON_LOGS
        offset = 100.0 if self.measure in AGAINST_BASELINE else 0.0
        made = np.log((np.array(values) + offset) / 100.0) if on_logs else np.array(values)
        mean = float(made.mean())
        half = math.nan
        if len(made) >= FEWEST_PASSES:
            half = t_quantile(len(made) - 1) * float(made.std(ddof=1)) / math.sqrt(len(made))
        ends = (mean, mean - half, mean + half)
        low, middle, high = ends[1], ends[0], ends[2]
        if on_logs:
            low, middle, high = (100.0 * math.exp(v) - offset for v in (low, middle, high))
        return middle, low, high

    def noise(self, benchmark: Workload) -> float | None:
        """Give half the 95 % range of the baseline in what is shown; None where it shows nothing."""
        if self.base is None or not self.shown(benchmark, self.base):
            return None
        _, low, high = self.range(benchmark, self.base)
        return (high - low) / 2.0 if math.isfinite(high - low) else None

    def cap(self, benchmark: Workload) -> float | None:
        """Give a benchmark's cap in what is shown; None where it has none, or where it means nothing."""
        cap, against = benchmark.metric.cap, self._against(benchmark)
        if cap is None or self.measure is Measure.VALUE:
            return cap
        if self.measure is not Measure.GAIN or against is None:
            return None
        return 100.0 * math.expm1(float(turned_logs([cap], benchmark.metric.direction)[0]) - against)

    def _logs(self, benchmark: Workload, figures: tuple[Figure, ...]) -> list[float]:
        """Give the logs of what gains are told of; passes whose cost wasn't read are left out."""
        logs = turned_logs([f.score for f in figures], benchmark.metric.direction)
        costs = [self._cost(f) for f in figures]
        return [float(v) - math.log(cost) for v, cost in zip(logs, costs, strict=True) if cost]

    def _cost(self, figure: Figure) -> float | None:
        """Give what a score is divided by."""
        if self.measure is Measure.PER_WATT:
            return _watts(figure, self._power)
        return above_room_k(figure, self._hot, self._room) if self.measure is Measure.PER_DEGREE else 1.0

    def _against(self, benchmark: Workload) -> float | None:
        """Give the mean log that others are compared with: the baseline's, or for proportions that of the lowest value."""
        if self.measure is Measure.PROPORTION:
            compared: Setting | None = self._first(benchmark)
        else:
            compared = self.base
        logs = self._logs(benchmark, compared.figures.get(benchmark.id, ())) if compared is not None else []
        return float(np.mean(logs)) if logs else None

    def _first(self, benchmark: Workload) -> Setting:
        """Give the setting of the lowest value at which a benchmark was measured."""
        return next((s for s in self._group.settings if benchmark.id in s.figures), self._group.settings[0])


def _watts(figure: Figure, power: Channel | None) -> float | None:
    value = figure.measured.mean.get(power.id) if power is not None else None
    return value if value is not None and value > 0.0 else None
