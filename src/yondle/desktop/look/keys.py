"""Keys that are spoken of in more places than the one they work in."""

SWEEP, EDGE, NEXT = "S", "E", "W"
"""Tune's: a sweep of the knob in play, the search for its edge, and what is worth trying next."""
