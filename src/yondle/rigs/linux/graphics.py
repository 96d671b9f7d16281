"""What graphics cards show through the kernel: use, memory, clocks asked for and actual, and the links they hang on.

Files as in the kernel's Documentation: gpu/amdgpu/thermal, ABI/testing/sysfs-driver-intel-xe-hwmon, ABI/testing/sysfs-bus-pci.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from pathlib import Path

from yondle.language.saying import later, named, say
from yondle.model.knobs import Subsystem
from yondle.model.sensors import Channel, Quantity, Reading
from yondle.rigs.linux.files import Source, Tree
from yondle.rigs.linux.probe import Probe, plain, slug
from yondle.rigs.linux.root.helper.cards import named_cards

_G = Subsystem.GRAPHICS


def graphics_probes(tree: Tree) -> Iterator[Probe]:
    """Find what the kernel shows of each card's use, memory and clocks."""
    for card, end in named_cards(tree.root / "sys"):
        device, tail = card / "device", of_card(end)
        simple = (
            (device / "gpu_busy_percent", later("Graphics in use"), "%", Quantity.USE, 1.0, 0),
            (device / "mem_info_vram_used", later("Graphics memory used"), "GiB", Quantity.OTHER, float(1 << 30), 2),
            *((file, later("Graphics clock"), "MHz", Quantity.CLOCK, 1.0, 0) for file in _actual(card)[:1]),
            *((file, later("Graphics clock asked for"), "MHz", Quantity.CLOCK, 1.0, 0) for file in _asked(card)[:1]),
        )
        for file, name, unit, quantity, scale, digits in simple:
            if tree.number(file) is not None:
                channel = Channel(slug(name + tail), named(name) + tail, unit, quantity, _G, digits)
                yield plain(channel, tree.source(file), scale, str(file))
        levels = (
            ("pp_dpm_sclk", later("Graphics clock")),
            ("pp_dpm_mclk", later("Graphics memory clock")),
        )
        for file_name, name in levels:
            if "*" in tree.text(device / file_name):
                channel = Channel(slug(name + tail), named(name) + tail, "MHz", Quantity.CLOCK, _G, 0)
                yield Probe(channel, _starred(tree.source(device / file_name, long=True)), str(device / file_name))


def of_card(end: str) -> str:
    """Say which of several cards, as ' (03:00.0)', by what the names of its knobs end with."""
    bus = re.fullmatch(r"_[0-9a-f]{4}_([0-9a-f]{2})_([0-9a-f]{2})_(\d)", end)
    return " ({}:{}.{})".format(*bus.groups()) if bus is not None else end.replace("_", " ")


def _actual(card: Path) -> list[Path]:
    """The files that tell a card's clock as it is, where its driver tells that beside the one asked for."""
    found = [
        card / "gt_act_freq_mhz",
        *card.glob("gt/gt*/rps_act_freq_mhz"),
        *card.glob("device/tile*/gt*/freq0/act_freq"),
    ]
    return [file for file in found if file.is_file()]


def _asked(card: Path) -> list[Path]:
    found = [
        card / "gt_cur_freq_mhz",
        *card.glob("gt/gt*/rps_cur_freq_mhz"),
        *card.glob("device/tile*/gt*/freq0/cur_freq"),
    ]
    return [file for file in found if file.is_file()]


def link_probes(tree: Tree) -> Iterator[Probe]:
    """Width and speed of the link of each graphics card: a full one, reported behind a splitter, is the classic false comfort."""
    for card, end in named_cards(tree.root / "sys"):
        device, tail = card / "device", of_card(end)
        yield from _link_speed(tree, device, tail)
        most = tree.number(device / "max_link_width")
        if most and tree.number(device / "current_link_width") is not None:
            about = say(
                "of {most:.0f} lanes, at {device} at most",
                most=most,
                device=tree.text(device / "max_link_speed") or say("a speed not told"),
            )
            channel = Channel(
                slug("link_width" + tail),
                say("Link width{tail}", tail=tail),
                "lanes",
                Quantity.OTHER,
                _G,
                0,
                about=about,
            )
            yield plain(channel, tree.source(device / "current_link_width"), 1.0, str(device))


def _link_speed(tree: Tree, device: Path, tail: str) -> Iterator[Probe]:
    """The speed of a link, as '16.0 GT/s PCIe'."""
    most = _SPEED.match(tree.text(device / "max_link_speed"))
    if most is None or _SPEED.match(tree.text(device / "current_link_speed")) is None:
        return
    about = say("of {most:g} GT/s", most=float(most.group(1)))
    name = say("Link speed{tail}", tail=tail)
    channel = Channel(slug("link_speed" + tail), name, "GT/s", Quantity.OTHER, _G, 1, about=about)
    source = tree.source(device / "current_link_speed")

    def read() -> Reading:
        found = _SPEED.match(source.text() or "")
        return float(found.group(1)) if found else None

    yield Probe(channel, read, str(device / "current_link_speed"))


_SPEED = re.compile(r"\s*(\d+(?:\.\d+)?) GT/s")


def _starred(source: Source) -> Callable[[], Reading]:
    """Read the level in force of a graphics card's table: the line with the star, as in '1: 1500Mhz *'."""

    def read() -> Reading:
        found = re.search(r":\s*(\d+)\s*[Mm][Hh]z\s*\*", source.text() or "")
        return float(found.group(1)) if found else None

    return read
