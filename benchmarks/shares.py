"""Shares with their confidence limits, as the tables print them."""

from __future__ import annotations

import math

_Z = 1.959964


def limits(hits: int, of: int) -> tuple[float, float]:
    """Give Wilson's 95 % limits of a share (Wilson 1927, J. Am. Stat. Assoc. 22)."""
    p, reach = hits / of, _Z * _Z / of
    centre = (p + reach / 2.0) / (1.0 + reach)
    half = _Z * math.sqrt(p * (1.0 - p) / of + reach / (4.0 * of)) / (1.0 + reach)
    return centre - half, centre + half


def share(hits: int, of: int) -> str:
    """Write a share in per cent with its limits."""
    if of == 0:
        return "-"
    low, high = limits(hits, of)
    return f"{100 * hits / of:.1f} % ({100 * low:.1f} to {100 * high:.1f})"
