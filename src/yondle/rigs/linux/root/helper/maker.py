"""Cards that the kernel shows nothing of: reached through their maker's management library, by its Python binding.

The binding is loaded where it is installed and never needed. It calls its functions and raises its errors by the names that
stand in its own documentation; a card or an older binding that has none of a function just doesn't answer. As root it is loaded
only from where root alone could have put it.
"""

from __future__ import annotations

import errno
import os
from collections.abc import Iterator
from functools import cache
from importlib import import_module
from pathlib import Path
from typing import Any

from .cards import address_of, named_cards
from .interfaces import FAN_AT_LEAST, POWER_AT_LEAST_W, Interface, LeftOut, Why, read, slug

BINDING = "pynvml"
REACHED_BY_IT = frozenset({"0x10de"})
"""Whose cards are reached so, by the number that PCI knows a maker by."""
FAN_BY_HAND = 1
"""Of a fan's policies that which keeps the level that was set; the other follows the card's own curve."""
MILLI = 1000.0
Made = Iterator[Interface | LeftOut]


class LibraryCard:
    """One card of the library, by its bus address; `tail` is what the names of its knobs end with."""

    def __init__(self, binding: Any, handle: Any, address: str, tail: str) -> None:
        self._binding, self._handle, self.address, self.tail = binding, handle, address, tail

    def ask(self, what: str, *more: Any) -> Any:
        """Ask the card; None where it doesn't answer, or the binding has no such question."""
        asks = getattr(self._binding, what, None)
        try:
            return asks(self._handle, *more) if asks is not None else None
        except self._binding.NVMLError:
            return None

    def tell(self, what: str, *more: Any) -> None:
        """Have the card do something; raises OSError where it doesn't."""
        does = getattr(self._binding, what, None)
        if does is None:
            raise OSError(errno.ENOSYS, "the library has no such function")
        try:
            does(self._handle, *more)
        except self._binding.NVMLError as why:
            raise OSError(errno.EIO, f"the library says: {why}") from why


class Kept(Interface):
    """A number that the library tells and takes, `scale` times as large there."""

    def __init__(
        self,
        knob: str,
        card: LibraryCard,
        place: Path,
        ends: tuple[float, float],
        asks: str,
        sets: str,
        scale: float = 1.0,
    ) -> None:
        self._card, self._asks, self._sets = card, asks, sets
        super().__init__(knob, (place,), *ends, scale)

    def value(self) -> float | None:
        """Ask for the value in force."""
        now = self._card.ask(self._asks)
        return None if now is None else round(float(now) / self.scale, 6)

    def set(self, value: float) -> None:
        """Set a value that has been checked."""
        self._card.tell(self._sets, round(value * self.scale))

    def put_back(self) -> None:
        """Set what was found."""
        if self.at_start is not None:
            self.set(self.at_start)


class CardFan(Interface):
    """A fan of a card, its level in %; as long as its own curve has it, it is as it was found, however fast it turns."""

    def __init__(self, knob: str, card: LibraryCard, place: Path, fan: int, ends: tuple[float, float]) -> None:
        self._card, self._fan = card, fan
        self._by_hand = self._is_by_hand()
        super().__init__(knob, (place,), *ends)

    def value(self) -> float | None:
        """Read the level it is to turn at; while its own curve has it, that in which it was found."""
        started = getattr(self, "at_start", None)
        if started is not None and not self._by_hand and not self._is_by_hand():
            return float(started)
        now = self._card.ask("nvmlDeviceGetTargetFanSpeed", self._fan)
        now = self._card.ask("nvmlDeviceGetFanSpeed_v2", self._fan) if now is None else now
        return None if now is None else float(now)

    def set(self, value: float) -> None:
        """Take the fan over and set its level."""
        self._card.tell("nvmlDeviceSetFanSpeed_v2", self._fan, round(value))

    def put_back(self) -> None:
        """Give the fan back to its own curve, or to the level somebody else had set."""
        if self._by_hand and self.at_start is not None:
            self.set(self.at_start)
        else:
            self._card.tell("nvmlDeviceSetDefaultFanSpeed_v2", self._fan)

    def _is_by_hand(self) -> bool:
        return bool(self._card.ask("nvmlDeviceGetFanControlPolicy_v2", self._fan) == FAN_BY_HAND)


def load(root: Path) -> Any:
    """Give the binding, ready; None where it or its library isn't there, or a stand-in for a machine is looked at."""
    return _loaded() if root == Path("/") else None


@cache
def _loaded() -> Any:
    import importlib.util

    try:
        spec = importlib.util.find_spec(BINDING)
        if spec is None or (os.geteuid() == 0 and not _is_roots(spec.origin)):
            return None
        binding = import_module(BINDING)
        binding.nvmlInit()
    except Exception:
        return None
    return binding


def _is_roots(origin: str | None) -> bool:
    """Tell whether root alone could have written a file and every folder above it."""
    file = Path(origin or "")
    if not file.is_file():
        return False
    about = [place.stat() for place in (file, *file.resolve().parents)]
    return all(each.st_uid == 0 and (not each.st_mode & 0o022 or each.st_mode & 0o1000) for each in about)


def library_cards(root: Path) -> list[LibraryCard]:
    """Give the cards the library reaches, in the order of their bus addresses."""
    binding = load(root)
    if binding is None:
        return []
    tails = {address_of(card): tail for card, tail in named_cards(root / "sys")}
    found = []
    try:
        for place in range(binding.nvmlDeviceGetCount()):
            handle = binding.nvmlDeviceGetHandleByIndex(place)
            address = _address(binding.nvmlDeviceGetPciInfo(handle).busId)
            found.append((address, handle))
    except binding.NVMLError:
        return []
    found.sort(key=lambda pair: pair[0])
    alone = not tails
    return [
        LibraryCard(binding, handle, address, tails.get(address, "" if alone and not i else f"_{slug(address)}"))
        for i, (address, handle) in enumerate(found)
    ]


def _address(told: bytes | str) -> str:
    """Write a bus address as the kernel does: the library's has a domain of eight digits, in capitals."""
    text = told.decode("ascii", "replace") if isinstance(told, bytes) else told
    domain, _, rest = text.strip("\0").lower().partition(":")
    return f"{int(domain, 16):04x}:{rest}"


def maker_cards(root: Path) -> Made:
    """Find what cards let be set through their maker's library, and the cards that only it would reach."""
    sys_, reached = root / "sys", library_cards(root)
    for card in reached:
        yield from _of(card, sys_ / "bus/pci/devices" / card.address)
    known = {card.address for card in reached}
    for shown, tail in named_cards(sys_):
        device = shown / "device"
        by_it = (read(device / "vendor") or "") in REACHED_BY_IT and not list(device.glob("hwmon/hwmon*"))
        if by_it and address_of(shown) not in known:
            yield LeftOut(f"graphics_power_limit{tail}", device, Why.BY_LIBRARY, BINDING)


def _of(card: LibraryCard, place: Path) -> Made:
    tail = card.tail
    ends = _ends(card.ask("nvmlDeviceGetPowerManagementLimitConstraints"))
    if ends is not None:
        low, high = max(ends[0] / MILLI, POWER_AT_LEAST_W), ends[1] / MILLI
        get, set_ = "nvmlDeviceGetPowerManagementLimit", "nvmlDeviceSetPowerManagementLimit"
        if low < high:
            yield Kept(f"graphics_power_limit{tail}", card, place, (low, high), get, set_, MILLI)
        else:
            yield LeftOut(f"graphics_power_limit{tail}", place, Why.NO_RANGE, f"{low:g} {high:g}")
    for knob, of in (("graphics_clock_offset", "Gpc"), ("graphics_memory_clock_offset", "Mem")):
        now, ends = card.ask(f"nvmlDeviceGet{of}ClkVfOffset"), _ends(card.ask(f"nvmlDeviceGet{of}ClkMinMaxVfOffset"))
        if now is None:
            continue
        if ends is None or not ends[0] < ends[1]:
            yield LeftOut(f"{knob}{tail}", place, Why.NO_RANGE, str(now))
        else:
            get, set_ = f"nvmlDeviceGet{of}ClkVfOffset", f"nvmlDeviceSet{of}ClkVfOffset"
            yield Kept(f"{knob}{tail}", card, place, ends, get, set_)
    ends = _ends(card.ask("nvmlDeviceGetMinMaxFanSpeed")) or (FAN_AT_LEAST, 100.0)
    for fan in range(int(card.ask("nvmlDeviceGetNumFans") or 0)):
        knob = f"graphics_fan_level_{fan + 1}{tail}"
        if card.ask("nvmlDeviceGetFanControlPolicy_v2", fan) is None:
            yield LeftOut(knob, place, Why.NOT_PUT_BACK, str(card.ask("nvmlDeviceGetFanSpeed_v2", fan)))
        else:
            yield CardFan(knob, card, place, fan, (max(ends[0], FAN_AT_LEAST), ends[1]))
    yield LeftOut(f"graphics_clock_most{tail}", place, Why.NOT_TOLD)


def _ends(told: Any) -> tuple[float, float] | None:
    """Read two ends as the binding gives them: a list or a pair of numbers."""
    try:
        low, high = told
        return float(low), float(high)
    except (TypeError, ValueError):
        return None
