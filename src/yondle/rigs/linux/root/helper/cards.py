"""What graphics cards let be set: levels, profiles, power, clock ranges, and the tables of clocks, voltages and fans.

The table as drivers/gpu/drm/amd/pm prints it, of every generation: levels with a clock and a voltage each, two ends of a
clock with a curve of three points, or two ends with one offset; units in any case, ranges not always told.
"""

from __future__ import annotations

import os
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from .interfaces import POWER_AT_LEAST_W, Interface, LeftOut, Why, number, read, slug, write

LOWEST_UNTOLD_MV = -150.0
"""A voltage offset goes down to this where the kernel tells no range, and never above what was found."""
LEVELS = (
    "auto", "low", "high", "manual", "profile_standard", "profile_min_sclk", "profile_min_mclk", "profile_peak",
)  # fmt: skip
_HEADING = re.compile(r"((?:OD|FAN)_\w+|CCLK_RANGE in Core\d+):?")
_ROW = re.compile(r"(?:(\d+):)?\s*(-?\d+)\s*([A-Za-z%]*)(?:\s*@?\s*(-?\d+)\s*([A-Za-z%]+))?\s*(\*?)")
_RANGE = re.compile(r"([\w\[\]() ]+):\s*(-?\d+)\s*[A-Za-z%]*\s+(-?\d+)\s*[A-Za-z%]*")
_PROFILE = re.compile(r"\s*(\d+)\s+([A-Z][A-Z0-9_ ]*?)\s*(\*?)\s*:", re.MULTILINE)
Made = Iterator[Interface | LeftOut]


@dataclass(frozen=True)
class Row:
    """One row of a table: its numbers, and whether it is starred as the one in force just now."""

    numbers: tuple[float, ...]
    starred: bool


class Table:
    """What a table says: rows by their heading and place, and ranges by their names."""

    def __init__(self, text: str) -> None:
        self.rows: dict[str, dict[int, Row]] = {}
        self.ranges: dict[str, tuple[float, float]] = {}
        heading = ""
        for line in map(str.strip, text.splitlines()):
            headed, row, ranged = _HEADING.fullmatch(line), _ROW.fullmatch(line), _RANGE.fullmatch(line)
            if headed:
                heading = headed.group(1)
            elif heading == "OD_RANGE" and ranged:
                self.ranges[ranged.group(1)] = (float(ranged.group(2)), float(ranged.group(3)))
            elif heading and row:
                place, one, _, two, _, star = row.groups()
                numbers = tuple(float(each) for each in (one, two) if each is not None)
                self.rows.setdefault(heading, {})[int(place or 0)] = Row(numbers, bool(star))


class Cell(Interface):
    """One number of a card's table, set by a command that says its whole row, and committed."""

    def __init__(self, knob: str, file: Path, at: tuple[str, int, int], command: str, low: float, high: float) -> None:
        self._at, self._command = at, command
        super().__init__(knob, (file,), low, high)

    def _value_of(self, text: str) -> float | None:
        heading, place, which = self._at
        row = Table(text).rows.get(heading, {}).get(place)
        return row.numbers[which] if row is not None and which < len(row.numbers) else None

    def set(self, value: float) -> None:
        """Write the row with the value in its place, and commit it."""
        heading, place, which = self._at
        row = Table(read(self.files[0]) or "").rows.get(heading, {}).get(place)
        numbers = list(row.numbers) if row is not None else [value]
        numbers[which] = value
        said = " ".join(str(round(each)) for each in numbers)
        write(self.files[0], f"{self._command} {said}".strip())
        write(self.files[0], "c")

    def put_back(self) -> None:
        """Set the number as it was found."""
        if self.at_start is not None:
            self.set(self.at_start)


class FanCell(Cell):
    """A number of a card's own fan control: to touch it switches that to manual, and only a reset gives it back."""

    def put_back(self) -> None:
        """Reset the file, and commit that."""
        write(self.files[0], "r")
        write(self.files[0], "c")


class Profile(Interface):
    """A named profile of a card, chosen by its number; the one in force is starred."""

    def _value_of(self, text: str) -> float | None:
        starred = next((m.group(1) for m in _PROFILE.finditer(text) if m.group(3)), "")
        return float(self._words.index(starred)) if starred in self._words else None

    def set(self, value: float) -> None:
        """Choose a profile."""
        write(self.files[0], self._words[round(value)])

    def put_back(self) -> None:
        """Choose the profile that was found."""
        if self.at_start is not None:
            self.set(self.at_start)


def cards(sys_: Path) -> Made:
    """Find what the graphics cards let be set."""
    for card, tail in named_cards(sys_):
        device = card / "device"
        level = device / "power_dpm_force_performance_level"
        now = read(level)
        if now in LEVELS:
            yield Interface(f"graphics_level{tail}", (level,), 0, len(LEVELS) - 1, choices=LEVELS)
        elif now is not None:
            yield LeftOut(f"graphics_level{tail}", level, Why.NOT_PUT_BACK, now)
        yield from _power(device, tail)
        yield from _table(device / "pp_od_clk_voltage", now or "", tail)
        yield from _fan_control(device / "gpu_od/fan_ctrl", tail)
        yield from _profiles(device / "pp_power_profile_mode", now or "", tail)
        yield from _clock_range(card, tail)


def named_cards(sys_: Path) -> list[tuple[Path, str]]:
    """Give each card and what its knobs' names end with: nothing for the one that shows the boot, else its bus address.

    Numbers of cards are given as drivers load; the address stays.
    """
    found = [card for card in sorted((sys_ / "class/drm").glob("card*")) if re.fullmatch(r"card\d+", card.name)]
    by_address = sorted(found, key=lambda card: (address_of(card), card.name))
    first = next((card for card in by_address if read(card / "device/boot_vga") == "1"), None) or next(
        iter(by_address), None
    )
    return [(card, "" if card == first else f"_{slug(address_of(card))}") for card in by_address]


def address_of(card: Path) -> str:
    """Give the bus address of a card, its own name where it has none."""
    name = os.path.basename(os.path.realpath(card / "device"))
    return name if ":" in name else card.name


def _power(device: Path, tail: str) -> Made:
    """Find the limit of a card's power: `power1_cap` of one family of drivers, `power1_max` of the other."""
    for chip in sorted(device.glob("hwmon/hwmon*")):
        for name, ends in (
            ("power1_cap", ("power1_cap_min", "power1_cap_max")),
            ("power1_max", ("", "power1_rated_max")),
        ):
            now, least, most = number(chip / name), number(chip / ends[0]) if ends[0] else None, number(chip / ends[1])
            knob = f"graphics_power_limit{tail}"
            if now is None:
                continue
            most = max(most or 0.0, now if now < 1e9 else 0.0)
            low = max((least or 0.0) / 1e6, POWER_AT_LEAST_W)
            if most / 1e6 > low:
                yield Interface(knob, (chip / name,), low, most / 1e6, 1e6)
            else:
                yield LeftOut(knob, chip / name, Why.NO_RANGE, read(chip / name) or "")
            break


def _table(file: Path, level: str, tail: str) -> Made:
    text = read(file)
    if text is None:
        return
    table, clock = Table(text), f"graphics_clock{tail}"
    if not table.rows:
        yield LeftOut(clock, file, Why.ONLY_MANUAL if level and level != "manual" else Why.NO_RANGE, text[:40])
        return
    for name, heading, letter, ranged in (
        ("graphics", "OD_SCLK", "s", "SCLK"),
        ("graphics_memory", "OD_MCLK", "m", "MCLK"),
    ):
        rows = table.rows.get(heading, {})
        if not rows:
            continue
        top, lowest = max(rows), min(rows)
        if any(row.starred for row in rows.values()):
            yield LeftOut(f"{name}_clock{tail}", file, Why.NOT_WHAT_IS_SET, text[:40])
        elif ranged not in table.ranges:
            yield LeftOut(f"{name}_clock{tail}", file, Why.NO_RANGE, text[:40])
        else:
            yield Cell(f"{name}_clock{tail}", file, (heading, top, 0), f"{letter} {top}", *table.ranges[ranged])
            if len(rows) == 2 and len(rows[top].numbers) == 1 and name == "graphics":
                knob, at = f"{name}_clock_lowest{tail}", (heading, lowest, 0)
                yield Cell(knob, file, at, f"{letter} {lowest}", *table.ranges[ranged])
            if len(rows[top].numbers) == 2 and "VDDC" in table.ranges:
                at = (heading, top, 1)
                yield Cell(f"{name}_voltage{tail}", file, at, f"{letter} {top}", *table.ranges["VDDC"])
    for place in table.rows.get("OD_VDDC_CURVE", {}):
        knob, ends = f"graphics_curve_voltage_{place + 1}{tail}", table.ranges.get(f"VDDC_CURVE_VOLT[{place}]")
        if ends is None:
            yield LeftOut(knob, file, Why.NO_RANGE, text[:40])
        else:
            yield Cell(knob, file, ("OD_VDDC_CURVE", place, 1), f"vc {place}", *ends)
    offset = table.rows.get("OD_VDDGFX_OFFSET", {}).get(0)
    if offset is not None:
        ends = table.ranges.get("VDDGFX_OFFSET", (LOWEST_UNTOLD_MV, max(offset.numbers[0], 0.0)))
        yield Cell(f"graphics_voltage_offset{tail}", file, ("OD_VDDGFX_OFFSET", 0, 0), "vo", *ends)


def _fan_control(folder: Path, tail: str) -> Made:
    for name, file_name, heading, ranged in (
        ("fan_target", "fan_target_temperature", "FAN_TARGET_TEMPERATURE", "TARGET_TEMPERATURE"),
        ("fan_minimum", "fan_minimum_pwm", "FAN_MINIMUM_PWM", "MINIMUM_PWM"),
        ("fan_limit", "acoustic_limit_rpm_threshold", "OD_ACOUSTIC_LIMIT", "ACOUSTIC_LIMIT"),
        ("fan_goal", "acoustic_target_rpm_threshold", "OD_ACOUSTIC_TARGET", "ACOUSTIC_TARGET"),
    ):
        table, knob = Table(read(folder / file_name) or ""), f"graphics_{name}{tail}"
        if 0 in table.rows.get(heading, {}) and ranged in table.ranges:
            yield FanCell(knob, folder / file_name, (heading, 0, 0), "", *table.ranges[ranged])
    curve = folder / "fan_curve"
    table = Table(read(curve) or "")
    speeds, warmths = (table.ranges.get(f"FAN_CURVE({of})") for of in ("fan speed", "hotspot temp"))
    for place, row in table.rows.get("OD_FAN_CURVE", {}).items():
        knob = f"graphics_fan_curve_{place + 1}{tail}"
        if speeds is None or warmths is None or not warmths[0] <= row.numbers[0] <= warmths[1]:
            yield LeftOut(knob, curve, Why.NO_RANGE, " ".join(f"{each:g}" for each in row.numbers))
        else:
            yield FanCell(knob, curve, ("OD_FAN_CURVE", place, 1), str(place), *speeds)


def _profiles(file: Path, level: str, tail: str) -> Made:
    found = [(m.group(1), m.group(2).strip().lower().replace("_", " ")) for m in _PROFILE.finditer(read(file) or "")]
    found = [(place, name) for place, name in found if name != "custom"]
    if len(found) < 2:
        return
    if level != "manual":
        yield LeftOut(f"graphics_profile{tail}", file, Why.ONLY_MANUAL, level)
        return
    places, names = tuple(place for place, _ in found), tuple(name for _, name in found)
    yield Profile(f"graphics_profile{tail}", (file,), 0, len(names) - 1, choices=names, words=places)


def _clock_range(card: Path, tail: str) -> Made:
    """Find the ends of a card's clock: in the card's own folder, in one a part of it, or in the newer driver's tiles."""
    for folder, most, least, ends in _ranges(card):
        low, high = (number(folder / end) for end in ends)
        files = {"most": folder / most, "least": folder / least}
        for what, file in files.items():
            if number(file) is None:
                continue
            if low and high and low < high:
                yield Interface(f"graphics_clock_{what}{tail}", (file,), low, high)
            else:
                yield LeftOut(f"graphics_clock_{what}{tail}", file, Why.NO_RANGE, read(file) or "")


def _ranges(card: Path) -> Iterable[tuple[Path, str, str, tuple[str, str]]]:
    parts = sorted(card.glob("gt/gt*"))
    tiles = sorted((card / "device").glob("tile*/gt*/freq0"))
    if number(card / "gt_max_freq_mhz") is not None:
        return [(card, "gt_max_freq_mhz", "gt_min_freq_mhz", ("gt_RPn_freq_mhz", "gt_RP0_freq_mhz"))]
    if parts:
        ends = ("rps_RPn_freq_mhz", "rps_RP0_freq_mhz")
        return [(parts[0], "rps_max_freq_mhz", "rps_min_freq_mhz", ends)]
    return [(tiles[0], "max_freq", "min_freq", ("rpn_freq", "rp0_freq"))] if tiles else []
