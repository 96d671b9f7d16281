"""Latency: the time of one dependent load, over working sets from the first-level cache to main memory.

A chain of 64-byte nodes in one random cycle through all of them (S. Sattolo, "An algorithm to generate a random cyclic
permutation", Inf. Process. Lett. 22, 1986) is followed: no prefetcher can guess the next. Whole rounds are followed, so
that the cycle has to close where it began. All workers follow the same chains, from different nodes.
"""

from __future__ import annotations

import threading
from collections.abc import Sequence

import numba
import numpy as np
from numpy.typing import NDArray

from yondle.language.saying import say
from yondle.workloads.kernels.compiling import compiled
from yondle.workloads.kernels.memory_size import MIB, may_take
from yondle.workloads.kernels.random_words import next_state, word_of
from yondle.workloads.kernels.serve import CannotRun, Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings, costs

KIB = 1 << 10
NODE_BYTES = 64
NODE_WORDS = NODE_BYTES // 8
SIZES = (16 * KIB, 128 * KIB, 512 * KIB, 2 * MIB, 8 * MIB, 32 * MIB, 128 * MIB, 512 * MIB)
LEAST_HOPS = 1_000_000
SEED = 0x6C_65_6E_73

Chain = NDArray[np.uint64]


@compiled()
def _link(chain: Chain, nodes: int, seed: np.uint64) -> None:
    """Make one random cycle through all nodes, in place: node i leads to the node whose number is in its first word."""
    for i in range(nodes):
        chain[i * NODE_WORDS] = np.uint64(i)
    x = seed
    for i in range(nodes - 1, 0, -1):
        x = next_state(x)
        j = np.int64(word_of(x) % np.uint64(i))
        held = chain[i * NODE_WORDS]
        chain[i * NODE_WORDS] = chain[j * NODE_WORDS]
        chain[j * NODE_WORDS] = held
    for i in range(nodes):
        chain[i * NODE_WORDS] *= np.uint64(NODE_WORDS)


@compiled()
def _follow(chain: Chain, at: np.uint64, hops: int) -> np.uint64:
    for _ in range(hops):
        at = chain[at]
    return at


class Chains:
    """The chains of all sizes that there is memory for; made once, followed by every worker."""

    def __init__(self, memory_mib: int) -> None:
        room = may_take(sum(SIZES), memory_mib)
        self.by_size: dict[int, Chain] = {}
        for size in SIZES:
            if room < size:
                break
            room -= size
            chain = np.zeros(size // 8, np.uint64)
            _link(chain, size // NODE_BYTES, np.uint64(SEED))
            self.by_size[size] = chain
        if not self.by_size:
            raise CannotRun(
                say("There is too little free memory to measure its latency."), say("Close other programs.")
            )


class Work:
    """One worker follows the chains in turn, each from a node of its own."""

    def __init__(self, chains: Chains, place: Place) -> None:
        self._chains = chains.by_size
        self._share = place.index / place.of
        self._order = sorted(self._chains, reverse=True)
        self._turn = 0
        self.timings = Timings()
        self._warm_up()

    def unit(self) -> tuple[float, str]:
        """Follow one chain round; the work is in millions of hops."""
        size = self._order[self._turn % len(self._order)]
        self._turn += 1
        nodes = size // NODE_BYTES
        rounds = max(1, LEAST_HOPS // nodes)
        start = np.uint64(int(self._share * nodes) * NODE_WORDS)
        chain = self._chains[size]
        with self.timings.timing(label(size), rounds * nodes / 1e9):
            end = _follow(chain, start, rounds * nodes)
        wrong = "" if int(end) == int(start) else say("{label}: the cycle doesn't close", label=label(size))
        return rounds * nodes / 1e6, wrong

    def spoil(self) -> None:
        """Flip one bit of a link of every chain."""
        for size, chain in self._chains.items():
            chain[(size // NODE_BYTES // 2) * NODE_WORDS] ^= np.uint64(1 << 9)

    def _warm_up(self) -> None:
        for chain in self._chains.values():
            _follow(chain, np.uint64(0), 1000)


def label(size: int) -> str:
    """Name a working set."""
    return f"{size // MIB} MiB" if size >= MIB else f"{size // KIB} KiB"


def _figure(works: Sequence[Work], work: float, seconds: float) -> tuple[float, dict[str, float]]:
    """Nanoseconds per hop of the largest set that was got round, and of each set."""
    found = costs([each.timings for each in works])
    parts = {label(size): found[label(size)] for size in SIZES if label(size) in found}
    return list(parts.values())[-1] if parts else 0.0, parts


class _Maker:
    """Makes the chains with the first worker, and gives them to all."""

    def __init__(self) -> None:
        self._lock = threading.Lock()
        self._chains: Chains | None = None

    def __call__(self, place: Place) -> Work:
        with self._lock:
            self._chains = self._chains or Chains(place.options.memory_mib)
        return Work(self._chains, place)


make = _Maker()
KERNEL = Kernel(make, {"numba": numba.__version__, "numpy": np.__version__}, _figure)

if __name__ == "__main__":
    serve(KERNEL)
