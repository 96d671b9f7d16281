"""Columns side by side, machines along a knob, and what scores cost."""
