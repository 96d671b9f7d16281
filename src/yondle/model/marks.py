"""The shape and colours of each verdict's mark, and the palette they belong to; the same in window, picture and report.

A mark fills a box from -1 to 1; window and picture draw the same six shapes.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

from yondle.model.verdicts import Verdict


class Shape(StrEnum):
    """The outline of a mark."""

    DISC = "disc"
    HALF_DISC = "half disc"
    TRIANGLE = "triangle"
    CROSSED_SQUARE = "crossed square"
    DIAMOND = "diamond"
    RING = "ring"


@dataclass(frozen=True, slots=True)
class Palette:
    """One scheme's colours as #rrggbb."""

    ground: str
    panel: str
    ink: str
    muted: str
    rule: str
    in_play: str
    verdicts: dict[Verdict, str]


SHAPES: dict[Verdict, Shape] = {
    Verdict.HELD: Shape.DISC,
    Verdict.UNPROVEN: Shape.HALF_DISC,
    Verdict.WRONG: Shape.TRIANGLE,
    Verdict.DOWN: Shape.CROSSED_SQUARE,
    Verdict.HELD_BACK: Shape.DIAMOND,
    Verdict.REFUSED: Shape.RING,
}

PAPER = Palette(
    "#efebe2", "#f7f4ec", "#22303c", "#5f6970", "#d5cebf", "#a9501d",
    {
        Verdict.HELD: "#2c7a74", Verdict.UNPROVEN: "#7d8458", Verdict.WRONG: "#b97a10",
        Verdict.DOWN: "#97383a", Verdict.HELD_BACK: "#64559c", Verdict.REFUSED: "#8a8a86",
    },
)  # fmt: skip

NIGHT = Palette(
    "#181e23", "#20282e", "#e8e2d5", "#98a1a5", "#37424a", "#e08a4f",
    {
        Verdict.HELD: "#5bb3aa", Verdict.UNPROVEN: "#b3ba86", Verdict.WRONG: "#e0aa45",
        Verdict.DOWN: "#d8706f", Verdict.HELD_BACK: "#a697dd", Verdict.REFUSED: "#8a8a86",
    },
)  # fmt: skip
