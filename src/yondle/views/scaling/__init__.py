"""Curves along a knob, what answers to which, what holds a benchmark back, how far a target is."""
