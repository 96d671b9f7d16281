"""Searches for an edge, rebuilt from what is written down."""
