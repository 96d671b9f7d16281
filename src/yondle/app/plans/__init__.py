"""Runs of plans, and the plan that does a logbook again."""
