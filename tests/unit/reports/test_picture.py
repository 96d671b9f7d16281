from __future__ import annotations

import re
from xml.etree import ElementTree

import pytest
from hypothesis import given
from hypothesis import strategies as st

from yondle.model.marks import PAPER
from yondle.model.verdicts import Verdict
from yondle.reports.picture import Picture, PicturePoint
from yondle.reports.shapes import nice_ticks
from yondle.reports.svg import colours_of, mark_svg, picture_svg

POINT = PicturePoint(4200.0, (213.0, 214.0), 213.5, 212.0, 215.0, Verdict.HELD, True)


def picture(**changes: object) -> Picture:
    values: dict[str, object] = {
        "title": "Heron", "sentence": "…", "x_label": "MHz", "y_label": "frames/min", "points": (POINT,),
        "failures": ((4700.0, Verdict.DOWN, "froze"),), "baseline": (213.5, 212.0, 215.0), "proportion": (4200.0, 213.5),
        "lower_is_better": False,
    }  # fmt: skip
    return Picture(**{**values, **changes})  # type: ignore[arg-type]


def test_the_same_picture_gives_the_same_bytes() -> None:
    assert picture_svg(picture()) == picture_svg(picture())


@given(st.text(max_size=80))
def test_hostile_names_are_only_text(name: str) -> None:
    clean = "".join(c for c in name if c.isprintable())
    root = ElementTree.fromstring(picture_svg(picture(title=clean, sentence="<script>alert(1)</script>")))
    assert not [element for element in root.iter() if element.tag.endswith("script")]


def test_a_picture_without_points_says_so() -> None:
    assert "Nothing measured yet" in picture_svg(picture(points=(), failures=()))


def test_each_verdict_has_a_shape_of_its_own() -> None:
    bare = {
        re.sub(r'#[0-9a-f]{6}|aria-label="[^"]*"', "", str(mark_svg(verdict, colours_of(PAPER)))) for verdict in Verdict
    }
    assert len(bare) == len(Verdict)


@given(st.floats(-1e6, 1e6), st.floats(1e-3, 1e6))
def test_ticks_are_round_and_few(low: float, span: float) -> None:
    ticks = nice_ticks(low, low + span)
    assert 1 <= len(ticks) <= 9
    assert all(low - span * 1e-6 <= t <= low + span * (1 + 1e-6) for t in ticks)


@pytest.mark.parametrize(("low", "high"), [(1.0, 1.0), (float("nan"), 1.0), (2.0, 1.0)])
def test_no_span_gives_no_ticks(low: float, high: float) -> None:
    assert nice_ticks(low, high) == []
