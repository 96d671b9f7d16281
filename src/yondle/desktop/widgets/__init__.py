"""The window's own controls."""
