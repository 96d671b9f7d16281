"""How things stand: below or beside each other, in rows of a form, on a grid of four pixels; without margins of their own."""

from __future__ import annotations

from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QVBoxLayout, QWidget

GAP = 8
"""Between two things."""


def stacked(on: QWidget | None = None, gap: int = GAP) -> QVBoxLayout:
    """Have things stand below each other."""
    made = QVBoxLayout() if on is None else QVBoxLayout(on)
    made.setContentsMargins(0, 0, 0, 0)
    made.setSpacing(gap)
    return made


def abreast(on: QWidget | None = None, gap: int = GAP) -> QHBoxLayout:
    """Have things stand beside each other."""
    made = QHBoxLayout() if on is None else QHBoxLayout(on)
    made.setContentsMargins(0, 0, 0, 0)
    made.setSpacing(gap)
    return made


def form_rows(on: QWidget | None = None, gap: int = GAP // 2) -> QGridLayout:
    """Have fields or figures stand below each other, with their names beside them."""
    made = QGridLayout() if on is None else QGridLayout(on)
    made.setContentsMargins(0, 0, 0, 0)
    made.setHorizontalSpacing(GAP)
    made.setVerticalSpacing(gap)
    return made
