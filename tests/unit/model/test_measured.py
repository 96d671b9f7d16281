"""What a pass measured is written flat and read back the same, also as older logbooks have it."""

from __future__ import annotations

import json

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yondle.model.measured import Measured

IDS = st.text(st.characters(categories=("Ll", "Nd")), min_size=1, max_size=8)
READINGS = st.dictionaries(IDS, st.floats(-1e9, 1e9), max_size=4)
TOLD = st.dictionaries(IDS, st.one_of(st.text(max_size=5), st.floats(-1e9, 1e9)), max_size=4)


@given(st.builds(Measured, *[READINGS] * 8, TOLD))
def test_what_is_written_flat_reads_back_the_same(measured: Measured) -> None:
    assert Measured.of(json.loads(json.dumps(measured.facts()))) == measured


def test_an_older_logbooks_facts_are_told_apart_by_their_first_word() -> None:
    read = Measured.of(
        {
            "mean core_temperature": 61.5, "most core_temperature": 70.0, "least core_voltage_reading": 1.19,
            "errors memory_errors": 3.0, "counted throttles": 2.0, "measured cores_in_use": 6.0, "part 1 % low": 41.0,
            "per_worker": "10.5, 9.5", "per_second": "", "meant": "mean by name", "detail": "preset high", "most": 4.0,
        }
    )  # fmt: skip
    assert (read.mean, read.most) == ({"core_temperature": 61.5}, {"core_temperature": 70.0})
    assert (read.least, read.errors) == ({"core_voltage_reading": 1.19}, {"memory_errors": 3.0})
    assert (read.counted, read.settings, read.parts) == ({"throttles": 2.0}, {"cores_in_use": 6.0}, {"1 % low": 41.0})
    assert (read.per_worker, read.per_second) == ((10.5, 9.5), ())
    assert read.told["meant"] == "mean by name"
    assert read.told["most"] == 4.0
    with pytest.raises(ValueError, match="mean core_clock"):
        Measured.of({"mean core_clock": "fast"})


def test_of_two_that_are_joined_the_later_one_stands_where_both_tell_the_same() -> None:
    one = Measured(mean={"a": 1.0, "b": 2.0}, told={"x": "1"})
    joined = one.joined(Measured(mean={"b": 3.0}, parts={"p": 4.0}))
    assert (joined.mean, joined.parts, joined.told) == ({"a": 1.0, "b": 3.0}, {"p": 4.0}, {"x": "1"})
    assert one.mean == {"a": 1.0, "b": 2.0}
