"""What edges found at some values of a second knob say about the edge at another."""

from __future__ import annotations

import math

import numpy as np
import pytest

from yondle.analysis.edges import alike, expected, told_by_others
from yondle.analysis.hazards import BelievedHazards, Hazards
from yondle.analysis.hold import Believed, Posterior
from yondle.analysis.runs import Run

NOTCHES = 60
WIDTHS = np.geomspace(0.12, 2.4, 10)


def before() -> Believed:
    return Posterior(NOTCHES, WIDTHS).middle()


def known(edge: float, spread: float = 0.5, width: float = 0.5) -> Believed:
    return Believed(edge, spread, math.log(width), 0.2)


def test_between_two_edges_the_line_runs_through_their_middle_and_beyond_them_it_is_less_sure() -> None:
    found = [(-1.0, known(20.0)), (1.0, known(40.0))]
    middle, beyond = expected(found, 0.0, NOTCHES, before()), expected(found, 1.5, NOTCHES, before())
    assert middle.edge == pytest.approx(30.0, abs=0.5)
    assert beyond.edge > 40.0
    assert known(0.0).edge_spread < middle.edge_spread < beyond.edge_spread < before().edge_spread


def test_a_third_edge_bends_the_line_and_narrows_it() -> None:
    two = [(-1.0, known(20.0)), (1.0, known(30.0))]
    three = [*two, (0.0, known(28.0))]
    assert expected(three, 0.5, NOTCHES, before()).edge > expected(two, 0.5, NOTCHES, before()).edge + 1.5
    assert expected(three, 0.5, NOTCHES, before()).edge_spread < 0.5 * expected(two, 0.5, NOTCHES, before()).edge_spread


def test_the_width_is_pooled_and_one_that_taught_nothing_leaves_what_was_believed() -> None:
    found = [(-1.0, known(20.0, width=0.3)), (1.0, known(40.0, width=0.3))]
    pooled = expected(found, 0.0, NOTCHES, before())
    assert pooled.log_width == pytest.approx(math.log(0.3), abs=0.05)
    assert 0.3 < pooled.log_width_spread < before().log_width_spread
    untaught = expected([(-1.0, before())], 0.0, NOTCHES, before())
    assert (untaught.log_width, untaught.log_width_spread) == pytest.approx(
        (before().log_width, before().log_width_spread)
    )


def test_what_is_expected_narrows_a_search_and_a_surprise_stays_possible() -> None:
    posterior = Posterior(NOTCHES, WIDTHS)
    posterior.expect(known(30.0, spread=1.0))
    assert posterior.middle().edge == pytest.approx(30.0, abs=0.2)
    assert posterior.middle().edge_spread < 2.0
    for notch in (34.0, 36.0, 38.0, 40.0):
        posterior.held(notch, 1800.0)
    assert posterior.middle().edge > 38.0


def test_loads_tell_each_other_where_to_look_and_keep_what_they_know_apart() -> None:
    known_load, fresh = (Hazards(NOTCHES, WIDTHS, counts=True) for _ in range(2))
    for notch, corrected in ((20.0, 0), (26.0, 0), (28.0, 2), (30.0, 9)):
        known_load.take(notch, Run("", notch, 1800.0, corrected, corrected=corrected))
    known_load.take(33.0, Run("", 33.0, 60.0, 1, True))
    told_known, told_fresh = told_by_others([known_load, fresh])
    known_there, there = known_load.middle(), told_fresh.middle()
    assert there.fatal.edge == pytest.approx(known_there.fatal.edge, abs=2.0)
    assert there.fatal.edge_spread > 2.0 * known_there.fatal.edge_spread
    assert known_there.corrected is not None
    assert there.corrected is not None
    assert there.corrected.edge == pytest.approx(known_there.corrected.edge, abs=2.0)
    assert there.corrected.edge < there.fatal.edge - 2.0
    assert fresh.middle() == BelievedHazards(before(), None)
    assert told_known.middle() == known_load.middle()
    assert told_by_others([known_load]) == [known_load]


def test_what_is_expected_is_the_conditional_of_the_joint_normal_distribution() -> None:
    """Worked out again from the covariance of all edges at once; three edges, none of them alike in trust."""
    found = [(-1.0, known(21.0, 0.4)), (-0.2, known(33.0, 1.5)), (0.7, known(30.0, 0.8, 0.9))]
    at = np.array([place for place, _ in found] + [0.4])
    shares = NOTCHES * np.array([1.0, 0.5, 0.17, 0.05])
    joint = sum(share**2 * np.outer(at**k, at**k) for k, share in enumerate(shares))
    joint = joint + np.diag([b.edge_spread**2 + 0.25 for _, b in found] + [0.25])
    inside, across = np.linalg.inv(joint[:3, :3]), joint[3, :3]
    mean = NOTCHES / 2 + across @ inside @ (np.array([b.edge for _, b in found]) - NOTCHES / 2)
    told = expected(found, 0.4, NOTCHES, before())
    assert told.edge == pytest.approx(mean, rel=1e-9)
    assert told.edge_spread == pytest.approx(math.sqrt(joint[3, 3] - across @ inside @ across), rel=1e-9)
    learnt = np.array([1 / 0.2**2 - 1 / before().log_width_spread ** 2] * 3)
    assert told.log_width == pytest.approx(np.average(np.log([0.5, 0.5, 0.9]), weights=learnt))
    assert told.log_width_spread == pytest.approx(math.sqrt(1 / learnt.sum() + 0.3**2))


def test_other_loads_count_by_how_sure_they_are_and_never_tell_more_than_the_surest() -> None:
    told = alike([known(20.0, 1.0), known(30.0, 6.0)], NOTCHES, before())
    variances = np.array([1.0 + (0.06 * NOTCHES) ** 2, 36.0 + (0.06 * NOTCHES) ** 2])
    assert told.edge == pytest.approx(np.average([20.0, 30.0], weights=1 / variances))
    assert told.edge_spread == pytest.approx(math.sqrt(variances.min()))
