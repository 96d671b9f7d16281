"""Sensors that an administrator has installed in /etc/yondle/own.d: read here where that is allowed, else by the helper."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from pathlib import Path

from pydantic import ValidationError

from yondle.model.sensors import Channel, Reading, quantity_in
from yondle.rigs.linux.probe import Numbers, Probe
from yondle.rigs.linux.root.helper.interfaces import LeftOut, Why
from yondle.rigs.linux.root.helper.own import OwnSensor, own_sensors
from yondle.rigs.own.own_file import SensorEntry


def administrators_probes(root: Path, told: Numbers | None, owner: int = 0) -> Iterator[Probe]:
    """Find what the installed sensors read; those that may not be read here are read through `told`, where there is one."""
    for each in own_sensors(root, owner):
        entry = _entry_of(each)
        if not isinstance(each, OwnSensor) or isinstance(entry, LeftOut):
            continue
        readable = each.value() is not None
        if not readable and told is None:
            continue
        channel = Channel(
            each.name, entry.name, entry.unit, quantity_in(entry.unit), entry.works, entry.digits, about=entry.about
        )
        read = each.value if readable else partial(_of, told, each.name)
        yield Probe(channel, read, str(each.file), most=entry.stop_at, through_helper=not readable)


def wrong_sensors(root: Path, owner: int) -> list[LeftOut]:
    """List the installed sensors that are described wrongly, with what is wrong."""
    return [entry for each in own_sensors(root, owner) if isinstance(entry := _entry_of(each), LeftOut)]


def _entry_of(each: OwnSensor | LeftOut) -> SensorEntry | LeftOut:
    if isinstance(each, LeftOut):
        return each
    try:
        return SensorEntry.model_validate(each.entry)
    except ValidationError as error:
        return LeftOut(each.name, each.file, Why.WRONG, error.errors()[0]["msg"])


def _of(told: Numbers | None, name: str) -> Reading:
    return ((told() if told is not None else None) or {}).get(name)
