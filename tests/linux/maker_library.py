"""A stand-in for a maker's management library and its Python binding: two cards, one of which answers little."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from types import SimpleNamespace
from typing import Any

BY_HAND, OWN_CURVE = 1, 0


class NVMLError(Exception):
    """What the binding raises; named as in its own documentation."""


class Card:
    """A card's state, in the library's units: mW, MHz, %."""

    def __init__(self, bus: str | bytes, **more: Any) -> None:
        self.bus = bus
        self.limit_mw, self.ends_mw = 220_000, [1_000, 260_000]
        self.offsets = {"Gpc": 0, "Mem": 35}
        self.fans = [{"level": 34, "policy": OWN_CURVE}, {"level": 50, "policy": BY_HAND}]
        self.reasons, self.shuts_down = 0x04, 95
        self.silent: set[str] = set()
        self.__dict__.update(more)


class Binding:
    """The functions of the binding that are called, over cards of its own; `refuses` is what it does nothing of."""

    NVMLError = NVMLError

    def __init__(self, *cards: Card) -> None:
        self.cards = list(cards)
        self.refuses: set[str] = set()
        self.told: list[tuple[str, Any]] = []

    def __getattr__(self, name: str) -> Callable[..., Any]:
        if name in _OF_ALL:
            return partial(_OF_ALL[name], self)
        does = _DOES.get(name)
        if does is None:
            raise AttributeError(name)

        def call(card: Card, *more: Any) -> Any:
            if name in card.silent or name in self.refuses:
                raise NVMLError("Not Supported")
            if "Set" in name:
                self.told.append((name.removeprefix("nvmlDevice"), more[-1] if more else None))
            return does(card, *more)

        return call


def _set_offset(card: Card, of: str, value: int) -> None:
    card.offsets[of] = value


def _set_fan(card: Card, fan: int, level: int) -> None:
    card.fans[fan] = {"level": level, "policy": BY_HAND}


def _give_back_fan(card: Card, fan: int) -> None:
    card.fans[fan] = {"level": 41, "policy": OWN_CURVE}


_OF_ALL: dict[str, Callable[..., Any]] = {
    "nvmlDeviceGetCount": lambda binding: len(binding.cards),
    "nvmlDeviceGetHandleByIndex": lambda binding, place: binding.cards[place],
    "nvmlDeviceGetPciInfo": lambda binding, card: SimpleNamespace(busId=card.bus),
}
_DOES: dict[str, Callable[..., Any]] = {
    "nvmlDeviceGetPowerManagementLimit": lambda c: c.limit_mw,
    "nvmlDeviceGetPowerManagementLimitConstraints": lambda c: c.ends_mw,
    "nvmlDeviceSetPowerManagementLimit": lambda c, mw: setattr(c, "limit_mw", mw),
    "nvmlDeviceGetGpcClkVfOffset": lambda c: c.offsets["Gpc"],
    "nvmlDeviceGetMemClkVfOffset": lambda c: c.offsets["Mem"],
    "nvmlDeviceGetGpcClkMinMaxVfOffset": lambda c: (-500, 1000),
    "nvmlDeviceGetMemClkMinMaxVfOffset": lambda c: (-2000, 3000),
    "nvmlDeviceSetGpcClkVfOffset": lambda c, v: _set_offset(c, "Gpc", v),
    "nvmlDeviceSetMemClkVfOffset": lambda c, v: _set_offset(c, "Mem", v),
    "nvmlDeviceGetNumFans": lambda c: len(c.fans),
    "nvmlDeviceGetMinMaxFanSpeed": lambda c: (0, 100),
    "nvmlDeviceGetFanSpeed_v2": lambda c, fan: c.fans[fan]["level"],
    "nvmlDeviceGetTargetFanSpeed": lambda c, fan: c.fans[fan]["level"],
    "nvmlDeviceGetFanControlPolicy_v2": lambda c, fan: c.fans[fan]["policy"],
    "nvmlDeviceSetFanSpeed_v2": _set_fan,
    "nvmlDeviceSetDefaultFanSpeed_v2": _give_back_fan,
    "nvmlDeviceGetClockInfo": lambda c, kind: {0: 1830, 2: 7001}[kind],
    "nvmlDeviceGetUtilizationRates": lambda c: SimpleNamespace(gpu=97, memory=40),
    "nvmlDeviceGetMemoryInfo": lambda c: SimpleNamespace(used=3 << 30, total=8 << 30),
    "nvmlDeviceGetPowerUsage": lambda c: 219_400,
    "nvmlDeviceGetTemperature": lambda c, kind: 71,
    "nvmlDeviceGetTemperatureThreshold": lambda c, kind: c.shuts_down,
    "nvmlDeviceGetCurrentClocksThrottleReasons": lambda c: c.reasons,
}
