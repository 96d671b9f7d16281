"""Reports in every form from one content: the same bytes each time, and nothing in names and notes is ever markup."""

from __future__ import annotations

import io
import re
from html.parser import HTMLParser
from xml.etree import ElementTree

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from yondle.model.marks import PAPER
from yondle.model.parts import Part
from yondle.model.verdicts import Verdict
from yondle.reports.cleaning import cleaned
from yondle.reports.content import (
    Cell,
    Chart,
    ChartCurve,
    ChartPoint,
    File,
    Pairs,
    Report,
    Section,
    Table,
    Words,
)
from yondle.reports.html import html
from yondle.reports.markdown import markdown
from yondle.reports.pdf import pdf
from yondle.reports.preview import preview
from yondle.reports.svg import chart_svg, colours_of

HOSTILE = (
    "<script>alert(1)</script>", '"><img src=x onerror=alert(1)>', "=cmd|' /C calc'!A0", "\u202egnp.exe", "\x1b[31mred\x00",
    "[a](javascript:alert(1))", "```\n# heading", "{{ 7 * 7 }}", "| a | b |", "</style></pre></svg>",
    "１２３ ﷽ 🔥", "-- \n- list",
)  # fmt: skip
ALLOWED = {
    "html", "head", "meta", "title", "style", "body", "header", "h1", "h2", "h3", "p", "nav", "a", "main", "section", "div",
    "table", "thead", "tbody", "tr", "th", "td", "dl", "dt", "dd", "pre", "figure", "figcaption", "span", "svg", "polyline",
    "rect", "circle", "path", "text", "s", "g",
}  # fmt: skip


class Tags(HTMLParser):
    """Gathers the elements, attributes and words of a page."""

    def __init__(self) -> None:
        super().__init__()
        self.tags: set[str] = set()
        self.attributes: set[str] = set()
        self.words: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.tags.add(tag)
        self.attributes |= {name for name, _ in attrs}

    def handle_data(self, data: str) -> None:
        self.words.append(data)


def report_with(words: str) -> Report:
    points = tuple(
        ChartPoint(4000.0 + 100 * i, 2.0 * i, 2.0 * i - 0.5, 2.0 * i + 0.5, (2.0 * i,), v)
        for i, v in enumerate(Verdict)
    )
    chart = Chart(
        words,
        words,
        words,
        (ChartCurve(words, points), ChartCurve("flat", points[:2], True)),
        0.6,
        (4250.0, words),
        ((4600.0, Verdict.DOWN),),
    )
    blocks = (
        Words(words), Words(words, True), Pairs(((words, words),)), chart, File(words, words),
        Table((words, "b"), ((Cell(words, Verdict.WRONG), Cell(words, struck=True)),), frozenset({1})),
        Table(("a",), (), empty=words),
    )  # fmt: skip
    return Report(words, words, words, (Section(Part.GAINS, "What it brought", blocks),))


def must_be_harmless(words: str) -> None:
    report = report_with(words)
    tags = Tags()
    tags.feed(html(report))
    assert tags.tags <= ALLOWED
    assert not {name for name in tags.attributes if name.startswith("on")} | (tags.attributes & {"src"})
    page, pictures = preview(report, PAPER)
    shown = Tags()
    shown.feed(page)
    assert "script" not in shown.tags
    assert all(ElementTree.fromstring(picture).tag.endswith("svg") for picture in pictures.values())
    assert pdf(report).startswith(b"%PDF")
    for char in "\u202e\x1b\x00":
        assert char not in markdown(report)
        assert char not in html(report)


@pytest.mark.parametrize("words", HOSTILE)
def test_hostile_words_are_shown_and_never_read(words: str) -> None:
    must_be_harmless(words)
    tags = Tags()
    tags.feed(html(report_with(words)))
    assert "".join(cleaned(words).split()) in "".join("".join(tags.words).split())


@given(st.text(max_size=60))
@settings(max_examples=60)
def test_any_words_are_harmless(words: str) -> None:
    must_be_harmless(words)


def test_markdown_keeps_its_tables_whole() -> None:
    made = markdown(report_with("a | b\n| --- |\n# x"))
    rows = [line for line in made.splitlines() if line.startswith("|")]
    assert all(len(re.findall(r"(?<!\\)\|", row)) == len(re.findall(r"(?<!\\)\|", rows[0])) for row in rows[:3])


def test_the_same_content_gives_the_same_bytes() -> None:
    one, other = report_with("Heron's climb"), report_with("Heron's climb")
    assert html(one) == html(other)
    assert pdf(one) == pdf(other)
    assert markdown(one) == markdown(other)
    assert "http" not in re.sub(r"http://www\.w3\.org/2000/svg|http-equiv", "", html(one))


def test_every_verdict_has_its_own_mark_and_a_chart_without_points_says_so() -> None:
    drawn = str(chart_svg(report_with("x").sections[0].blocks[3], colours_of(PAPER)))  # type: ignore[arg-type]
    assert all(colour in drawn for colour in PAPER.verdicts.values())
    assert "Nothing measured yet" in str(chart_svg(Chart("a", "b", "c", ()), colours_of(PAPER)))


def test_pages_hold_long_tables_and_files() -> None:
    rows = tuple((Cell(str(i)), Cell("a rather long word " * 12)) for i in range(150))
    report = Report("Long", "", "", (Section(Part.PATH, "Path", (Table(("n", "what"), rows), File("f", "x" * 400))),))
    made = pdf(report)
    assert len(re.findall(rb"/Type /Page\b", made)) > 3
    assert io.BytesIO(made).read(5) == b"%PDF-"
