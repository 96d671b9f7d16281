"""How warm a machine is, and what a second of load counts for while it is cool."""

from __future__ import annotations

import math

import numpy as np
import pytest
from scipy.integrate import quad

from yondle.analysis.exposure import warmths
from yondle.analysis.hold import Posterior
from yondle.analysis.soak import SOAK_S, cooled, soaked_seconds, warmed
from yondle.model.knobs import Setup
from yondle.model.steps import Attempt, PassRecord, Step, StepKind, StepRecord
from yondle.model.verdicts import Failure, Outcome, Verdict
from yondle.model.workloads import PassResult


@pytest.mark.parametrize("lag", [0.0, 0.5, 3.0, 6.0])
@pytest.mark.parametrize("seconds", [1.0, 30.0, 600.0, 7200.0])
def test_seconds_count_as_the_integral_says(lag: float, seconds: float) -> None:
    counted = float(soaked_seconds(np.array(lag), np.array(seconds)))
    integral, _ = quad(lambda t: math.exp(-lag * math.exp(-t / SOAK_S)), 0.0, seconds, limit=200)
    assert counted == pytest.approx(integral, rel=1e-6)
    assert counted <= seconds


def test_load_warms_and_rest_cools() -> None:
    assert warmed(0.0, SOAK_S) == pytest.approx(1.0 - math.exp(-1.0))
    assert warmed(warmed(0.2, 100.0), 200.0) == pytest.approx(warmed(0.2, 300.0))
    assert cooled(warmed(0.0, 1e6), SOAK_S) == pytest.approx(math.exp(-1.0))


def test_a_pass_begins_as_warm_as_the_load_before_it_left_the_machine() -> None:
    def passed(ordinal: int, started_s: float) -> PassRecord:
        return PassRecord(ordinal, "load", "mixed_load", 1, False, started_s, PassResult(True, None, 300.0))

    step = Step(1, StepKind.BASELINE, None, Setup.of({"core_clock": 4200.0}), ())
    fell = PassRecord(1, "load", "mixed_load", 1, False, 2600.0, None)
    early = Attempt(1, 1, "", 0.0, "boot", passes=(passed(1, 0.0), passed(2, 300.0)))
    after_a_restart = Attempt(2, 1, "", 0.0, "another boot", passes=(passed(1, 10.0), passed(2, 2310.0)))
    crashed = Attempt(
        3, 1, "", 0.0, "boot", Outcome(Verdict.DOWN, "", Failure.FROZE, "", 200.0), passes=(fell, passed(2, 5000.0))
    )
    warm = warmths([StepRecord(step, (crashed, after_a_restart, early))])
    assert warm[3, 2] == pytest.approx(cooled(warmed(warm[3, 1], 200.0), 2200.0)), "it was loaded until it fell"
    warm = warmths([StepRecord(step, (after_a_restart, early))])
    assert warm[1, 1] == 0.0
    assert warm[1, 2] == pytest.approx(warmed(0.0, 300.0))
    assert warm[2, 1] == 0.0
    assert warm[2, 2] == pytest.approx(cooled(warmed(0.0, 300.0), 2000.0))


def test_the_same_failure_says_more_against_a_setting_when_it_came_cool() -> None:
    cool, warm = (Posterior(60, np.geomspace(0.12, 2.4, 10)) for _ in range(2))
    for posterior, warmth in ((cool, 0.0), (warm, 1.0)):
        posterior.take(30.0, 60.0, 1, warmth)
    assert cool.middle().edge < warm.middle().edge
