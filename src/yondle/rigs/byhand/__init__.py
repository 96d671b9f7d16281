"""Knobs that only the tuner can set: in firmware setup, with a restart, or by swapping a part."""
