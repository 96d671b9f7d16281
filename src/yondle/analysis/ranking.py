"""Ranks of several settings in one benchmark, as far as their passes tell them apart."""

from __future__ import annotations

from collections.abc import Hashable, Sequence
from dataclasses import dataclass
from itertools import combinations

from yondle.analysis.levels import Levels
from yondle.analysis.margins import GainWord


@dataclass(frozen=True, slots=True)
class Rank:
    """The places one of several may hold: from `first`, behind all that are surely better, to `last`. 1 is the best."""

    first: int
    last: int


def ranks(settings: Sequence[Hashable | None], levels: Levels) -> list[Rank | None]:
    """Rank settings by their levels; None for one that isn't there.

    One is ahead of another where the range of their difference excludes 0, all pairs holding together with 95 % confidence
    (Bonferroni). With a single pass on a side nothing is sure, and the places stay open.
    """
    there = [i for i, setting in enumerate(settings) if setting is not None]
    pairs = len(there) * (len(there) - 1) // 2
    behind = dict.fromkeys(there, 0)
    ahead = dict.fromkeys(there, 0)
    for i, j in combinations(there, 2):
        told = levels.gain(settings[i], settings[j], pairs)
        if told is None or told.word not in (GainWord.GAIN, GainWord.LOSS):
            continue
        better, worse = (i, j) if told.word is GainWord.GAIN else (j, i)
        ahead[better] += 1
        behind[worse] += 1
    return [Rank(1 + behind[i], len(there) - ahead[i]) if i in ahead else None for i in range(len(settings))]
