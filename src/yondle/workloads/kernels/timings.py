"""Keeps the time and the amount of each part of a workload, for its sub-scores."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from time import perf_counter


class Timings:
    """Seconds spent and amount done by part, of one worker; and single durations where their spread is the figure."""

    def __init__(self) -> None:
        self.samples_s: list[float] = []
        self.spent_s: dict[str, float] = {}
        self.done: dict[str, float] = {}

    @contextmanager
    def timing(self, part: str, amount: float) -> Iterator[None]:
        """Time what is done inside as an amount of a part."""
        began = perf_counter()
        yield
        self.add(part, perf_counter() - began, amount)

    def add(self, part: str, seconds: float, amount: float) -> None:
        """Count an amount of a part, and what it took."""
        self.spent_s[part] = self.spent_s.get(part, 0.0) + seconds
        self.done[part] = self.done.get(part, 0.0) + amount

    def forget(self) -> None:
        """Start afresh, once all is warmed up."""
        self.spent_s.clear()
        self.done.clear()
        self.samples_s.clear()

    @property
    def whole_s(self) -> float:
        """Seconds spent in all parts."""
        return sum(self.spent_s.values())


def rates(all_timings: Sequence[Timings]) -> dict[str, float]:
    """Amount per second by part, of all workers together."""
    found: dict[str, float] = {}
    for timings in all_timings:
        for part, spent in timings.spent_s.items():
            found[part] = found.get(part, 0.0) + timings.done[part] / spent
    return found


def costs(all_timings: Sequence[Timings]) -> dict[str, float]:
    """Seconds per amount by part, the mean of the workers."""
    found: dict[str, list[float]] = {}
    for timings in all_timings:
        for part, spent in timings.spent_s.items():
            found.setdefault(part, []).append(spent / timings.done[part])
    return {part: sum(each) / len(each) for part, each in found.items()}
