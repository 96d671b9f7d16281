"""Frame pacing: what an average hides. Figures of a series of frame times."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from yondle.language.saying import later, say

LOW = later("1 % low")
LATE = 1.5
"""A frame that takes this many times the median is a late one."""


@dataclass(frozen=True, slots=True)
class Pacing:
    """Rates in frames/s; `low_1` and `low_01` are the mean rate of the slowest 1 % and 0.1 % of frames, at least one.

    `late` is the share of frames that took more than LATE times the median.
    """

    mean: float
    low_1: float
    low_01: float
    late: float

    def parts(self) -> dict[str, float]:
        """Give the sub-scores under the names they are shown by; late frames in %."""
        return {LOW: self.low_1, later("0.1 % low"): self.low_01, later("late frames"): 100.0 * self.late}


def pacing(times: Sequence[float], per_second: float = 1000.0) -> Pacing:
    """Work out the pacing of frame times, of which there are `per_second` units in a second; raises ValueError for none."""
    if not times:
        raise ValueError(say("there are no frames"))
    slowest_first = sorted(times, reverse=True)
    count = len(slowest_first)
    median = (slowest_first[(count - 1) // 2] + slowest_first[count // 2]) / 2

    def low(share: float) -> float:
        slowest = slowest_first[: max(1, round(count * share))]
        return per_second * len(slowest) / sum(slowest)

    late = sum(1 for t in slowest_first if t > LATE * median)
    return Pacing(per_second * count / sum(slowest_first), low(0.01), low(0.001), late / count)
