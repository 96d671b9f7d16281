"""Knobs and sensors of the tuner's own: whatever a file or a command can set or tell, described in a file (docs/own-file.md)."""
