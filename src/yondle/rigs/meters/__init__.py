"""Meters outside the machine, read over a serial line or the network."""
