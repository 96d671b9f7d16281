from __future__ import annotations

import pytest

from yondle.language.preferred import in_fahrenheit
from yondle.model import quantities
from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Risk, Subsystem
from yondle.model.quantities import (
    as_shown,
    between,
    digits_for,
    duration,
    figure,
    from_shown,
    number,
    quantity,
    ranged,
    signed_percent,
    with_unit,
)


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


def test_temperatures_are_told_in_fahrenheit_where_that_is_preferred(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(quantities, "FAHRENHEIT", True)
    assert quantity(95.0, "°C") == "203\u202f°F"
    assert figure(-40.0, "°C") == "\u221240"
    assert quantity(5.0, between("°C")) == "9\u202f°F", "a difference has no zero of its own"
    assert ranged(95.0, 94.0, 96.0, "°C") == "203.0 ± 1.8\u202f°F"
    assert with_unit("Hottest core", "°C") == "Hottest core, °F"
    assert quantity(95.0, "W") == "95\u202fW"
    assert [round(from_shown(as_shown(v, "°C"), "°C"), 9) for v in (-40.0, 0.0, 88.5)] == [-40.0, 0.0, 88.5]
    monkeypatch.setattr(quantities, "FAHRENHEIT", False)
    assert quantity(95.0, "°C") == "95\u202f°C"
    assert quantity(5.0, between("°C")) == "5\u202f°C"


def test_a_temperature_is_read_in_either_unit_and_without_one_in_that_of_its_knob() -> None:
    knob = Knob("heat", "Heat limit", "°C", Subsystem.PROCESSOR, 60.0, 110.0, 5.0, 95.0, 0, risk=Risk.NONE)
    assert [knob.parsed(text) for text in ("95", "95 °C", "203°F", "203 \u202f°f", "203 F")] == [95.0] * 5
    assert knob.parsed("200 °F") == 95.0, "the nearest it takes"
    with pytest.raises(KnownError, match="outside its range"):
        knob.checked(knob.parsed("300 °F"))
    with pytest.raises(KnownError, match="can't be"):
        knob.parsed("warm")


def test_who_asks_for_a_unit_is_answered() -> None:
    assert [in_fahrenheit({"YONDLE_TEMPERATURES": wanted}) for wanted in ("F", "°F", "f", "C", "K")] == [
        True, True, True, False, False,
    ]  # fmt: skip
