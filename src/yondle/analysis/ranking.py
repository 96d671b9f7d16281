"""Ranks of several settings in one benchmark, as far as their passes tell them apart."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from itertools import combinations

from yondle.analysis.margins import GainWord, gain
from yondle.model.workloads import Direction


@dataclass(frozen=True, slots=True)
class Rank:
    """The places one of several may hold: from `first`, behind all that are surely better, to `last`. 1 is the best."""

    first: int
    last: int


def ranks(sides: Sequence[Sequence[float]], direction: Direction) -> list[Rank | None]:
    """Rank settings by their passes; None for one without passes.

    One is ahead of another where Welch's interval of their ratio excludes 1, all pairs holding together with 95 %
    confidence (Bonferroni). With a single pass on a side nothing is sure, and the places stay open.
    """
    there = [i for i, scores in enumerate(sides) if scores]
    pairs = len(there) * (len(there) - 1) // 2
    behind = dict.fromkeys(there, 0)
    ahead = dict.fromkeys(there, 0)
    for i, j in combinations(there, 2):
        told = gain(list(sides[i]), list(sides[j]), direction, pairs)
        if told is None or told.word not in (GainWord.GAIN, GainWord.LOSS):
            continue
        better, worse = (i, j) if told.word is GainWord.GAIN else (j, i)
        ahead[better] += 1
        behind[worse] += 1
    return [Rank(1 + behind[i], len(there) - ahead[i]) if i in ahead else None for i in range(len(sides))]
