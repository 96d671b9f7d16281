"""Everything a logbook holds as rows, and the runs of plans."""
