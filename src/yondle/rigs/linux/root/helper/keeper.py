"""Keeps profiles in force: at boot, after sleep, when the power source changes; counts what they live through.

Safe by order: a mark is on the disk before the first value is set, and goes when the machine was shut down in good order or has
borne the settings for SETTLED_S. A mark of another boot means that the machine went down: then nothing is set any more until
somebody says so (`stopped.json`). What goes wrong at any point ends at stock.
"""

from __future__ import annotations

import contextlib
import fcntl
import os
import re
import signal
import sys
import time
from collections.abc import Callable, Iterator
from datetime import datetime
from pathlib import Path

from .found import find
from .interfaces import Interface, number, read
from .kept import (
    INCIDENTS,
    KEPT,
    LIVED,
    MARK,
    STATE,
    STOPPED,
    TESTED,
    Refused,
    add_line,
    believed,
    ceilings,
    checked,
    durable,
    forget,
    incidents,
    load,
    names_boot,
    own_lock,
    wall,
)
from .looks import follow_log, lines_of

WAKE_S = 10.0
"""No wake-up is sooner after the last."""
SETTLED_S = 600.0
"""Time awake without a fault after which what was set counts as borne."""
MISSING_S = 120.0
"""How long after the start a knob may still come: drivers load late."""
WRITES_S = 600.0
"""The hours lived through are on the disk this often; no more than that is lost."""
SECOND_WITHIN_S = 7 * 86400.0
"""A machine that went down twice within this is put to stock, though it had borne the settings before."""
LOADED = 0.5
"""A machine is under load while its processors are busy for this share of the time."""
COUNTED = ("awake_s", "load_s", "errors", "throttled")
SET_IN = Path("run/yondle-helper/kept")
"""Names the boot in which something is set: a service that is started again after it was killed can't tell stock any more."""
WORD = "yondle.keep=0"
FAULT = re.compile(
    r"Hardware Error.*(uncorrected|fatal|panic)|Machine check: Processor context corrupt|EDAC MC\d+: \d+ UE"
    r"|critical temperature reached|thermal shutdown|GPU reset|GPU HANG|gt reset|timedout job|\bXid \(PCI",
    re.IGNORECASE,
)
"""What the kernel logs of an error that wasn't corrected, of a thermal trip, and of a card that was reset."""


class Keeper:
    """Holds one machine at what is kept for its present power source, from one wake to the next."""

    def __init__(
        self,
        root: Path,
        owner: int = 0,
        clock: Callable[[int], float] = time.clock_gettime,
        log: Callable[[str], None] = lambda words: print(words, flush=True),
    ) -> None:
        self._root, self._owner, self._clock, self._log = root, owner, clock, log
        self._state = root / STATE
        self._boot = read(root / "proc/sys/kernel/random/boot_id") or ""
        self._interfaces: dict[str, Interface] = {}
        self._wanted: dict[str, float] = {}
        self._touched: list[str] = []
        self._source = ""
        self._lived: dict[str, object] = {}
        self._began = self._awake = self._clock(time.CLOCK_MONOTONIC)
        self._slept = self._clock(time.CLOCK_BOOTTIME) - self._awake
        self._set_at = self._written = self._awake
        self._stat, self._counts = self._busy(), (0.0, 0.0)
        devices = root / "sys/devices/system"
        self._corrected = sorted(devices.glob("edac/mc/mc*/ce_count"))
        self._throttles = sorted(devices.glob("cpu/cpu*/thermal_throttle/core_throttle_count"))
        self._kernel: int | None = None
        with contextlib.suppress(OSError):
            self._kernel = follow_log(root)
        self._marked = self._yielded = False

    def begin(self) -> bool:
        """Look at how the last boot ended; tells whether anything is to be kept in this one."""
        if WORD in (read(self._root / "proc/cmdline") or "").split():
            self._log(f"nothing is set: {WORD} stands on the kernel's command line")
            return False
        try:
            if names_boot(self._root / SET_IN, self._owner, self._boot):
                self._log("nothing is set: the service was killed in this boot, and what it had set is in force still")
                return False
            noted, mark = self._ended_before(), believed(self._state / MARK, self._owner)
            if mark is not None:
                if not self._tested(mark):
                    self._stop("the machine went down before it had borne the settings", mark, noted)
                forget(self._state / MARK)
            forget(self._state / TESTED)
            stopped = believed(self._state / STOPPED, self._owner)
            if stopped is None:
                try:
                    return bool(load(self._root, self._owner))
                except Refused as why:
                    self._stop(str(why), {})
            else:
                self._log(f"nothing is set: {stopped.get('why')}")
        except (Refused, OSError) as why:
            self._log(f"nothing is set: {why}")
        return False

    def wake(self) -> bool:
        """Look around once: sets what is to be in force now, counts, and tells whether to go on."""
        now = self._clock(time.CLOCK_MONOTONIC)
        slept = self._clock(time.CLOCK_BOOTTIME) - now
        woke, self._slept = slept - self._slept > 1.0, slept
        passed, self._awake = now - self._awake, now
        with self._alone() as alone:
            faults, busy, counts = self._faults(), self._busy(), self._counters()
            if alone and self._lived and not self._yielded:
                self._count(passed, busy, counts)
            self._stat, self._counts = busy, counts
            if not alone:
                self._yielded = True
                return True
            if faults and self._touched and not self._yielded:
                self._put_back()
                with contextlib.suppress(OSError):
                    self._stop(faults[0], self._lived)
                self._end(1, faults[0])
                return False
            with contextlib.suppress(OSError):
                forget(self._state / TESTED)
            source = self._power_source()
            if source != self._source or woke or (self._yielded and not self._in_force()):
                self._change(source, now)
            self._yielded = False
        if self._marked and now - self._set_at >= SETTLED_S:
            forget(self._state / MARK)
            self._marked = False
        if self._lived and now - self._written >= WRITES_S:
            with contextlib.suppress(OSError):
                self._write()
        return True

    def end(self) -> None:
        """Put everything back and close the count: the machine shuts down in good order, or the service is stopped."""
        self._put_back()
        self._end(0, "")

    def _change(self, source: str, now: float) -> None:
        """Put in force what is kept for a power source; where that can't be, stock and a word."""
        if self._source and self._source != source:
            self._put_back()
            self._end(0, "")
        if not self._touched:
            self._interfaces = find(self._root, self._owner)
        try:
            kept = load(self._root, self._owner).get(source)
            values = kept["values"] if kept is not None else {}
            limits = ceilings(self._root, self._owner)
            assert isinstance(values, dict)
            missing = sorted(set(values) - set(self._interfaces))
            if missing and now - self._began < MISSING_S:
                return
            if missing:
                raise Refused(f"{', '.join(missing)}: there is no such knob any more")
            wanted = {knob: checked(self._interfaces[knob], value, limits) for knob, value in values.items()}
            self._wanted = wanted
            if wanted:
                self._marked = True
                durable(self._state / MARK, {"boot": self._boot, "at": wall(), "source": source, **(kept or {})})
            self._set_at = now
            if wanted and not self._touched:
                durable(self._root / SET_IN, {"boot": self._boot})
            for knob, value in wanted.items():
                self._touched.append(knob)
                self._interfaces[knob].set(value)
            off = [knob for knob, value in wanted.items() if not _close(self._interfaces[knob], value)]
            if off:
                raise Refused(f"{', '.join(off)}: reads back otherwise than it was set")
        except (Refused, OSError, ValueError) as why:
            words = f"it was refused: {why.strerror}" if isinstance(why, OSError) else str(why)
            self._put_back()
            with contextlib.suppress(OSError):
                self._note(words, {"source": source})
            self._end(0, words)
            self._log(f"stock: {words}")
            self._source = source
            return
        self._source = source
        if wanted and kept is not None and not self._lived:
            told: dict[str, object] = {key: kept[key] for key in ("name", "logbook", "step")}
            self._lived = {
                "boot": self._boot,
                "from": wall(),
                "source": source,
                "failures": 0,
                "why": "",
                "open": True,
            }
            number_ = len(list((self._state / LIVED).glob(f"{self._boot}-*.json"))) + 1
            self._lived |= {**told, **dict.fromkeys(COUNTED, 0.0), "number": number_}
            self._write()
        self._log(f"'{kept['name']}' is in force on {source}" if wanted and kept else f"stock on {source}")

    def _put_back(self) -> None:
        """Put back what was found, the last set first; the way back to this boot's stock is known no longer after that."""
        for knob in reversed(self._touched):
            try:
                self._interfaces[knob].put_back()
            except OSError as error:
                self._log(f"{knob} could not be put back: {error.strerror}")
        self._touched = []
        with contextlib.suppress(OSError):
            os.unlink(self._root / SET_IN)

    def _in_force(self) -> bool:
        """Tell whether what was set still reads back; a Yondle that was at work puts back what it found."""
        return all(_close(self._interfaces[knob], value) for knob, value in self._wanted.items())

    def _ended_before(self) -> bool:
        """Close what an earlier boot left open: a restart that nobody ordered is a failure of what was in force.

        Tells whether there was one. The second since somebody last said what is to be kept, within a week, ends at stock.
        """
        noted = False
        for file in sorted((self._state / LIVED).glob("*.json")):
            told = believed(file, self._owner)
            if told is None or not told.get("open"):
                continue
            if self._tested(told):
                durable(file, {**told, "open": False, "why": "a test of Yondle's was under way"})
                continue
            others = (
                each
                for each in incidents(self._root)[self._seen() :]
                if each.get("boot") not in (None, told.get("boot"))
            )
            before = [at for each in others if (at := _at_of(each)) is not None]
            why, noted = "the machine went down, or lost its power", True
            self._note(why, told)
            if any(time.time() - at < SECOND_WITHIN_S for at in before):
                self._stop("the machine went down twice within a week", told, noted=True)
            durable(file, {**told, "open": False, "failures": 1, "why": why})
        return noted

    def _tested(self, about: dict[str, object]) -> bool:
        """Tell whether a Yondle was at work when a boot ended: what it tested is what fell, and stands in its logbook."""
        return names_boot(self._state / TESTED, self._owner, about.get("boot"))

    def _seen(self) -> int:
        """Give how many incidents there had been when somebody last said what is to be kept."""
        told = believed(self._state / KEPT, self._owner) or {}
        seen = told.get("seen")
        return seen if type(seen) is int else 0

    def _stop(self, why: str, about: dict[str, object], noted: bool = False) -> None:
        if not noted:
            self._note(why, about)
        told: dict[str, object] = {"why": why, "boot": self._boot, "at": wall()}
        told |= {key: about[key] for key in ("name", "logbook", "step", "source") if key in about}
        durable(self._state / STOPPED, told)
        self._log(f"stock from now on: {why}")

    def _note(self, why: str, about: dict[str, object]) -> None:
        """Write down an incident; of a boot that went down there is one, however often it is looked at."""
        boot = about.get("boot", self._boot)
        if boot != self._boot and any(each.get("boot") == boot for each in incidents(self._root)):
            return
        kept: dict[str, object] = {
            key: about[key] for key in ("name", "logbook", "step", "source", "boot") if key in about
        }
        add_line(self._state / INCIDENTS, {"at": wall(), "why": why, **kept, "seen": self._boot})

    def _end(self, failures: int, why: str) -> None:
        """Close the count, and with it the mark."""
        if self._lived:
            self._lived |= {"open": False, "failures": failures, "why": why}
            with contextlib.suppress(OSError):
                self._write()
        self._lived, self._marked = {}, False
        with contextlib.suppress(OSError):
            forget(self._state / MARK)

    def _write(self) -> None:
        self._written = self._awake
        durable(self._state / LIVED / f"{self._boot}-{self._lived['number']}.json", self._lived)

    def _count(self, passed: float, busy: tuple[float, float], counts: tuple[float, float]) -> None:
        """Add what has passed since the last look: hours awake and under load, errors corrected, throttling."""
        worked, all_of_it = (after - before for before, after in zip(self._stat, busy, strict=True))
        loaded = all_of_it > 0.0 and worked / all_of_it >= LOADED
        more = [max(after - before, 0.0) for before, after in zip(self._counts, counts, strict=True)]
        for key, value in zip(COUNTED, (passed, passed * loaded, *more), strict=True):
            self._lived[key] = round(float(str(self._lived[key])) + value, 1)

    def _busy(self) -> tuple[float, float]:
        """Give the jiffies in which processors worked, and all of them."""
        first = (read(self._root / "proc/stat") or "").partition("\n")[0].split()[1:9]
        ticks = [float(each) for each in first]
        return sum(ticks) - sum(ticks[3:5]), sum(ticks)

    def _counters(self) -> tuple[float, float]:
        """Give the memory errors corrected and the times throttled since the boot."""
        errors, throttles = (sum(number(file) or 0.0 for file in each) for each in (self._corrected, self._throttles))
        return errors, throttles

    def _power_source(self) -> str:
        supplies = list((self._root / "sys/class/power_supply").glob("*"))
        mains = [read(each / "online") for each in supplies if read(each / "type") in ("Mains", "USB")]
        battery = any(read(each / "type") == "Battery" and read(each / "scope") != "Device" for each in supplies)
        return "battery" if battery and mains and "1" not in mains else "mains"

    def _faults(self) -> list[str]:
        """Give what the kernel has logged of faults since the last look."""
        logged = lines_of(self._kernel) if self._kernel is not None else ()
        return [(line.partition(";")[2] or line)[:160] for line in logged if FAULT.search(line) and line[:1] != " "]

    @contextlib.contextmanager
    def _alone(self) -> Iterator[bool]:
        """Hold the helper's lock, so that a Yondle that tests has the machine for itself; gives whether it was free."""
        try:
            lock = own_lock(self._root)
        except OSError:
            yield False
            return
        with open(lock, "w", encoding="ascii") as held:
            try:
                fcntl.flock(held, fcntl.LOCK_EX | fcntl.LOCK_NB)
            except OSError:
                yield False
                return
            yield True


def _close(interface: Interface, value: object) -> bool:
    now = interface.value()
    return now is not None and abs(now - float(str(value))) <= 1.0 / max(interface.scale, 1.0) + 1e-6 * abs(now)


def _at_of(told: dict[str, object]) -> float | None:
    try:
        return datetime.fromisoformat(str(told.get("at", told.get("from")))).timestamp()
    except ValueError:
        return None


def ended(root: Path, owner: int = 0) -> None:
    """Close what a service that was killed left open; it says nothing of the settings. Run by systemd after every end."""
    boot = read(root / "proc/sys/kernel/random/boot_id") or ""
    for file in sorted((root / STATE / LIVED).glob(f"{boot}-*.json")):
        told = believed(file, owner)
        if told is not None and told.get("open"):
            durable(file, {**told, "open": False, "why": "the service was killed"})
            forget(root / STATE / MARK)


def live(root: Path) -> None:
    """Run the service until it is told to end."""
    keeper = Keeper(root)
    if not keeper.begin():
        return
    signal.pthread_sigmask(signal.SIG_BLOCK, (signal.SIGTERM, signal.SIGINT, signal.SIGHUP))
    try:
        while keeper.wake():
            if signal.sigtimedwait((signal.SIGTERM, signal.SIGINT, signal.SIGHUP), WAKE_S) is not None:
                break
    finally:
        keeper.end()
    sys.exit(0)
