"""One open logbook with its rig: proposing, testing, waiting, resting, and what is written about it."""
