"""Read models: what window, command line and reports show, worked out from a session; one source for every figure."""
