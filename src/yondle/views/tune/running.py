"""What the passes of a test under way say already: less than a verdict, since there is no margin yet."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from statistics import fmean

from yondle.language.saying import say
from yondle.model.quantities import count, signed_percent
from yondle.model.workloads import Direction, Workload
from yondle.views.shared.snapshot import Snapshot


def so_far(book: Snapshot, benchmark: Workload, scores: Mapping[str, Sequence[float]]) -> str:
    """Say how a benchmark's passes compare with the baseline so far; empty without either."""
    made = scores.get(benchmark.id, ())
    base = book.baseline_step.scores(benchmark.id) if book.baseline_step is not None else []
    if not made or not base:
        return ""
    ratio = fmean(made) / fmean(base)
    gain = (1.0 / ratio if benchmark.metric.direction is Direction.LOWER else ratio) - 1.0
    passes = count(len(made), "pass", "passes")
    return say(
        "{benchmark} so far {gain}, {passes}", benchmark=benchmark.name, gain=signed_percent(gain), passes=passes
    )
