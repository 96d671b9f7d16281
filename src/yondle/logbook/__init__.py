"""The logbook: one SQLite file that holds everything ever asked, done and measured on a rig."""
