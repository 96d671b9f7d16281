"""What memory modules are made for, as their own chip says it (serial presence detect), where the kernel shows that.

Layouts of JEDEC: DDR3 (standard 21-C annex K), DDR4 (annex L), DDR5 (JESD400-5). The kernel shows the bytes as `eeprom`
(drivers/misc/eeprom/ee1004.c, at24.c, drivers/hwmon/spd5118.c), readable by everybody. They are what the module's maker
promises, not what the board runs it at: that the kernel doesn't tell.
"""

from __future__ import annotations

import binascii
from collections import Counter
from dataclasses import dataclass
from pathlib import Path

from yondle.language.saying import say

EEPROMS = "bus/i2c/drivers/{driver}/*/eeprom"
DRIVERS = ("spd5118", "ee1004", "at24")
_DDR3, _DDR4, _DDR5 = 0x0B, 0x0C, 0x12
_FIRST, _WHOLE = 128, 512
"""Bytes that tell an older module's timings, and DDR5's with its check sum: the bus they are read over is slow."""


@dataclass(frozen=True, slots=True)
class Timings:
    """What a module is made for: its shortest cycle and least times in ps; `fifth` is DDR5, which rounds in its own way."""

    cycle: int
    column: int
    row: int
    precharge: int
    active: int
    fifth: bool = False

    @property
    def rate_mt_s(self) -> int:
        """The highest rate in MT/s, which is twice the clock, in the steps rates are named by."""
        exact = 2e6 / self.cycle
        return min(_RATES, key=lambda rate: abs(rate - exact))

    @property
    def cycles(self) -> tuple[int, int, int, int]:
        """CAS latency (of DDR5 always even), RCD, RP and RAS in whole cycles at the highest rate."""
        column, row, precharge, active = map(self._in_cycles, (self.column, self.row, self.precharge, self.active))
        return column + column % 2 if self.fifth else column, row, precharge, active

    def _in_cycles(self, time: int) -> int:
        """Round up, but for what is less than a fortieth of a cycle over (of DDR5: 0.3 % of the time)."""
        return (997 * time // self.cycle + 1000) // 1000 if self.fifth else (1000 * time // self.cycle + 974) // 1000


_RATES = (
    800, 1066, 1333, 1600, 1866, 2133, 2400, 2666, 2933, 3200, 3600, 4000, 4400, 4800, 5200, 5600, 6000, 6400, 6800, 7200,
    7600, 8000, 8400, 8800,
)  # fmt: skip


def promised(sys_: Path) -> list[Timings]:
    """Read what each module fitted is made for, in order of their places; modules that can't be read are left out."""
    files = [file for driver in DRIVERS for file in sorted(sys_.glob(EEPROMS.format(driver=driver)))]
    return [found for file in files if (found := timings_in(_read(file))) is not None]


def promised_in_words(modules: list[Timings]) -> str:
    """Say what modules are made for: '2 x 5600 MT/s at 46-45-45-90'."""
    counted = Counter((module.rate_mt_s, module.cycles) for module in modules)
    return "; ".join(
        say("{count} x {rate} MT/s at {cycles}", count=count, rate=rate, cycles="-".join(map(str, cycles)))
        for (rate, cycles), count in counted.items()
    )


def timings_in(data: bytes) -> Timings | None:
    """Read timings out of a module's bytes; None where they are of another kind, or their check sum is wrong."""
    kind = data[2] if len(data) > 2 else 0
    if kind == _DDR5 and _checks(data, 510):
        cycle, *times = (int.from_bytes(data[at : at + 2], "little") for at in (20, 30, 32, 34, 36))
    elif kind == _DDR4 and _checks(data, 126):
        fine = [_signed(data[at]) for at in (125, 123, 122, 121)]
        cycle, *times = (125 * data[at] + more for at, more in zip((18, 24, 25, 26), fine, strict=True))
        times.append(125 * ((data[27] & 0x0F) << 8 | data[28]))
    elif kind == _DDR3 and data[11] and _checks(data, 126, 117 if data[0] & 0x80 else 126):
        unit, finer = 1000 * data[10] // data[11], data[9] >> 4
        per = data[9] & 0x0F
        fine = [_signed(data[at]) * finer // per if per else 0 for at in (34, 35, 36, 37)]
        cycle, *times = (unit * data[at] + more for at, more in zip((12, 16, 18, 20), fine, strict=True))
        times.append(unit * ((data[21] & 0x0F) << 8 | data[22]))
    else:
        return None
    column, row, precharge, active = times
    return Timings(cycle, column, row, precharge, active, kind == _DDR5) if min(cycle, *times) > 0 else None


def _checks(data: bytes, at: int, covered: int = 0) -> bool:
    """Tell whether the check sum at a place is that of the bytes before it (CRC-16, polynomial 0x1021, from 0)."""
    told = data[at : at + 2]
    return len(told) == 2 and int.from_bytes(told, "little") == binascii.crc_hqx(data[: covered or at], 0)


def _signed(byte: int) -> int:
    return byte - 256 if byte > 127 else byte


def _read(file: Path) -> bytes:
    try:
        with file.open("rb", buffering=0) as opened:
            first = opened.read(_FIRST)
            return first + opened.read(_WHOLE - _FIRST) if first[2:3] == bytes([_DDR5]) else first
    except OSError:
        return b""
