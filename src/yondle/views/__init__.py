"""Read models: what window, command line and reports show, pure functions of a snapshot and of the records."""
