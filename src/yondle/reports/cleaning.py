"""Names and notes come from anywhere: what could steer a reader's eyes or terminal is written visibly instead."""

from __future__ import annotations

import unicodedata

_KEPT = "\n\t"
_STEERING = {"Cc", "Cf", "Cs", "Co", "Cn"}
"""Categories of characters that aren't seen: controls, direction and format marks, halves of pairs, private ones."""


def cleaned(text: str) -> str:
    """Write control, direction and other unseen characters as ‹U+202E›; lines and tabs stay."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(f"‹U+{ord(c):04X}›" if unicodedata.category(c) in _STEERING and c not in _KEPT else c for c in text)


def one_line(text: str) -> str:
    """The same on one line."""
    return " ".join(cleaned(text).split())
