"""Yondle's helper: the one small program that runs as root and sets what only root may set. Standard library only.

It speaks JSON lines: {"n": 7, "do": "set", "knob": "large_pages", "value": 2} in, {"n": 7, "ok": true, "reads": 2.0} or
{"n": 7, "ok": false, "why": "..."} out; `n` has to grow. It knows the interfaces below and no others, takes knob names and
numbers and never a path, and holds every value against the kernel's range and the ceilings in /etc/yondle/ceilings.toml,
which only root may write. What it found at its start it puts back when told to, when its input closes, when it is ended,
and when it has heard nothing for TIMEOUT_S. Its threat model is docs/helper.md.

Files and their meaning are those of the kernel's Documentation: ABI/testing/sysfs-*, admin-guide/pm, hwmon, gpu.
"""

from __future__ import annotations

import contextlib
import fcntl
import json
import math
import os
import re
import select
import signal
import stat
import sys
import tomllib
from collections.abc import Callable, Iterable
from pathlib import Path

VERSION = 1
TIMEOUT_S = 15.0
LONGEST_LINE = 4096
BAD_LINES_AT_MOST = 32
CEILINGS = Path("etc/yondle/ceilings.toml")
LOCK = Path("run/yondle-helper/lock")
"""In a folder that only root can look into: whoever can open a lock can hold it."""
ENDINGS = (signal.SIGTERM, signal.SIGINT, signal.SIGHUP)
POWER_AT_LEAST_W = 5.0
FAN_AT_LEAST = 20.0
"""No fan is turned below this level in %: the helper can't know what it cools."""


class Refused(Exception):
    """What was asked can't be done; says why."""


class Interface:
    """One thing that can be set: numbers `scale` times as large in its files, or a choice of words (`scale` 1)."""

    def __init__(
        self,
        knob: str,
        files: Iterable[Path],
        low: float,
        high: float,
        scale: float = 1.0,
        choices: tuple[str, ...] = (),
        words: tuple[str, ...] = (),
    ) -> None:
        self.knob, self.files, self.low, self.high, self.scale = knob, tuple(files), low, high, scale
        self.choices = choices
        self._words = words or choices
        self._found = [(file, text) for file in self.files if (text := read(file)) is not None]
        self.at_start = self.value()

    def value(self) -> float | None:
        """Read the value in force; None where it can't be read, or where its files differ."""
        values = {self._value_of(text) for file in self.files if (text := read(file)) is not None}
        return values.pop() if len(values) == 1 else None

    def set(self, value: float) -> None:
        """Set a value that has been checked."""
        text = self._words[round(value)] if self.choices else str(round(value * self.scale))
        for file in self.files:
            write(file, text)

    def put_back(self) -> None:
        """Write what was found at the start."""
        for file, text in self._found:
            write(file, _bracketed(text))

    def _value_of(self, text: str) -> float | None:
        word = _bracketed(text)
        if self.choices:
            return float(self._words.index(word)) if word in self._words else None
        try:
            return round(float(word) / self.scale, 6)
        except ValueError:
            return None


class Online(Interface):
    """How many processors are on line; those that can't be taken off line stay, the last go first."""

    def value(self) -> float | None:
        """Count those on line."""
        return self.low + sum(1 for file in self.files if read(file) == "1")

    def set(self, value: float) -> None:
        """Take processors on or off line, one after the other."""
        for i, file in enumerate(self.files):
            write(file, "1" if i < round(value - self.low) else "0")


class Fan(Interface):
    """A fan's level in %; it has to be taken from the automatic control first, and is given back to it."""

    def __init__(self, knob: str, level: Path, enable: Path) -> None:
        self._enable = enable
        self._mode = read(enable) or "2"
        super().__init__(knob, (level,), FAN_AT_LEAST, 100.0, 2.55)

    def _value_of(self, text: str) -> float | None:
        found = super()._value_of(text)
        return None if found is None else float(round(found))

    def set(self, value: float) -> None:
        """Take the fan over and set its level."""
        write(self._enable, "1")
        super().set(value)

    def put_back(self) -> None:
        """Give the fan its level and its control back."""
        super().put_back()
        write(self._enable, self._mode)


class Overdrive(Interface):
    """One line of a graphics card's table of clocks and voltages (pp_od_clk_voltage), set by a command and committed."""

    def __init__(
        self, knob: str, file: Path, section: str, line: int | None, command: str, low: float, high: float
    ) -> None:
        self._section, self._line, self._command = section, line, command
        super().__init__(knob, (file,), low, high)

    def _value_of(self, text: str) -> float | None:
        lines = od_section(text, self._section)
        wanted = next((each for each in lines if self._line is None or each.startswith(f"{self._line}:")), None)
        found = re.search(r"(-?\d+)\s*(?:[Mm][Hh]z|mV)", wanted or "")
        return float(found.group(1)) if found else None

    def set(self, value: float) -> None:
        """Write the line and commit it."""
        write(self.files[0], f"{self._command} {round(value)}")
        write(self.files[0], "c")

    def put_back(self) -> None:
        """Set the line as it was found."""
        if self.at_start is not None:
            self.set(self.at_start)


def read(file: Path) -> str | None:
    """Read a small text file; None where that can't be."""
    try:
        with open(file, encoding="utf-8", errors="replace") as opened:
            return opened.read(65536).strip()
    except OSError:
        return None


def write(file: Path, text: str) -> None:
    """Write into a file that is there already and is no link; raises OSError."""
    handle = os.open(file, os.O_WRONLY | os.O_TRUNC | os.O_NOFOLLOW | os.O_CLOEXEC)
    try:
        os.write(handle, text.encode())
    finally:
        os.close(handle)


def od_section(text: str, name: str) -> list[str]:
    """Give the lines below a heading of a graphics card's table."""
    lines: list[str] = []
    inside = False
    for line in text.splitlines():
        if re.fullmatch(r"OD_\w+:\s*", line):
            inside = line.strip() == f"{name}:"
        elif inside and line.strip():
            lines.append(line.strip())
    return lines


def find(root: Path = Path("/")) -> dict[str, Interface]:
    """Find the interfaces this machine has."""
    sys_ = root / "sys"
    found: list[Interface] = []
    for look in (
        _processor_clocks,
        _processor_switches,
        _online,
        _power_limits,
        _modes,
        _fans,
        _graphics,
        _large_pages,
    ):
        found += look(sys_)
    inside = os.path.realpath(sys_)
    return {
        i.knob: i for i in found if i.files and all(os.path.realpath(f).startswith(inside + os.sep) for f in i.files)
    }


def _processor_clocks(sys_: Path) -> list[Interface]:
    policies = sorted((sys_ / "devices/system/cpu/cpufreq").glob("policy*"))
    lows = [_number(p / "cpuinfo_min_freq") for p in policies]
    highs = [_number(p / "cpuinfo_max_freq") for p in policies]
    found: list[Interface] = []
    low, high = max((v for v in lows if v), default=0.0), min((v for v in highs if v), default=0.0)
    if low and high > low:
        for knob, name in (("core_clock_most", "scaling_max_freq"), ("core_clock_least", "scaling_min_freq")):
            found.append(Interface(knob, _there(p / name for p in policies), low / 1e3, high / 1e3, 1e3))
    for knob, name, offered in (
        ("governor", "scaling_governor", "scaling_available_governors"),
        ("energy_preference", "energy_performance_preference", "energy_performance_available_preferences"),
    ):
        choices = tuple((read(policies[0] / offered) or "").split()) if policies else ()
        if len(choices) > 1:
            files = _there(p / name for p in policies)
            found.append(Interface(knob, files, 0, len(choices) - 1, choices=choices))
    return found


def _processor_switches(sys_: Path) -> list[Interface]:
    cpu = sys_ / "devices/system/cpu"
    found: list[Interface] = []
    for knob, file, words in (
        ("boost", cpu / "cpufreq/boost", ("0", "1")),
        ("turbo", cpu / "intel_pstate/no_turbo", ("1", "0")),
        ("threads_per_core", cpu / "smt/control", ("off", "on")),
    ):
        if read(file) in words:
            found.append(Interface(knob, (file,), 0, 1, choices=("off", "on"), words=words))
    if _number(cpu / "intel_pstate/max_perf_pct") is not None:
        found.append(Interface("most_performance", (cpu / "intel_pstate/max_perf_pct",), 10, 100))
    return found


def _online(sys_: Path) -> list[Interface]:
    cpus = sorted((sys_ / "devices/system/cpu").glob("cpu[0-9]*"), key=lambda path: int(path.name[3:]))
    movable = _there(cpu / "online" for cpu in cpus)
    fixed = len(cpus) - len(movable)
    if not movable or len(cpus) < 2:
        return []
    if fixed == 0:
        fixed, movable = 1, movable[1:]
    return [Online("processors_on_line", movable, float(fixed), float(len(cpus)))]


def _power_limits(sys_: Path) -> list[Interface]:
    zones = [z for z in sorted((sys_ / "class/powercap").glob("*:*")) if (read(z / "name") or "").startswith("package")]
    found: list[Interface] = []
    for knob, wanted in (("power_limit_long", "long_term"), ("power_limit_short", "short_term")):
        files, most = [], []
        for zone in zones:
            for name in zone.glob("constraint_*_name"):
                stem = name.name.removesuffix("_name")
                limit = zone / f"{stem}_power_limit_uw"
                if read(name) == wanted and (now := _number(limit)):
                    files.append(limit)
                    most.append(max(now, _number(zone / f"{stem}_max_power_uw") or 0.0))
        if files:
            found.append(Interface(knob, files, POWER_AT_LEAST_W, min(most) / 1e6, 1e6))
    return found


def _modes(sys_: Path) -> list[Interface]:
    file = sys_ / "firmware/acpi/platform_profile"
    choices = tuple((read(sys_ / "firmware/acpi/platform_profile_choices") or "").split())
    return [Interface("power_mode", (file,), 0, len(choices) - 1, choices=choices)] if len(choices) > 1 else []


def _fans(sys_: Path) -> list[Interface]:
    found: list[Interface] = []
    names: dict[str, int] = {}
    for chip in sorted((sys_ / "class/hwmon").glob("hwmon*")):
        name = _slug(read(chip / "name") or chip.name)
        names[name] = names.get(name, 0) + 1
        of_same = f"_{names[name]}" if names[name] > 1 else ""
        for level in sorted(chip.glob("pwm[0-9]")):
            enable = chip / f"{level.name}_enable"
            if read(enable) is not None and _number(level) is not None:
                found.append(Fan(f"fan_{name}{of_same}_{level.name[3:]}", level, enable))
    return found


def _graphics(sys_: Path) -> list[Interface]:
    found: list[Interface] = []
    for card in sorted((sys_ / "class/drm").glob("card[0-9]")):
        device, tail = card / "device", "" if card.name == "card0" else f"_{card.name[4:]}"
        level = device / "power_dpm_force_performance_level"
        if read(level) in ("auto", "low", "high", "manual"):
            words = ("auto", "low", "high", "manual")
            found.append(Interface(f"graphics_level{tail}", (level,), 0, 3, choices=words))
        for chip in sorted(device.glob("hwmon/hwmon*")):
            cap, least, most = (_number(chip / f"power1_cap{end}") for end in ("", "_min", "_max"))
            if cap is not None and most:
                files = (chip / "power1_cap",)
                found.append(Interface(f"graphics_power_limit{tail}", files, (least or 0.0) / 1e6, most / 1e6, 1e6))
        found += _overdrive(device / "pp_od_clk_voltage", tail)
        least, most = (_number(card / f"gt_{end}_freq_mhz") for end in ("RPn", "RP0"))
        if least and most and _number(card / "gt_max_freq_mhz") is not None:
            found.append(Interface(f"graphics_clock_most{tail}", (card / "gt_max_freq_mhz",), least, most))
    return found


def _overdrive(file: Path, tail: str) -> list[Interface]:
    text = read(file) or ""
    ranges = {}
    for line in od_section(text, "OD_RANGE"):
        matched = re.match(r"(\w+):\s*(-?\d+)\s*(?:[Mm][Hh]z|mV)\s+(-?\d+)", line)
        if matched:
            ranges[matched.group(1)] = (float(matched.group(2)), float(matched.group(3)))
    found: list[Interface] = []
    table: tuple[tuple[str, str, int | None, str, str], ...] = (
        ("graphics_clock", "OD_SCLK", 1, "s 1", "SCLK"),
        ("graphics_memory_clock", "OD_MCLK", 1, "m 1", "MCLK"),
        ("graphics_voltage_offset", "OD_VDDGFX_OFFSET", None, "vo", "VDDGFX_OFFSET"),
    )
    for knob, section, row, command, named in table:
        if named in ranges and od_section(text, section):
            found.append(Overdrive(f"{knob}{tail}", file, section, row, command, *ranges[named]))
    return found


def _large_pages(sys_: Path) -> list[Interface]:
    file = sys_ / "kernel/mm/transparent_hugepage/enabled"
    choices = ("never", "madvise", "always")
    text = read(file) or ""
    return [Interface("large_pages", (file,), 0, 2, choices=choices)] if _bracketed(text) in choices else []


def _there(files: Iterable[Path]) -> tuple[Path, ...]:
    return tuple(file for file in files if read(file) is not None)


def _number(file: Path) -> float | None:
    try:
        return float(read(file) or "")
    except ValueError:
        return None


def _bracketed(text: str) -> str:
    """Of a row of words, the one in brackets; else the text itself."""
    found = re.search(r"\[(\S+)\]", text)
    return found.group(1) if found else text


def _slug(name: str) -> str:
    return re.sub(r"[^a-z0-9]+", "_", name.lower()).strip("_")


class Server:
    """Answers one client until it leaves, then puts everything back."""

    def __init__(self, root: Path, owner: int) -> None:
        self._interfaces = find(root)
        self._ceilings = _ceilings(root / CEILINGS, owner)
        self._touched: list[str] = []
        self._last = 0

    def answer(self, line: bytes) -> dict[str, object]:
        """Answer one line; whatever is wrong with it is an answer too."""
        number: object = None
        try:
            request = json.loads(line, parse_constant=_no_constant)
            if not isinstance(request, dict):
                raise Refused("a request is an object")
            number = request.get("n")
            if type(number) is not int or not self._last < number < 1 << 53:
                number = None
                raise Refused("the number of a request has to grow")
            self._last = number
            return {"n": number, "ok": True, **self._do(request)}
        except Refused as why:
            return {"n": number, "ok": False, "why": str(why)}
        except (ValueError, OverflowError, RecursionError):
            return {"n": number, "ok": False, "why": "that is no request"}
        except OSError as error:
            return {"n": number, "ok": False, "why": f"the kernel refused it: {error.strerror}"}

    def put_back(self) -> list[str]:
        """Put back what was found, the last set first; gives what could not be."""
        left = []
        for knob in reversed(self._touched):
            try:
                self._interfaces[knob].put_back()
            except OSError:
                left.append(knob)
        self._touched = left[::-1]
        return left

    def _do(self, request: dict[str, object]) -> dict[str, object]:
        match request.get("do"):
            case "hello":
                return {"version": VERSION, "timeout_s": TIMEOUT_S, "knobs": sorted(self._interfaces)}
            case "alive":
                return {}
            case "read":
                return {"reads": self._interface(request).value()}
            case "set":
                return self._set(self._interface(request), request.get("value"))
            case "put_back":
                return {"left": self.put_back()}
            case _:
                raise Refused("unknown request")

    def _interface(self, request: dict[str, object]) -> Interface:
        knob = request.get("knob")
        if not isinstance(knob, str) or knob not in self._interfaces:
            raise Refused("unknown knob")
        return self._interfaces[knob]

    def _set(self, interface: Interface, value: object) -> dict[str, object]:
        if isinstance(value, bool) or not isinstance(value, int | float) or not math.isfinite(value):
            raise Refused("the value is no finite number")
        low, high = self._ceilings.get(interface.knob, (-math.inf, math.inf))
        low, high = max(low, interface.low), min(high, interface.high)
        if not low <= value <= high:
            raise Refused(f"outside {low:g} to {high:g}")
        if interface.choices and value != int(value):
            raise Refused("a choice is a whole number")
        if interface.knob not in self._touched:
            self._touched.append(interface.knob)
        if value == interface.at_start:
            interface.put_back()
        else:
            interface.set(float(value))
        return {"reads": interface.value()}


def _no_constant(name: str) -> float:
    raise Refused(f"{name} is no number")


def _ceilings(file: Path, owner: int) -> dict[str, tuple[float, float]]:
    """Read the ceilings; a file that others than its owner could have written is not believed, and nothing is set."""
    try:
        handle = os.open(file, os.O_RDONLY | os.O_NOFOLLOW | os.O_CLOEXEC)
    except FileNotFoundError:
        return {}
    with open(handle, "rb") as opened:
        about = os.fstat(handle)
        if about.st_uid != owner or about.st_mode & (stat.S_IWGRP | stat.S_IWOTH):
            raise Refused(f"{file} could have been written by others than root")
        table = tomllib.load(opened)
    try:
        return {str(knob): (float(low), float(high)) for knob, (low, high) in table.items()}
    except (TypeError, ValueError) as error:
        raise Refused(f"{file}: write each ceiling as  knob = [lowest, highest]") from error


def serve(root: Path, owner: int = 0, timeout_s: float = TIMEOUT_S, out: Callable[[str], None] | None = None) -> None:
    """Serve the standard input until it ends or falls silent; then put everything back."""
    say = out or _say
    try:
        own_lock = _own_lock(root / LOCK)
    except OSError as why:
        say(json.dumps({"n": None, "ok": False, "why": f"its lock can't be had: {why}"}))
        return
    with open(own_lock, "w", encoding="ascii") as lock:
        try:
            fcntl.flock(lock, fcntl.LOCK_EX | fcntl.LOCK_NB)
            server = Server(root, owner)
        except (BlockingIOError, Refused, tomllib.TOMLDecodeError) as why:
            words = "another helper is at work" if isinstance(why, BlockingIOError) else str(why)
            say(json.dumps({"n": None, "ok": False, "why": words}))
            return
        for kind in ENDINGS:
            signal.signal(kind, lambda *_: sys.exit(0))
        try:
            _answer_lines(server, timeout_s, say)
        except BrokenPipeError:
            os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
        finally:
            for kind in ENDINGS:
                signal.signal(kind, signal.SIG_IGN)
            server.put_back()


def _own_lock(file: Path) -> int:
    """Open the lock in a folder of the helper's own, made where there is none; raises OSError where others could open it."""
    with contextlib.suppress(FileExistsError):
        os.mkdir(file.parent, 0o700)
    about = os.lstat(file.parent)
    if not stat.S_ISDIR(about.st_mode) or about.st_uid != os.geteuid() or about.st_mode & 0o077:
        raise OSError(f"{file.parent} isn't the helper's own folder")
    return os.open(file, os.O_RDWR | os.O_CREAT | os.O_NOFOLLOW | os.O_CLOEXEC, 0o600)


def _answer_lines(server: Server, timeout_s: float, say: Callable[[str], None]) -> None:
    waiting = b""
    bad = 0
    while bad < BAD_LINES_AT_MOST:
        if not select.select([0], [], [], timeout_s)[0]:
            return
        piece = os.read(0, LONGEST_LINE)
        if not piece:
            return
        *lines, waiting = (waiting + piece).split(b"\n")
        for line in lines:
            answer = server.answer(line)
            bad += answer["n"] is None
            say(json.dumps(answer))
        if len(waiting) > LONGEST_LINE:
            return


def _say(line: str) -> None:
    os.write(1, (line + "\n").encode())


if __name__ == "__main__":
    serve(Path("/"))
