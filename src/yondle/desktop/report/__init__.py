"""Report: what is handed on."""
