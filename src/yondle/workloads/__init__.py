"""Benchmarks that run as child processes on the machine itself."""
