"""What is kept in force over restarts, and what became of it: a few small files that only root writes and everybody may read.

`kept.json` says what to apply, written through `keep.py` after an administrator's word. `mark.json` stands while it isn't known
yet whether the machine bears it; `stopped.json` says why nothing is applied any more. `lived/` counts hours, `incidents.jsonl`
failures.
"""

from __future__ import annotations

import contextlib
import json
import os
import stat
import zlib
from collections.abc import Mapping
from datetime import datetime
from pathlib import Path

from .interfaces import Interface, finite, read
from .looks import firmware_table, modules

CEILINGS = Path("etc/yondle/ceilings.toml")
BENCH = Path("etc/yondle/bench.json")
"""An administrator's word, as a file with {} in it, that a watchdog may restart this machine where it freezes in a plan."""
LOCK = Path("run/yondle-helper/lock")
"""In a folder that only root can look into: whoever can open a lock can hold it."""
STATE = Path("var/lib/yondle")
KEPT, MARK, STOPPED, INCIDENTS, LIVED = "kept.json", "mark.json", "stopped.json", "incidents.jsonl", "lived"
TESTED, NIGHT = "tested.json", "night.json"
"""The first names the boot in which a Yondle was last at work; the second allows a plan to go on over restarts."""
FORMAT = "yondle-kept 1"
SOURCES = ("mains", "battery")
LONGEST_NAME, MOST_VALUES, LARGEST_FILE = 60, 200, 1 << 20
Ceilings = Mapping[str, tuple[float, float]]


class Refused(Exception):
    """What was asked can't be done; says why."""


def ceilings(root: Path, owner: int) -> dict[str, tuple[float, float]]:
    """Read the ceilings; a file that others than its owner could have written is not believed, and nothing is set."""
    file = root / CEILINGS
    try:
        handle = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except FileNotFoundError:
        return {}
    import tomllib

    with open(handle, "rb") as opened:
        about = os.fstat(handle)
        if about.st_uid != owner or about.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
            raise Refused(f"{file} could have been written by others than root")
        table = tomllib.load(opened)
    try:
        return {str(knob): (float(low), float(high)) for knob, (low, high) in table.items()}
    except (TypeError, ValueError) as error:
        raise Refused(f"{file}: write each ceiling as  knob = [lowest, highest]") from error


def checked(interface: Interface, value: object, ceilings: Ceilings, found_is_legal: bool = True) -> float:
    """Give a value that may be set; raises Refused for what is no number, out of range, or beyond the ceilings."""
    if isinstance(value, bool) or not isinstance(value, int | float) or finite(str(value)) is None:
        raise Refused("the value is no finite number")
    if value != interface.at_start or not found_is_legal:
        low, high = ceilings.get(interface.knob, (-float("inf"), float("inf")))
        low, high = max(low, interface.low), min(high, interface.high)
        if not low <= value <= high:
            raise Refused(f"outside {low:g} to {high:g}")
        if interface.choices and value != int(value):
            raise Refused("a choice is a whole number")
    return float(value)


def profile_of(told: object) -> dict[str, object]:
    """Give a profile as it is kept; raises Refused for what is none."""
    if not isinstance(told, dict) or set(told) != {"name", "logbook", "step", "values"}:
        raise Refused("a profile has a name, a logbook, a step and values")
    name, logbook, step, values = (told[key] for key in ("name", "logbook", "step", "values"))
    if not isinstance(name, str) or not 0 < len(name) <= LONGEST_NAME or not name.isprintable():
        raise Refused(f"a name has 1 to {LONGEST_NAME} characters")
    if not isinstance(logbook, str) or not 0 < len(logbook) <= LONGEST_NAME or not logbook.isalnum():
        raise Refused("a logbook is named by letters and digits")
    if type(step) is not int or not 0 < step < 1 << 31:
        raise Refused("a step is a number")
    if not isinstance(values, dict) or not 0 < len(values) <= MOST_VALUES:
        raise Refused(f"a profile sets 1 to {MOST_VALUES} knobs")
    return {"name": name, "logbook": logbook, "step": step, "values": dict(values)}


def load(root: Path, owner: int) -> dict[str, dict[str, object]]:
    """Give what is kept, by power source; nothing where nothing is. Raises Refused for a file that can't be believed."""
    told = believed(root / STATE / KEPT, owner)
    if told is None:
        return {}
    if told.get("format") != FORMAT:
        raise Refused("it was written by another version")
    if told.get("hardware") != (here := hardware(root)):
        raise Refused(f"it is for other hardware: {_what_differs(told.get('hardware'), here)}")
    profiles = told.get("profiles")
    if not isinstance(profiles, dict) or not profiles or not set(profiles) <= set(SOURCES):
        raise Refused("it names no profiles")
    return {source: profile_of(profile) for source, profile in profiles.items()}


def believed(file: Path, owner: int) -> dict[str, object] | None:
    """Read a file that only its owner can have written; None where there is none, Refused where it can't be believed."""
    try:
        handle = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC | os.O_NONBLOCK)
    except FileNotFoundError:
        return None
    except OSError as error:
        raise Refused(f"{file.name} can't be read: {error.strerror}") from error
    with open(handle, "rb") as opened:
        about, folder = os.fstat(handle), os.lstat(file.parent)
        if any(each.st_uid != owner or each.st_mode & 0o022 for each in (about, folder)) or not stat.S_ISREG(
            about.st_mode
        ):
            raise Refused(f"{file.name} could have been written by others than root")
        try:
            told = json.loads(opened.read(LARGEST_FILE))
        except (OSError, ValueError, RecursionError) as error:
            raise Refused(f"{file.name} is damaged") from error
    if not isinstance(told, dict):
        raise Refused(f"{file.name} is damaged")
    return told


def names_boot(file: Path, owner: int, boot: object) -> bool:
    """Tell whether a file names a boot; raises Refused for one that can't be believed."""
    told = believed(file, owner)
    return told is not None and told.get("boot") == boot


def durable(file: Path, told: object) -> None:
    """Write a file whole or not at all, so that it outlives the machine's going down; raises OSError."""
    folder_of(file)
    beside = file.with_name(file.name + ".new")
    with contextlib.suppress(FileNotFoundError):
        os.unlink(beside)
    handle = os.open(beside, os.O_WRONLY | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644)
    with open(handle, "w", encoding="utf-8") as opened:
        json.dump(told, opened)
        opened.flush()
        os.fsync(handle)
    os.replace(beside, file)
    _sync_folder(file.parent)


def forget(file: Path) -> None:
    """Take a file away for good; harmless where there is none."""
    with contextlib.suppress(FileNotFoundError):
        os.unlink(file)
        _sync_folder(file.parent)


def add_line(file: Path, told: object) -> None:
    """Add a line that outlives the machine's going down."""
    folder_of(file)
    handle = os.open(file, os.O_WRONLY | os.O_CREAT | os.O_APPEND | os.O_NOFOLLOW | os.O_CLOEXEC, 0o644)
    try:
        os.write(handle, (json.dumps(told) + "\n").encode())
        os.fsync(handle)
    finally:
        os.close(handle)
    _sync_folder(file.parent)


def incidents(root: Path) -> list[dict[str, object]]:
    """Give what went wrong so far, the oldest first; lines that are none are left out."""
    found = []
    try:
        lines = (root / STATE / INCIDENTS).read_text("utf-8", "replace").splitlines()
    except OSError:
        lines = []
    for line in lines:
        with contextlib.suppress(ValueError, RecursionError):
            told = json.loads(line)
            found += [told] if isinstance(told, dict) else []
    return found


def wall() -> str:
    """Give date and time, in ISO 8601 with the offset."""
    return datetime.now().astimezone().isoformat(timespec="seconds")


def folder_of(file: Path) -> None:
    """Make a file's folder, for all to look into and for its owner to write in."""
    mask = os.umask(0o022)
    try:
        file.parent.mkdir(mode=0o755, parents=True, exist_ok=True)
    finally:
        os.umask(mask)


def _sync_folder(folder: Path) -> None:
    handle = os.open(folder, os.O_RDONLY | os.O_DIRECTORY | os.O_CLOEXEC)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)


def own_lock(root: Path) -> int:
    """Open the lock in a folder of the helper's own, made where there is none; raises OSError where others could open it."""
    file = root / LOCK
    with contextlib.suppress(FileExistsError):
        os.mkdir(file.parent, 0o700)
    about = os.lstat(file.parent)
    if not stat.S_ISDIR(about.st_mode) or about.st_uid != os.geteuid() or about.st_mode & 0o077:
        raise OSError(f"{file.parent} isn't the helper's own folder")
    return os.open(file, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)


def hardware(root: Path) -> dict[str, str]:
    """Name the parts that settings are proved on: processor, board and its firmware, cards, memory modules; no serial numbers."""
    about = [line.partition(":") for line in (read(root / "proc/cpuinfo") or "").split("\n\n")[0].splitlines()]
    told = {name.strip(): value.strip() for name, _, value in about}
    dmi = root / "sys/class/dmi/id"
    parts = {
        "processor": " ".join(told.get(key, "") for key in ("vendor_id", "cpu family", "model", "stepping")),
        "board": " ".join(read(dmi / name) or "" for name in ("board_vendor", "board_name", "bios_version")),
        "memory": f"{zlib.crc32(modules(firmware_table(root))):08x}",
    }
    for card in sorted((root / "sys/bus/pci/devices").glob("*")):
        if (read(card / "class") or "").startswith("0x03"):
            ids = ("vendor", "device", "subsystem_vendor", "subsystem_device")
            parts[f"card {card.name}"] = " ".join(read(card / name) or "" for name in ids)
    return parts


def _what_differs(before: object, now: dict[str, str]) -> str:
    told = before if isinstance(before, dict) else {}
    return ", ".join(part for part in sorted({*told, *now}) if told.get(part) != now.get(part))
