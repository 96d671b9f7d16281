"""Quantities that follow from several knobs: shown beside them and kept with every step, never typed in.

Each is declared once, with its formula in words. What it needs are roles that knobs play, whatever their ids; what a rig has no
knob for comes from the constants it declares.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass

from yondle.language.saying import later
from yondle.model.quantities import quantity

Values = Mapping[str, float]


@dataclass(frozen=True, slots=True)
class Derived:
    """One derived quantity: the roles it needs, the first that of the knob it stands beside, and its formula in words."""

    id: str
    name: str
    unit: str
    digits: int
    needs: tuple[str, ...]
    formula: str
    of: Callable[[Values], float]

    def text(self, value: float) -> str:
        """Write a value with its unit."""
        return quantity(value, self.unit, self.digits)


DERIVED: tuple[Derived, ...] = (
    Derived("core_clock", later("Core clock"), "MHz", 0, ("core_ratio", "bus_clock"), later("bus clock × core ratio"),
            lambda v: v["bus_clock"] * v["core_ratio"]),
    Derived("memory_rate", later("Memory rate"), "MT/s", 0, ("memory_ratio", "bus_clock"), later("2 × bus clock × memory ratio"),
            lambda v: 2.0 * v["bus_clock"] * v["memory_ratio"]),
    Derived("memory_clock", later("Memory clock"), "MHz", 0, ("memory_rate",), later("memory rate ÷ 2"),
            lambda v: v["memory_rate"] / 2.0),
    Derived("memory_to_bus", later("Memory to bus"), ": 1", 2, ("memory_rate", "bus_clock"), later("memory clock ÷ bus clock"),
            lambda v: v["memory_rate"] / 2.0 / v["bus_clock"]),
    Derived("peak_bandwidth", later("Peak bandwidth"), "GB/s", 1, ("memory_rate", "memory_channels"),
            later("memory rate × 8 B × channels"), lambda v: v["memory_rate"] * 8e-3 * v["memory_channels"]),
    Derived("first_word_latency", later("First word"), "ns", 2, ("cas", "memory_rate"), later("2000 × CAS ÷ memory rate"),
            lambda v: 2000.0 * v["cas"] / v["memory_rate"]),
    Derived("row_cycle", later("Row cycle"), "ns", 1, ("tras", "trp", "memory_rate"), later("2000 × (tRAS + tRP) ÷ memory rate"),
            lambda v: 2000.0 * (v["tras"] + v["trp"]) / v["memory_rate"]),
    Derived("refresh_cycle", later("Refresh cycle"), "ns", 0, ("trfc", "memory_rate"), later("2000 × tRFC ÷ memory rate"),
            lambda v: 2000.0 * v["trfc"] / v["memory_rate"]),
    Derived("refresh_share", later("Time for refresh"), "%", 1, ("refresh_interval", "trfc"), later("tRFC ÷ tREFI"),
            lambda v: 100.0 * v["trfc"] / v["refresh_interval"]),
    Derived("graphics_bandwidth", later("Memory bandwidth"), "GB/s", 0, ("graphics_memory_clock", "graphics_bytes_per_clock"),
            later("graphics memory clock × bytes per clock"),
            lambda v: v["graphics_memory_clock"] * 1e-3 * v["graphics_bytes_per_clock"]),
)  # fmt: skip


def derived_values(values: Values, constants: Values) -> dict[str, float]:
    """Work out every derived quantity whose needs are met; one may need another that stands before it."""
    known = {**constants, **values}
    found = {}
    for each in DERIVED:
        if each.id in values or not all(need in known for need in each.needs):
            continue
        found[each.id] = known[each.id] = round(each.of(known), 9)
    return found
