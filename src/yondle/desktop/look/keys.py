"""Keys that are spoken of in more places than the one they work in."""

SWEEP, EDGE = "S", "E"
"""Tune's: a sweep of the knob in play, and the search for its edge."""
