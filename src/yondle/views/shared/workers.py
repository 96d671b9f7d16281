"""What happened inside one pass: how far its workers, its memory nodes and its seconds were apart."""

from __future__ import annotations

from yondle.language.saying import capital, named, say
from yondle.model.quantities import THIN, number
from yondle.model.rigs import RigDeclaration
from yondle.model.steps import PassRecord

NODE = "node"
_DIGITS = 2


def worker_lines(declaration: RigDeclaration, made: PassRecord | None) -> list[str]:
    """Write a pass's figure, its sub-scores, each worker against the mean, memory nodes, and its slowest second."""
    if made is None or made.result is None:
        return []
    result = made.result
    metric = declaration.workload(made.workload).metric
    lines = []
    if result.score is not None:
        lines.append(f"{capital(metric.name)}: {number(result.score, metric.digits)}{THIN}{metric.unit}")
    if made.disturbed:
        lines.append(say("Disturbed, left out of figures: {disturbed}", disturbed=made.disturbed))
    lines += [f"{named(name)}: {_told(value)}" for name, value in result.measured.parts.items()]
    rates = result.measured.per_worker
    if len(rates) > 1 and sum(rates) > 0.0:
        mean = sum(rates) / len(rates)
        lines += [say("Worker {i}: {against}", i=i, against=_against(rate, mean)) for i, rate in enumerate(rates)]
    lines += [
        f"{capital(named(name))}: {_told(v)}" for name, v in result.measured.told.items() if name.startswith(NODE)
    ]
    seconds = result.measured.per_second
    if len(seconds) > 1 and sum(seconds) > 0.0:
        slowest = min(range(len(seconds)), key=seconds.__getitem__)
        mean = sum(seconds) / len(seconds)
        lines.append(
            say(
                "Slowest second: the {slowest}., {against}",
                slowest=slowest + 1,
                against=_against(seconds[slowest], mean),
            )
        )
    return lines


def _told(value: str | float) -> str:
    return number(value, _DIGITS) if isinstance(value, float | int) else str(value)


def _against(value: float, mean: float) -> str:
    share = 100.0 * (value / mean - 1.0)
    return say("{sign}{share}\u202f% against the mean", sign="+" if share > 0.0 else "", share=number(share, 1))
