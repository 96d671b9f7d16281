"""Setups kept by name."""
