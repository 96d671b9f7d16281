from __future__ import annotations

import pytest

from yondle.model.quantities import digits_for, duration, number, quantity, signed_percent


@pytest.mark.parametrize(
    ("value", "digits", "shown"),
    [
        (4600, 0, "4\u202f600"),
        (-0.04, 1, "0.0"),
        (-1234.5, 1, "\u22121\u202f234.5"),
        (float("nan"), 1, "–"),
        (999, 0, "999"),
    ],
)
def test_numbers_have_thin_spaces_and_a_true_minus(value: float, digits: int, shown: str) -> None:
    assert number(value, digits) == shown


def test_gains_always_show_their_sign() -> None:
    assert signed_percent(0.031) == "+3.1\u202f%"
    assert signed_percent(-0.031) == "\u22123.1\u202f%"
    assert signed_percent(0.00001) == "0.0\u202f%"


@pytest.mark.parametrize(
    ("seconds", "shown"), [(12, "12 s"), (0.2, "0.2 s"), (192, "3 min 12 s"), (3900, "1 h 5 min"), (3600, "1 h")]
)
def test_durations_use_their_two_largest_units(seconds: float, shown: str) -> None:
    assert duration(seconds).replace("\u202f", " ") == shown


def test_digits_follow_the_spread() -> None:
    assert [digits_for(m) for m in (12.0, 1.3, 0.13, 0.004, float("nan"))] == [0, 1, 2, 3, 1]
    assert quantity(1.25, "V", 3) == "1.250\u202fV"
