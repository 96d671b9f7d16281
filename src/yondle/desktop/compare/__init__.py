"""Compare: steps, profiles and other logbooks side by side."""
