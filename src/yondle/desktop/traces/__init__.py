"""Traces: what the sensors said while it ran."""
