"""What graphics cards tell through their maker's management library: clocks, use, power, warmth, fans, and what holds them back.

Numbers of clocks, thresholds and reasons are those of the library's own documentation.
"""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path
from typing import Any

from yondle.language.saying import later, named, say
from yondle.model.knobs import Subsystem
from yondle.model.sensors import Channel, Quantity, Reading
from yondle.rigs.linux.graphics import of_card
from yondle.rigs.linux.probe import BELOW_CRITICAL, CREDIBLE_C, Probe, slug
from yondle.rigs.linux.root.helper.maker import MILLI, LibraryCard, library_cards

_G = Subsystem.GRAPHICS
_GRAPHICS_CLOCK, _MEMORY_CLOCK = 0, 2
_SHUTS_DOWN = 0
_OF_POWER, _OF_HEAT = 0x04 | 0x80, 0x20 | 0x40
"""Reasons of a lowered clock: its power limit or the supply's own brake, and its or the board's limits of heat."""
_REASONS = ("nvmlDeviceGetCurrentClocksEventReasons", "nvmlDeviceGetCurrentClocksThrottleReasons")
_GIB = float(1 << 30)


def library_probes(root: Path) -> Iterator[Probe]:
    """Find what the library's cards tell; nothing where it isn't installed."""
    for card in library_cards(root):
        yield from _of(card)


def _of(card: LibraryCard) -> Iterator[Probe]:
    tail = of_card(card.tail) if card.tail else ""
    shown = (
        (later("Graphics clock"), "MHz", Quantity.CLOCK, 0, partial(_number, card, "nvmlDeviceGetClockInfo", _GRAPHICS_CLOCK)),
        (later("Graphics memory clock"), "MHz", Quantity.CLOCK, 0,
         partial(_number, card, "nvmlDeviceGetClockInfo", _MEMORY_CLOCK)),
        (later("Graphics in use"), "%", Quantity.USE, 0, partial(_part, card, "nvmlDeviceGetUtilizationRates", "gpu", 1.0)),
        (later("Graphics memory used"), "GiB", Quantity.OTHER, 2, partial(_part, card, "nvmlDeviceGetMemoryInfo", "used", _GIB)),
        (later("Graphics power"), "W", Quantity.POWER, 1, partial(_scaled, card, "nvmlDeviceGetPowerUsage", MILLI)),
        (later("Graphics temperature"), "°C", Quantity.TEMPERATURE, 0, partial(_number, card, "nvmlDeviceGetTemperature", 0)),
    )  # fmt: skip
    for name, unit, quantity, digits, read in shown:
        if read() is not None:
            channel = Channel(slug(name + tail), named(name) + tail, unit, quantity, _G, digits)
            most = _most(card) if quantity is Quantity.TEMPERATURE else None
            yield Probe(channel, read, _where(card), most=most)
    for fan in range(int(card.ask("nvmlDeviceGetNumFans") or 0)):
        read = partial(_number, card, "nvmlDeviceGetFanSpeed_v2", fan)
        if read() is not None:
            name, number = later("Graphics fan"), f" {fan + 1}"
            channel = Channel(
                slug(name + number + tail), named(name) + number + tail, "%", Quantity.FAN, Subsystem.COOLING, 0
            )
            yield Probe(channel, read, _where(card))
    yield from _limits(card, tail)


def _limits(card: LibraryCard, tail: str) -> Iterator[Probe]:
    """Tell whether power or heat holds the clock down just now, as flags that follow their knobs."""
    asks = next((each for each in _REASONS if card.ask(each) is not None), None)
    if asks is None:
        return
    power, heat = (slug(words + tail) for words in ("graphics power", "graphics temperature"))
    for name, limit, bits, follows, of in (
        (
            later("Graphics power limit reached"), later("graphics power limit"), _OF_POWER,
            f"graphics_power_limit{card.tail}", power,
        ),
        (later("Graphics heat limit reached"), later("graphics heat limit"), _OF_HEAT, "", heat),
    ):  # fmt: skip
        channel = Channel(
            slug(name + tail), named(name) + tail, "", Quantity.FLAG, _G, 0, follows=follows, of=of, limit=limit
        )
        yield Probe(channel, partial(_set, card, asks, bits), _where(card))


def _most(card: LibraryCard) -> float | None:
    """Give below where the card shuts itself down, less what a test is stopped before; None where that isn't credible."""
    found = _number(card, "nvmlDeviceGetTemperatureThreshold", _SHUTS_DOWN)
    return found - BELOW_CRITICAL if found is not None and CREDIBLE_C[0] <= found <= CREDIBLE_C[1] else None


def _where(card: LibraryCard) -> str:
    return say("its maker's library ({address})", address=card.address)


def _number(card: LibraryCard, asks: str, *more: Any) -> Reading:
    return _scaled(card, asks, 1.0, *more)


def _scaled(card: LibraryCard, asks: str, scale: float, *more: Any) -> Reading:
    found = card.ask(asks, *more)
    return None if found is None else float(found) / scale


def _part(card: LibraryCard, asks: str, part: str, scale: float) -> Reading:
    found = getattr(card.ask(asks), part, None)
    return None if found is None else float(found) / scale


def _set(card: LibraryCard, asks: str, bits: int) -> Reading:
    found = card.ask(asks)
    return None if found is None else float(bool(int(found) & bits))
