"""Charts of the window."""
