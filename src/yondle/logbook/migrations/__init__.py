"""Alembic migrations of the logbook, run inside the program when a file is made or is older than it."""
