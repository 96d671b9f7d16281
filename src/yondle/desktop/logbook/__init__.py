"""Logbook: everything that was measured and written, row by row."""
