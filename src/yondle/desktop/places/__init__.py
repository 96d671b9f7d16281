"""The places of the window."""
