"""Machines put together: the simulated one, the one Yondle runs on, clocks and hands."""
