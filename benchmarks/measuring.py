"""How figures are taken: the best of several goes where a limit is sought, the median where the usual is."""

from __future__ import annotations

import os
import statistics
import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass(frozen=True)
class Line:
    """One line of the table."""

    what: str
    figure: str
    against: str
    ratio: str
    aim: str = ""


def usual_environment() -> dict[str, str]:
    """Give the environment for a process whose start is timed: it keeps compiled modules, as an installed program does."""
    return {name: value for name, value in os.environ.items() if name != "PYTHONDONTWRITEBYTECODE"}


def seconds_of(work: Callable[[], object], goes: int) -> list[float]:
    """Time a piece of work several times."""
    times = []
    for _ in range(goes):
        began = time.perf_counter()
        work()
        times.append(time.perf_counter() - began)
    return times


def ms(seconds: float) -> str:
    return f"{1000 * seconds:.2f} ms" if seconds < 0.1 else f"{1000 * seconds:.0f} ms"


def median_ms(times: list[float]) -> str:
    return f"{ms(statistics.median(times))} (worst {ms(max(times))})"
