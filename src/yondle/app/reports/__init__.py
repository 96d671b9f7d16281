"""The report: what the tuner decides about it, what is gathered, the files it becomes."""
