"""Storage, random: 4 KiB pieces of a file read in random order, one request at a time, past the system's cache."""

from yondle.workloads.kernels.serve import serve
from yondle.workloads.kernels.storage import RANDOM

if __name__ == "__main__":
    serve(RANDOM)
