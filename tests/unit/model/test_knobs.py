from __future__ import annotations

from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st
from pydantic import TypeAdapter

from yondle.model.errors import KnownError
from yondle.model.knobs import Knob, Setup, Subsystem

knobs = st.builds(
    lambda low, step, notches, at: Knob(
        "k",
        "Knob",
        "u",
        Subsystem.PROCESSOR,
        low,
        round(low + step * notches, 6),
        step,
        round(low + step * min(at, notches), 6),
        3,
    ),
    st.integers(0, 5000).map(float),
    st.sampled_from([0.005, 0.0125, 0.1, 1.0, 5.0, 25.0]),
    st.integers(1, 400),
    st.integers(0, 400),
)


@given(knobs, st.data())
def test_every_value_on_the_grid_is_taken_as_it_is(knob: Knob, data: st.DataObject) -> None:
    notch = data.draw(st.integers(0, knob.notches))
    value = knob.at(notch)
    assert knob.checked(value) == value
    assert knob.notch_of(value) == notch


@given(knobs, st.data())
def test_what_was_found_is_a_legal_value_wherever_it_lies(even: Knob, data: st.DataObject) -> None:
    """Between two steps it stands among the others in order; beyond the range it is taken, and offered to nobody."""
    ragged = data.draw(st.sampled_from([0.0, 0.4])) * even.step
    inside = even.at(data.draw(st.integers(0, even.notches - 1))) + data.draw(st.sampled_from([0.0, 0.3])) * even.step
    beyond = data.draw(st.sampled_from([even.low - 7.25, even.high + 3000.0]))
    knob = replace(even, high=even.high + ragged, stops=(inside, beyond))
    values = knob.values()
    assert values == sorted(set(values))
    assert [knob.notch_of(v) for v in values] == list(range(knob.notches + 1))
    assert {even.low, knob.high} <= set(values)
    assert beyond not in values
    for value in (*values, inside, beyond):
        assert knob.checked(value) == knob.nearest(value) == value
    with pytest.raises(KnownError, match="outside its range"):
        knob.checked(beyond + (0.1 if beyond > knob.high else -0.1))
    if inside not in even.values():
        between = inside + 0.2 * even.step
        below, above = values[knob.notch_of(inside)], values[knob.notch_of(inside) + 1]
        assert (below, knob.nearest(between)) == (inside, inside)
        with pytest.raises(KnownError, match="between its steps") as refused:
            knob.checked(between)
        assert all(knob.bare(v) in refused.value.remedy for v in (below, above))
    kept = TypeAdapter(Knob)
    assert kept.validate_python(kept.dump_python(knob, mode="json")) == knob


@given(knobs, st.data())
def test_a_value_between_two_steps_names_both_neighbours(knob: Knob, data: st.DataObject) -> None:
    notch = data.draw(st.integers(0, knob.notches - 1))
    value = knob.at(notch) + 0.4 * knob.step
    with pytest.raises(KnownError, match="between its steps") as refusal:
        knob.checked(value)
    assert knob.bare(knob.at(notch)) in refusal.value.remedy
    assert knob.bare(knob.at(notch + 1)) in refusal.value.remedy


@given(knobs, st.sampled_from([float("nan"), float("inf"), -1e9, 1e9]))
def test_a_value_outside_the_range_says_the_range(knob: Knob, value: float) -> None:
    with pytest.raises(KnownError, match=r"outside its range|can't be"):
        knob.checked(value)


def test_setups_are_equal_by_value_and_tell_their_difference() -> None:
    a = Setup.of({"clock": 4200, "volt": 1.2})
    b = Setup.of({"volt": 1.2, "clock": 4200.0})
    assert a == b
    assert hash(a) == hash(b)
    c = a.with_values({"clock": 4300})
    assert [(x.knob, x.old, x.new) for x in a.changes_to(c)] == [("clock", 4200.0, 4300.0)]
    assert a.same_but(c, "clock")
    assert not a.same_but(c, "volt")


@pytest.mark.parametrize("words", ["4,300", "4,300 MHz", "-1,030"])
def test_a_number_that_could_be_read_in_two_ways_is_refused(words: str) -> None:
    knob = Knob("clock", "Clock", "MHz", Subsystem.PROCESSOR, 0.9, 5200.0, 0.005, 4200.0, 3)
    with pytest.raises(KnownError, match="could be read in two ways") as refused:
        knob.parsed(words)
    plain = words.removesuffix(" MHz")
    assert plain.replace(",", "") in refused.value.remedy
    assert plain.replace(",", ".") in refused.value.remedy


@pytest.mark.parametrize(
    ("words", "value"),
    [("4300 MHz", 4300.0), ("4 300", 4300.0), ("1.030", 1.03), ("1,03 MHz", 1.03), ("0,950", 0.95), ("4300,5", 4300.5)],
)
def test_a_number_that_can_be_read_in_one_way_is_taken(words: str, value: float) -> None:
    assert Knob("clock", "Clock", "MHz", Subsystem.PROCESSOR, 0.9, 5200.0, 0.005, 4200.0, 3).parsed(words) == value
