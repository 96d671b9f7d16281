"""Use of the processors: in all, of each, and by others than Yondle and its benchmark.

The kernel counts in ticks of 10 ms, so that shares are told over a second: over less, rounding would look like work.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

from yondle.model.sensors import Reading
from yondle.rigs.linux.proc import CpuTimes, Proc

WINDOW_S = 1.0
LEAST_S = 0.25


@dataclass(frozen=True, slots=True)
class _Look:
    """What was counted by one moment: times by processor, and the time Yondle and its benchmarks have used so far."""

    times: dict[str, CpuTimes]
    own_s: float


class UseMeter:
    """Use of the processors over the second before the latest look."""

    def __init__(self, proc: Proc, own_pids: Callable[[], list[int]]) -> None:
        self._proc = proc
        self._own_pids = own_pids
        self._by_pid: dict[int, float] = {}
        self._own_s = 0.0
        self._looks: deque[_Look] = deque()
        self.look()

    def look(self) -> None:
        """Take the times."""
        by_pid = self._proc.process_times(self._own_pids())
        self._own_s += sum(max(0.0, seconds - self._by_pid.get(pid, 0.0)) for pid, seconds in by_pid.items())
        self._by_pid = by_pid
        self._looks.append(_Look(self._proc.cpu_times(), self._own_s))
        while len(self._looks) > 2 and self._span(self._looks[1]) >= WINDOW_S:
            self._looks.popleft()

    def begin(self) -> None:
        """Forget what was before: a pass begins."""
        self._looks.clear()
        self.look()

    def whole(self) -> Reading:
        """Use of all processors in %."""
        return self._share("cpu", 0.0)

    def others(self) -> Reading:
        """Use by other programs in %."""
        return self._share("cpu", self._looks[-1].own_s - self._looks[0].own_s)

    def stolen(self) -> Reading:
        """What the host of a virtual machine took, in %; part of what others used."""
        before, now = self._looks[0].times.get("cpu"), self._looks[-1].times.get("cpu")
        if before is None or now is None or self._span(self._looks[0]) < LEAST_S:
            return None
        return round(100.0 * (now.stolen_s - before.stolen_s) / max(1e-9, now.whole_s - before.whole_s), 2)

    def of(self, name: str) -> Callable[[], Reading]:
        """Give the reading of one processor's use in %."""
        return lambda: self._share(name, 0.0)

    def _share(self, name: str, less_s: float) -> Reading:
        before, now = self._looks[0].times.get(name), self._looks[-1].times.get(name)
        if before is None or now is None or self._span(self._looks[0]) < LEAST_S:
            return None
        whole = now.whole_s - before.whole_s
        if whole <= 0:
            return None
        return round(min(100.0, max(0.0, 100.0 * (now.busy_s - before.busy_s - less_s) / whole)), 2)

    def _span(self, since: _Look) -> float:
        """Seconds from a look to the latest; the time of all processors is shared out among those there are."""
        before, now = since.times, self._looks[-1].times
        if "cpu" not in before or "cpu" not in now:
            return 0.0
        return (now["cpu"].whole_s - before["cpu"].whole_s) / max(1, len(now) - 1)
