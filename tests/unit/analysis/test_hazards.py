"""Two hazards of one load: what their sum says, what is believed before anything was corrected, and what a machine can count."""

from __future__ import annotations

import math
from collections.abc import Iterable

import numpy as np
import pytest

from yondle.analysis.hazards import Hazards, Pairs
from yondle.analysis.hold import Posterior
from yondle.analysis.runs import Run
from yondle.planning.edge_search import Aim, Chooser, Prices

NOTCHES, WIDTHS, DAILY = 60, np.geomspace(0.12, 2.4, 10), 1.0 / 8.0
HOUR_S = 3600.0


def taught(runs: Iterable[tuple[float, float, int, int]], counts: bool = True) -> Hazards:
    """Hazards taught by runs as notch, seconds, failures that ended them, and errors corrected."""
    hazards = Hazards(NOTCHES, WIDTHS, counts)
    for notch, seconds, fatal, corrected in runs:
        hazards.take(notch, Run("", notch, seconds, fatal + corrected, bool(fatal), 1.0, corrected))
    return hazards


CHOOSER = Chooser(Aim(DAILY, 0.05), Prices(50.0, 50.0, 1000.0), 0, NOTCHES)


def recommended(hazards: Hazards) -> int:
    return CHOOSER.recommended([hazards.view()])


def chances(hazards: Hazards) -> list[float]:
    return CHOOSER.chances_right([hazards.view()])


def test_a_slow_slope_of_corrected_errors_before_a_steep_edge_is_not_taken_for_one_edge() -> None:
    """Crashes begin at notch 40 within a quarter of a notch; one error an hour at 37.6, fewer by e every 1.6 notches below."""
    true = 37.6 + 1.6 * math.log(DAILY)
    runs = [
        (36, 1800.0, 0, 0),
        (38, 1800.0, 0, 1),
        (39, 30.0, 0, 0),
        (41, 1.0, 1, 0),
        (42, 0.5, 1, 0),
        (40, 12.0, 1, 0),
    ]
    one = taught(((n, s, f + c, 0) for n, s, f, c in runs), counts=False)
    assert recommended(taught(runs)) <= true < recommended(one), "one law takes the steep edge for the slope of all"
    low, high = taught(runs).view().edge_range()
    assert low <= 37.6 <= high


def test_the_sum_of_both_decides_and_each_pair_reaches_a_rate_where_its_own_sum_does() -> None:
    view = taught([(30, HOUR_S, 0, 1), (32, HOUR_S, 0, 4), (33, 60.0, 1, 0), (28, HOUR_S, 0, 0)]).view()
    assert isinstance(view, Pairs)
    highest = view.arranged(DAILY)
    for notch in range(20, 34):
        down, corrected = view._rates(notch)
        meets = (down + corrected + view._floor <= DAILY) & (notch <= view._dead)
        assert (meets == (highest >= notch)).mean() > 0.995
    assert view.answers(DAILY).sum() == pytest.approx(1.0)
    clean, up = view.survivals(32.0, np.array([600.0]))
    assert (clean <= up + 1e-6).all()
    assert clean[0] @ view.weights < up[0] @ view.weights - 0.1, "errors are corrected far more often than it goes down"


def test_what_never_corrected_is_believed_less_and_less_to_correct_and_without_counters_there_is_one_hazard() -> None:
    clean: list[tuple[float, float, int, int]] = [(30, HOUR_S, 0, 0), (34, 60.0, 1, 0), (36, 2.0, 1, 0)]
    assert isinstance(taught(clean, counts=False).view(), Posterior)
    answers = [recommended(taught([*clean, *[(32, HOUR_S, 0, 0)] * n])) for n in (0, 1, 4)]
    without = [recommended(taught([*clean, *[(32, HOUR_S, 0, 0)] * n], counts=False)) for n in (0, 1, 4)]
    assert all(a <= b for a, b in zip(answers, without, strict=True))
    trust = [chances(taught([*clean, *[(32, HOUR_S, 0, 0)] * n]))[31] for n in (0, 1, 4)]
    assert trust == sorted(trust)
    assert trust[0] < chances(taught(clean, counts=False))[31] - 0.02, "errors looked for an hour may yet come"
    seen = taught([*clean, (28, HOUR_S, 0, 3)], counts=False)
    assert isinstance(seen.view(), Pairs), "what was counted once can be counted"


def test_a_search_prices_only_what_takes_the_load_down() -> None:
    """Where errors come at 20 notches below the edge a long test there costs its time alone."""
    runs: list[tuple[float, float, int, int]] = [(30, 600.0, 0, 6), (28, 600.0, 0, 2), (50, HOUR_S, 0, 20)]
    told = taught(runs)
    dear, cheap = (Chooser(Aim(DAILY), Prices(50.0, 50.0, price), 0, NOTCHES) for price in (1e6, 1.0))
    tests = [chooser.next_test([told.view()], 1e-9) for chooser in (dear, cheap)]
    assert tests[0] is not None
    assert tests[1] is not None
    assert tests[0].gain_per_hour == pytest.approx(tests[1].gain_per_hour, rel=0.25)
