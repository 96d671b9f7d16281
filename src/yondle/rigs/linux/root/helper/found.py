"""What this machine lets be set: every interface there is, and what is there and not offered, with the reason."""

from __future__ import annotations

import os
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

from .cards import cards
from .interfaces import (
    POWER_AT_LEAST_W,
    Clipped,
    Fan,
    Interface,
    LeftOut,
    Online,
    Why,
    bracketed,
    cpus_in,
    number,
    read,
    slug,
    there,
)
from .maker import maker_cards
from .own import Own, own

NO_LIMIT_W = 1000.0
"""A limit beyond this is none: the register's highest value, or what a maker writes for it."""
HIGHEST_UNTOLD_W = 400.0
"""Up to where a package's power may be set where the kernel tells neither a maximum nor a limit that is one."""
KIND_APART = 1.15
"""Cores whose highest clocks differ by more than this are of different kinds, where nothing else says so."""
WINDOWS = (-6, -5, -4, -3, -2, -1, 0, 1, 2, 3)
"""A limiter's time window is offered in powers of two times the one found: only so many hold it exactly."""
SHORTEST_WINDOW_S, LONGEST_WINDOW_S = 0.001, 128.0


@dataclass(frozen=True)
class Found:
    """What a machine has: interfaces by the names of their knobs, and what is left out."""

    interfaces: dict[str, Interface]
    left_out: tuple[LeftOut, ...] = field(default=())


def find(root: Path = Path("/"), owner: int = 0) -> dict[str, Interface]:
    """Find the interfaces this machine has."""
    return find_all(root, owner).interfaces


def find_all(root: Path = Path("/"), owner: int = 0) -> Found:
    """Find the interfaces this machine has, and what is there and not offered; an administrator's files belong to `owner`."""
    sys_ = root / "sys"
    found: list[Interface | LeftOut] = []
    for look in (_clocks, _switches, _online, _power_limits, _modes, _fans, cards, _large_pages):
        found += look(sys_)
    found += maker_cards(root)
    found += own(root, owner)
    inside = os.path.realpath(sys_) + os.sep
    interfaces: dict[str, Interface] = {}
    left_out: list[LeftOut] = []
    for each in found:
        if isinstance(each, LeftOut):
            left_out.append(each)
        elif not each.files:
            continue
        elif not isinstance(each, Own) and not all(os.path.realpath(f).startswith(inside) for f in each.files):
            left_out.append(LeftOut(each.knob, each.files[0], Why.LEADS_OUT))
        elif each.at_start is None:
            says = tuple(dict.fromkeys(bracketed(read(file) or "") for file in each.files))
            why = Why.DIFFERS if len(says) > 1 else Why.NOT_READ
            left_out.append(LeftOut(each.knob, each.files[0], why, ", ".join(says)))
        else:
            interfaces[each.knob] = each
    return Found(interfaces, tuple(left_out))


def _clocks(sys_: Path) -> list[Interface | LeftOut]:
    policies = sorted((sys_ / "devices/system/cpu/cpufreq").glob("policy*"), key=lambda p: (len(p.name), p.name))
    ends = {p: (number(p / "cpuinfo_min_freq") or 0.0, number(p / "cpuinfo_max_freq") or 0.0) for p in policies}
    found: list[Interface | LeftOut] = []
    kinds = _kinds(sys_, [p for p in policies if 0.0 < ends[p][0] < ends[p][1]], ends)
    for i, kind in enumerate(kinds, 1):
        tail = f"_kind_{i}_of_{len(kinds)}" if len(kinds) > 1 else ""
        for knob, name, highest in (
            ("core_clock_most", "scaling_max_freq", True),
            ("core_clock_least", "scaling_min_freq", False),
        ):
            files = {p / name: (ends[p][0] / 1e3, ends[p][1] / 1e3) for p in kind if number(p / name) is not None}
            if files:
                found.append(Clipped(f"{knob}{tail}", files, 1e3, highest))
    for knob, name, offered in (
        ("governor", "scaling_governor", "scaling_available_governors"),
        ("energy_preference", "energy_performance_preference", "energy_performance_available_preferences"),
    ):
        each = there(p / name for p in policies)
        choices = tuple(dict.fromkeys((read(policies[0] / offered) or "").split())) if policies else ()
        if each:
            found.append(_choice(knob, each, choices, raw=knob == "energy_preference"))
    return found


def _choice(knob: str, files: tuple[Path, ...], choices: tuple[str, ...], raw: bool = False) -> Interface | LeftOut:
    """Make a choice of words; what is set now is one of them too, where it can be written again (`raw` where any can)."""
    now = bracketed(read(files[0]) or "")
    if now and now not in choices:
        if not raw:
            return LeftOut(knob, files[0], Why.NOT_PUT_BACK, now)
        choices = (*choices, now)
    if len(choices) < 2:
        return LeftOut(knob, files[0], Why.ONE_CHOICE, now)
    return Interface(knob, files, 0, len(choices) - 1, choices=choices)


def _kinds(sys_: Path, policies: list[Path], ends: dict[Path, tuple[float, float]]) -> list[list[Path]]:
    """Sort policies by kind of core, the fastest first: as the kernel lists or weighs them, else by their highest clocks.

    Cores of one kind may still differ by a few per cent, as a maker sorts them.
    """
    lists = [cpus_in(read(file) or "") for file in sorted((sys_ / "devices").glob("cpu_*/cpus"))]
    cpu = sys_ / "devices/system/cpu"
    capacity = {p: number(cpu / f"cpu{_first_cpu(p)}" / "cpu_capacity") for p in policies}
    keys: dict[Path, float] = {}
    if len([one for one in lists if one]) > 1:
        keys = {p: float(next((i for i, one in enumerate(lists) if _first_cpu(p) in one), -1)) for p in policies}
    elif all(capacity.values()):
        keys = {p: capacity[p] or 0.0 for p in policies}
    else:
        kind, before = 0, 0.0
        for p in sorted(policies, key=lambda p: ends[p][1]):
            kind += before > 0.0 and ends[p][1] > KIND_APART * before
            keys[p], before = float(kind), ends[p][1]
    grouped: dict[float, list[Path]] = {}
    for p in policies:
        grouped.setdefault(keys[p], []).append(p)
    return sorted(grouped.values(), key=lambda those: -max(ends[p][1] for p in those))


def _first_cpu(policy: Path) -> int:
    return int(policy.name.removeprefix("policy"))


def _switches(sys_: Path) -> list[Interface | LeftOut]:
    cpu = sys_ / "devices/system/cpu"
    found: list[Interface | LeftOut] = []
    off_on = ("off", "on")
    by_policy = there(sorted((cpu / "cpufreq").glob("policy*/boost")))
    boost = (cpu / "cpufreq/boost",) if read(cpu / "cpufreq/boost") is not None else by_policy
    for knob, files, words in (("boost", boost, ("0", "1")), ("turbo", (cpu / "intel_pstate/no_turbo",), ("1", "0"))):
        if files and read(files[0]) in words:
            found.append(Interface(knob, files, 0, 1, choices=off_on, words=words))
    threads = cpu / "smt/control"
    state = read(threads)
    if state in off_on:
        found.append(Interface("threads_per_core", (threads,), 0, 1, choices=off_on))
    elif state is not None:
        none = state in ("notsupported", "notimplemented")
        found.append(LeftOut("threads_per_core", threads, Why.HAS_NONE if none else Why.SWITCHED_OFF, state))
    if number(cpu / "intel_pstate/max_perf_pct") is not None:
        found.append(Interface("most_performance", (cpu / "intel_pstate/max_perf_pct",), 10, 100))
    return found


def _online(sys_: Path) -> list[Interface | LeftOut]:
    cpu = sys_ / "devices/system/cpu"
    cpus = sorted(cpu.glob("cpu[0-9]*"), key=lambda path: int(path.name[3:]))
    movable = there(each / "online" for each in cpus)
    fixed = len(cpus) - len(movable)
    if not movable or len(cpus) < 2:
        return []
    if fixed == 0:
        fixed, movable = 1, movable[1:]
    threads = cpu / "smt/control"
    if read(threads) in ("off", "forceoff"):
        movable = tuple(file for file in movable if read(file) == "1")
        if not movable:
            return [LeftOut("processors_on_line", cpus[-1] / "online", Why.SWITCHED_OFF, read(threads) or "")]
    seconds = frozenset(file for file in movable if _is_second(file.parent))
    return [Online("processors_on_line", movable, fixed, threads, seconds)]


def _is_second(cpu: Path) -> bool:
    """Tell whether a processor is the second thread of a core: not the first that its core lists."""
    siblings = cpus_in(read(cpu / "topology/thread_siblings_list") or "")
    return bool(siblings) and int(cpu.name[3:]) != min(siblings)


def _power_limits(sys_: Path) -> list[Interface | LeftOut]:
    zones = [z for z in sorted((sys_ / "class/powercap").glob("*:*")) if (read(z / "name") or "").startswith("package")]
    found: list[Interface | LeftOut] = []
    ways: dict[bool, list[Path]] = {}
    for zone in zones:
        ways.setdefault("mmio" in zone.name, []).append(zone)
    for mapped, those in ways.items():
        tail = "_mapped" if mapped and len(ways) > 1 else ""
        for name, wanted in (("long", "long_term"), ("short", "short_term"), ("peak", "peak_power")):
            stems = [_constraint(zone, wanted) for zone in those]
            limits = [(z, f"{s}_power_limit_uw") for z, s in zip(those, stems, strict=True) if s is not None]
            files = tuple(z / file for z, file in limits if number(z / file) is not None)
            if not files:
                continue
            most = [_most_w(z, file) for z, file in limits]
            found.append(Interface(f"power_limit_{name}{tail}", files, POWER_AT_LEAST_W, min(most), 1e6))
            windows = there(z / f"{s}_time_window_us" for z, s in zip(those, stems, strict=True) if s is not None)
            if windows and (window := _window(f"power_window_{name}{tail}", windows)) is not None:
                found.append(window)
    return found


def _constraint(zone: Path, wanted: str) -> str | None:
    names = (name for name in sorted(zone.glob("constraint_*_name")) if read(name) == wanted)
    return next((name.name.removesuffix("_name") for name in names), None)


def _most_w(zone: Path, limit: str) -> float:
    """Give up to where a limit may be set: the hardware's maximum, else the highest limit, as far as those are any."""
    if (number(zone / limit) or 0.0) / 1e6 >= NO_LIMIT_W:
        return HIGHEST_UNTOLD_W
    maximum = zone / limit.replace("_power_limit_uw", "_max_power_uw")
    others = () if number(maximum) else (*zone.glob("constraint_*_max_power_uw"), *zone.glob("constraint_*_limit_uw"))
    told = ((number(file) or 0.0) / 1e6 for file in (zone / limit, maximum, *others))
    return max((watts for watts in told if 0.0 < watts < NO_LIMIT_W), default=HIGHEST_UNTOLD_W)


def _window(knob: str, files: tuple[Path, ...]) -> Interface | None:
    now = number(files[0])
    if not now or now <= 0.0:
        return None
    micro = [round(now * 2.0**power) for power in WINDOWS]
    micro = [each for each in micro if SHORTEST_WINDOW_S <= each / 1e6 <= LONGEST_WINDOW_S]
    if round(now) not in micro:
        return None
    words = tuple(str(each) for each in micro)
    choices = tuple(f"{each / 1e6:.3g} s" for each in micro)
    return Interface(knob, files, 0, len(words) - 1, choices=choices, words=words)


def _modes(sys_: Path) -> list[Interface | LeftOut]:
    file = sys_ / "firmware/acpi/platform_profile"
    choices = tuple((read(sys_ / "firmware/acpi/platform_profile_choices") or "").split())
    return [_choice("power_mode", (file,), choices)] if read(file) is not None else []


def _fans(sys_: Path) -> list[Interface | LeftOut]:
    found: list[Interface | LeftOut] = []
    names: dict[str, int] = {}
    for chip in sorted((sys_ / "class/hwmon").glob("hwmon*"), key=_seat):
        name = slug(read(chip / "name") or chip.name)
        names[name] = names.get(name, 0) + 1
        of_same = f"_{names[name]}" if names[name] > 1 else ""
        for level in sorted(chip.glob("pwm[0-9]")):
            enable, knob = chip / f"{level.name}_enable", f"fan_{name}{of_same}_{level.name[3:]}"
            if number(level) is None:
                continue
            if read(enable) is None:
                found.append(LeftOut(knob, level, Why.NOT_PUT_BACK, read(level) or ""))
            else:
                found.append(Fan(knob, level, enable))
    return found


def _seat(chip: Path) -> tuple[str, int, str]:
    """Order chips by what they sit on: their numbers change over restarts, and with them which is the second of a name."""
    device = chip / "device"
    return os.path.realpath(device) if device.exists() else "", len(chip.name), chip.name


def _large_pages(sys_: Path) -> Iterable[Interface | LeftOut]:
    file = sys_ / "kernel/mm/transparent_hugepage/enabled"
    choices = ("never", "madvise", "always")
    text = read(file) or ""
    return [Interface("large_pages", (file,), 0, 2, choices=choices)] if bracketed(text) in choices else []
