"""Gains of many settings at once: against SciPy, with drift, with odd input."""

from __future__ import annotations

import math

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st
from scipy import stats

from yondle.analysis.margins import GainWord
from yondle.analysis.pooled import Pooled, Reading, dunnett_t, pooled_gains
from yondle.model.workloads import Direction

UP = Direction.HIGHER


def session(truth: list[float], rounds: int, cv: float, drift: float = 0.0, seed: int = 1) -> list[Reading]:
    """Rounds of settings 0 (the baseline) and up in random order, a minute a pass."""
    rng = np.random.default_rng(seed)
    order = [int(s) for _ in range(rounds) for s in rng.permutation(len(truth))]
    steps = np.arange(len(order)) / (len(order) - 1)
    logs = np.log1p(np.array(truth)[order]) + rng.normal(0.0, cv, len(order)) + drift * steps
    return [Reading(s, 60.0 * i, 200.0 * math.exp(v)) for i, (s, v) in enumerate(zip(order, logs, strict=True))]


def told(readings: list[Reading], direction: Direction = UP) -> Pooled:
    pooled = pooled_gains(readings, direction)
    assert pooled is not None
    return pooled


@pytest.mark.parametrize(("settings", "n", "m"), [(2, 5, 5), (8, 5, 15), (8, 3, 3), (20, 4, 8)])
def test_the_critical_value_makes_dunnetts_p_value_five_per_cent(settings: int, n: int, m: int) -> None:
    """SciPy gives p for given samples; samples are made whose one difference lies exactly at our critical value."""
    degrees = settings * (n - 1) + m - 1
    critical = dunnett_t((round(1 / math.sqrt(1 + m / n), 3),) * settings, degrees)
    rng = np.random.default_rng(5)

    def sample(size: int) -> np.ndarray[tuple[int], np.dtype[np.float64]]:
        raw = rng.normal(size=size)
        return np.asarray((raw - raw.mean()) / raw.std(ddof=1))

    groups = [sample(n) for _ in range(settings)]
    groups[0] = groups[0] + critical * math.sqrt(1 / n + 1 / m)
    p = stats.dunnett(*groups, control=sample(m), random_state=np.random.default_rng(1)).pvalue[0]
    assert p == pytest.approx(0.05, abs=0.002)


def test_a_drift_as_large_as_the_gains_is_taken_out_and_told() -> None:
    pooled = told(session([0.0, 0.02, 0.04, 0.0], 8, 0.004, drift=-0.04))
    assert pooled.gains[1].fraction == pytest.approx(0.02, abs=0.006)
    assert pooled.gains[2].word is GainWord.GAIN
    assert pooled.gains[3].word is GainWord.WITHIN_NOISE
    assert pooled.drift is not None
    assert pooled.drift.found
    hours = 31 / 60
    assert pooled.drift.per_hour == pytest.approx(math.exp(-0.04 / hours) - 1, abs=0.02)


def test_drift_is_not_claimed_where_each_setting_was_measured_once_in_a_row() -> None:
    readings = [Reading(s, 60.0 * (10 * s + i), 100.0 + s + 0.1 * i) for s in range(6) for i in range(5)]
    assert told(readings).drift is None


def test_lower_is_better_turns_the_gain() -> None:
    readings = session([0.0, 0.05], 10, 0.003)
    assert told(readings).gains[1].fraction == pytest.approx(0.05, abs=0.006)
    assert told(readings, Direction.LOWER).gains[1].fraction == pytest.approx(1 / 1.05 - 1, abs=0.006)


def test_the_best_of_many_settings_needs_more_than_one_does() -> None:
    alone, among = told(session([0.0, 0.01], 6, 0.005)), told(session([0.0, 0.01] + [0.0] * 10, 6, 0.005))
    assert among.critical > alone.critical + 0.5


def test_scores_that_never_vary_still_have_a_margin() -> None:
    gain = told([Reading(s, 60.0 * i, 60.0) for i in range(5) for s in (0, 1)]).gains[1]
    assert gain.word is GainWord.WITHIN_NOISE
    assert gain.margin > 0


@pytest.mark.parametrize(
    "readings",
    [
        [],
        [Reading(0, 0.0, 5.0)],
        [Reading(1, 0.0, 5.0), Reading(1, 1.0, 5.1)],
        [Reading(0, 0.0, 5.0), Reading(1, 1.0, 5.1)],
        [Reading(s, float(i), math.nan if s else 0.0) for i in range(6) for s in (0, 1)],
    ],
)
def test_too_little_to_tell_is_said_so(readings: list[Reading]) -> None:
    assert pooled_gains(readings, UP) is None


@given(
    st.lists(
        st.builds(
            Reading,
            st.integers(0, 4),
            st.floats(0, 1e6),
            st.one_of(st.floats(1e-3, 1e6), st.sampled_from([0.0, -1.0, math.nan, math.inf])),
        ),
        max_size=40,
    )
)
def test_whatever_is_read_the_answer_is_a_number_with_a_margin_or_none(readings: list[Reading]) -> None:
    pooled = pooled_gains(readings, UP)
    for gain in pooled.gains.values() if pooled else ():
        assert math.isfinite(gain.fraction)
        assert gain.low < gain.fraction < gain.high or gain.high > 1e12


def _uneven(settings: list[int], times: np.ndarray, sign: float, seed: int) -> list[Reading]:
    """Readings whose noise is as large every time, so that none is an outlier."""
    rng = np.random.default_rng(seed)
    noise = rng.choice([-1.0, 1.0], len(settings)) * rng.uniform(0.0045, 0.005, len(settings))
    logs = np.array([0.0, 0.03, 0.01, -0.02])[settings] + noise + 2e-6 * times
    return [
        Reading(s, float(t), float(300.0 * math.exp(sign * v))) for s, t, v in zip(settings, times, logs, strict=True)
    ]


@pytest.mark.parametrize("direction", list(Direction))
@pytest.mark.parametrize("tied", [False, True])
def test_gains_and_drift_are_those_of_least_squares_on_levels_and_time(direction: Direction, tied: bool) -> None:
    """Worked out again with a design matrix; `tied` where one setting was measured late, so that drift ties the gains."""
    settings = [0, 1, 2, 0, 1, 3, 2, 0, 1, 3, 2, 0, 3, 2, 1, 0, 3, 2]
    times = np.cumsum(np.random.default_rng(3).uniform(50.0, 90.0, len(settings)))
    if tied:
        settings, times = [*settings, 3, 0, 3, 3, 3, 1, 0, 3], np.append(times, times[-1] + 60.0 * np.arange(1, 9))
    readings = _uneven(settings, times, 1.0 if direction is UP else -1.0, 4)
    y = np.log([r.score for r in readings]) * (1.0 if direction is UP else -1.0)
    design = np.column_stack([*(np.array(settings) == k for k in range(4)), times]).astype(float)
    solved, left, *_ = np.linalg.lstsq(design, y, rcond=None)
    degrees = len(y) - 5
    variance = float(left[0]) / degrees
    contrasts = np.array([[-1, 1, 0, 0, 0], [-1, 0, 1, 0, 0], [-1, 0, 0, 1, 0]], dtype=float)
    inverse = np.linalg.inv(design.T @ design)
    covariance = variance * contrasts @ inverse @ contrasts.T
    errors = np.sqrt(np.diag(covariance))
    pooled = told(readings, direction)
    assert (pooled.outliers, pooled.degrees) == (0, degrees)
    assert pooled.variation == pytest.approx(math.sqrt(variance), rel=1e-6)
    alone = pooled_gains(readings, direction, together=False)
    assert alone is not None
    assert alone.critical == pytest.approx(stats.t.ppf(0.975, degrees))
    if tied:
        assert pooled.critical == pytest.approx(stats.t.ppf(1 - 0.025 / 3, degrees))
    else:
        counts = np.bincount(settings)
        b = np.sqrt(variance / counts[0] / np.diag(covariance))
        assert pooled.critical == pytest.approx(dunnett_t(tuple(np.sort(np.round(b, 3)).tolist()), degrees))
    power = stats.t.ppf(0.8, degrees)
    for at, (difference, error) in enumerate(zip(contrasts @ solved, errors, strict=True), start=1):
        gain = pooled.gains[at]
        assert np.log1p([gain.fraction, gain.low, gain.high, gain.visible]) == pytest.approx(
            [
                difference,
                *(difference + side * pooled.critical * error for side in (-1, 1)),
                (pooled.critical + power) * error,
            ],
            rel=1e-6,
        )
        assert (gain.n, gain.n_baseline) == (settings.count(at), settings.count(0))
        assert alone.gains[at].margin < gain.margin
    half = stats.t.ppf(0.975, degrees) * math.sqrt(variance * inverse[4, 4])
    assert pooled.drift is not None
    hourly = [math.log1p(v) / 3600.0 for v in (pooled.drift.per_hour, pooled.drift.low, pooled.drift.high)]
    assert hourly == pytest.approx([solved[4], solved[4] - half, solved[4] + half], rel=1e-5)


def test_as_few_readings_as_three_beyond_the_columns_are_enough() -> None:
    readings = [Reading(s, 60.0 * i, 100.0 + 0.1 * ((i * 7) % 3)) for i, s in enumerate([0, 1, 0, 1, 0, 1])]
    assert told(readings).degrees == 3
    assert pooled_gains(readings[:5], UP) is None
