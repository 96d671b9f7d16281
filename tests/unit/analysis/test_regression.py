"""Fits against the certified values of the NIST Statistical Reference Datasets, and against outliers."""

from __future__ import annotations

import math
from statistics import NormalDist

import numpy as np
import pytest

from yondle.analysis.regression import fit, huber

NORRIS = (
    "0.2 0.1 337.4 338.8 118.2 118.1 884.6 888.0 10.1 9.2 226.5 228.1 666.3 668.5 996.3 998.5 448.6 449.1 777.0 778.9 "
    "558.2 559.2 0.4 0.3 0.6 0.1 775.5 778.1 666.9 668.8 338.0 339.3 447.5 448.9 11.6 10.8 556.0 557.7 228.1 228.3 "
    "995.8 998.0 887.6 888.8 120.2 119.6 0.3 0.3 0.3 0.6 556.8 557.6 339.1 339.3 887.2 888.0 999.0 998.5 779.0 778.9 "
    "11.1 10.2 118.3 117.6 229.2 228.9 669.1 668.4 448.9 449.2 0.5 0.2"
)
LONGLEY = (
    "60323 83.0 234289 2356 1590 107608 1947 61122 88.5 259426 2325 1456 108632 1948 60171 88.2 258054 3682 1616 109773 1949 "
    "61187 89.5 284599 3351 1650 110929 1950 63221 96.2 328975 2099 3099 112075 1951 63639 98.1 346999 1932 3594 113270 1952 "
    "64989 99.0 365385 1870 3547 115094 1953 63761 100.0 363112 3578 3350 116219 1954 66019 101.2 397469 2904 3048 117388 1955 "
    "67857 104.6 419180 2822 2857 118734 1956 68169 108.4 442769 2936 2798 120445 1957 66513 110.8 444546 4681 2637 121950 1958 "
    "68655 112.6 482704 3813 2552 123366 1959 69564 114.2 502601 3931 2514 125368 1960 69331 115.7 518173 4806 2572 127852 1961 "
    "70551 116.9 554894 4007 2827 130081 1962"
)


def table(text: str, columns: int) -> np.ndarray[tuple[int, int], np.dtype[np.float64]]:
    return np.array([float(v) for v in text.split()]).reshape(-1, columns)


def test_a_line_agrees_with_the_certified_values_of_norris() -> None:
    data = table(NORRIS, 2)
    told = fit(np.stack([np.ones(36), data[:, 0]], axis=1), data[:, 1], bend=math.inf)
    assert told.coefficients == pytest.approx([-0.262323073774029, 1.00211681802045], rel=1e-11)
    errors = np.sqrt(np.diag(told.covariance))
    assert errors == pytest.approx([0.232818234301152, 0.429796848199937e-3], rel=1e-11)


def test_nearly_dependent_columns_agree_with_the_certified_values_of_longley() -> None:
    data = table(LONGLEY, 7)
    told = fit(np.column_stack([np.ones(16), data[:, 1:]]), data[:, 0], bend=math.inf)
    certified = [
        -3482258.63459582, 15.0618722713733, -0.358191792925910e-01, -2.02022980381683, -1.03322686717359,
        -0.511041056535807e-01, 1829.15146461355,
    ]  # fmt: skip
    deviations = [
        890420.383607373, 84.9149257747669, 0.334910077722432e-01, 0.488399681651699, 0.214274163161675,
        0.226073200069370, 455.478499142212,
    ]  # fmt: skip
    assert told.coefficients == pytest.approx(certified, rel=1e-8)
    assert np.sqrt(np.diag(told.covariance)) == pytest.approx(deviations, rel=1e-8)


def test_a_polynomial_agrees_with_the_certified_values_of_wampler() -> None:
    x = np.arange(21.0)
    told = fit(np.vander(x, 6, increasing=True), np.polyval(np.ones(6), x), bend=math.inf)
    assert told.coefficients == pytest.approx(np.ones(6), rel=1e-7)


@pytest.mark.parametrize(
    ("offset", "step", "mean", "deviation", "digits"),
    [(1.2, 0.1, 1.2, 0.1, 1e-13), (1000000.2, 0.1, 1000000.2, 0.1, 1e-8), (10000000.2, 0.1, 10000000.2, 0.1, 1e-7)],
)
def test_a_mean_agrees_with_the_certified_values_of_numacc(
    offset: float, step: float, mean: float, deviation: float, digits: float
) -> None:
    values = np.array([offset, *([offset - step, offset + step] * 500)])
    told = fit(np.ones((1001, 1)), values, bend=math.inf)
    assert told.coefficients[0] == pytest.approx(mean, rel=1e-14)
    assert math.sqrt(told.covariance[0, 0] * 1001) == pytest.approx(deviation, rel=digits)


def test_group_means_agree_with_the_certified_values_of_smls01() -> None:
    centres = (1.4, 1.3, 1.5, 1.3, 1.5, 1.3, 1.5, 1.3, 1.5)
    values = np.array([v for c in centres for v in (c, *([c - 0.1, c + 0.1] * 10))])
    told = fit(np.kron(np.eye(9), np.ones((21, 1))).astype(float), values, bend=math.inf)
    within = float(told.residuals @ told.residuals)
    between = float(np.sum((values - values.mean()) ** 2)) - within
    assert told.degrees == 180
    assert (within, between) == pytest.approx((1.8, 1.68), rel=1e-12)
    assert (between / 8) / (within / 180) == pytest.approx(21.0, rel=1e-12)


def test_one_wild_reading_hardly_moves_the_fit() -> None:
    x = np.linspace(-1, 1, 40)
    noise = np.array([NormalDist().inv_cdf((i + 0.5) / 40) for i in range(40)])[
        np.random.default_rng(3).permutation(40)
    ]
    y = 2.0 + 0.5 * x + 0.01 * noise
    design = np.stack([np.ones(40), x], axis=1)
    calm = fit(design, y)
    y[39] -= 5.0
    struck = fit(design, y)
    spoilt = fit(design, y, bend=math.inf)
    assert abs(struck.coefficients[1] - calm.coefficients[1]) < 0.01
    assert abs(spoilt.coefficients[1] - calm.coefficients[1]) > 0.2


def test_readings_that_never_vary_are_as_exact_as_they_are_said_to_be_and_no_more() -> None:
    told = fit(np.ones((6, 1)), np.full(6, 3.0), least_scale=1e-4)
    assert math.sqrt(told.covariance[0, 0]) == pytest.approx(1e-4 / math.sqrt(6))


@pytest.mark.parametrize("columns", [[[1.0, 2.0]] * 5, [[1.0, 0.0], [1.0, 1.0]]])
def test_what_cannot_be_fitted_is_refused(columns: list[list[float]]) -> None:
    with pytest.raises(ValueError, match="column"):
        fit(np.array(columns), np.arange(float(len(columns))))


@pytest.mark.parametrize("wild", [1, 3])
def test_a_robust_fit_solves_hubers_equations_and_has_his_covariance(wild: int) -> None:
    """Σψ(r/s)·x = 0 at the scale of the residuals themselves, and K²·Σψ²/(n - p)/m²·(XᵀX)⁻¹."""
    rng = np.random.default_rng(wild)
    x = rng.uniform(0.0, 10.0, 31)
    y = 3.0 - 0.7 * x + rng.normal(0.0, 0.1, 31)
    y[:wild] += np.array([4.0, -3.0, 6.0])[:wild]
    design = np.stack([np.ones(31), x], axis=1)
    told = fit(design, y)
    residuals = y - design @ told.coefficients
    assert told.residuals == pytest.approx(residuals, abs=1e-12)
    scale = 1.4826 * np.median(np.abs(residuals)) * math.sqrt(31 / 29)
    psi = np.clip(residuals / scale, -2.0, 2.0)
    assert design.T @ psi == pytest.approx([0.0, 0.0], abs=1e-6)
    inside = np.mean(np.abs(residuals) <= 2.0 * scale)
    correction = 1 + 2 / 31 * (1 - inside) / inside
    variance = (correction / inside) ** 2 * scale**2 * np.sum(psi**2) / 29
    assert told.covariance == pytest.approx(variance * np.linalg.inv(design.T @ design), rel=1e-6)
    assert told.contrast(np.array([1.0, 5.0])) == (
        pytest.approx(told.coefficients @ [1.0, 5.0]),
        pytest.approx(math.sqrt(np.array([1.0, 5.0]) @ told.covariance @ [1.0, 5.0])),
    )
    settled = huber(y, lambda v: design @ np.linalg.lstsq(design, v, rcond=None)[0], 2)
    assert settled.outside == round(31 * (1 - inside)) >= wild
    assert settled.scale == pytest.approx(scale, rel=1e-6)
    assert settled.fitted == pytest.approx(design @ told.coefficients)
