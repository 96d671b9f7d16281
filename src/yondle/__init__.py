"""Yondle: a logbook for PC tuners."""

__version__ = "0.1.0"
