"""Other logbooks: read, compared with, exported, shared, merged, watched."""
