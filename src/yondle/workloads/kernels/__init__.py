"""The built-in kernels; each module runs by `python -m` and speaks JSON lines, see workloads/protocol.py."""
