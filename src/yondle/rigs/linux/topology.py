"""Which processors are threads of one core, as the kernel tells it (Documentation/admin-guide/cputopology)."""

from __future__ import annotations

from yondle.rigs.linux.files import Tree
from yondle.rigs.linux.root.helper.interfaces import cpus_in

CPU = "sys/devices/system/cpu"


def spread_over_cores(tree: Tree, cpus: list[int]) -> list[int]:
    """Put processors in the order workers take them: the first thread of every core before the second of any.

    Two workers on one core tell of the core's second thread, not of two cores. Where the kernel tells no siblings the order
    is that of their numbers.
    """
    return sorted(cpus, key=lambda cpu: (_place_among_siblings(tree, cpu, cpus), cpu))


def _place_among_siblings(tree: Tree, cpu: int, among: list[int]) -> int:
    siblings = cpus_in(tree.text(f"{CPU}/cpu{cpu}/topology/thread_siblings_list"))
    return sum(other < cpu for other in siblings if other in among)
