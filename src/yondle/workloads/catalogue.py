"""The built-in workloads, declared once: what they measure, and the module that runs them."""

from __future__ import annotations

from dataclasses import dataclass, replace

from yondle.language.saying import later, named
from yondle.model.knobs import Subsystem
from yondle.model.workloads import Direction, Metric, Workload

LOWER = Direction.LOWER


@dataclass(frozen=True, slots=True)
class BuiltIn:
    """A workload with the module its child process runs; `usual` ones are run where nothing was chosen."""

    workload: Workload
    module: str
    usual: bool = True


def _metrics(
    unit: str, names: tuple[str, ...], digits: int = 1, direction: Direction = Direction.HIGHER
) -> tuple[Metric, ...]:
    return tuple(Metric(name, unit, direction, digits) for name in names)


def _built_in(
    module: str,
    name: str,
    about: str,
    metric: Metric,
    subsystem: Subsystem,
    parts: tuple[Metric, ...] = (),
    pass_s: float = 6.0,
    scored: bool = True,
    usual: bool = True,
    load: str = "",
) -> BuiltIn:
    workload = Workload(module, name, about, metric, pass_s, scored, load or name.lower(), "", subsystem, parts=parts)
    return BuiltIn(workload, f"yondle.workloads.kernels.{module}", usual)


def said(workload: Workload) -> Workload:
    """Put the words of a built-in workload into the reader's language; its sub-scores are kept by theirs."""
    metric = replace(workload.metric, name=named(workload.metric.name))
    return replace(workload, name=named(workload.name), about=named(workload.about), metric=metric)


_SIZES = ("16 KiB", "128 KiB", "512 KiB", "2 MiB", "8 MiB", "32 MiB", "128 MiB", "512 MiB")

BUILT_IN = (
    _built_in(
        "wide_arithmetic",
        later("Wide arithmetic"),
        later(
            "Fused multiply-adds on the widest vectors, from the first-level cache; every result is checked bit "
            "for bit."
        ),
        Metric(later("Wide arithmetic"), "GFLOP/s", digits=1),
        Subsystem.PROCESSOR,
        load="wide vectors",
    ),
    _built_in(
        "whole_numbers",
        later("Whole numbers"),
        later(
            "Keys put into a hash table, looked up, sorted and searched: branchy whole-number work, checked by a "
            "running hash."
        ),
        Metric(later("Whole numbers"), "Mkeys/s", digits=2),
        Subsystem.PROCESSOR,
    ),
    _built_in(
        "compression",
        later("Compression"),
        later("Made-up text packed by zlib at level 6 and unpacked again; what comes back is checked."),
        Metric(later("Compression"), "MiB/s", digits=1),
        Subsystem.PROCESSOR,
        _metrics("MiB/s", ("packing", "unpacking")),
    ),
    _built_in(
        "dense_compression",
        later("Dense compression"),
        later("The same text packed by lzma: larger tables, more branches, more memory."),
        Metric(later("Dense compression"), "MiB/s", digits=2),
        Subsystem.PROCESSOR,
        _metrics("MiB/s", ("packing", "unpacking"), 2),
        usual=False,
    ),
    _built_in(
        "transform",
        later("Transform"),
        later("Fourier transforms there and back, from what fits a cache to what fits none; the error is bounded."),
        Metric(later("Transform"), "GFLOP/s", digits=2),
        Subsystem.PROCESSOR,
        _metrics("GFLOP/s", ("2^14", "2^17", "2^20"), 2),
    ),
    _built_in(
        "bandwidth",
        later("Bandwidth"),
        later(
            "Memory read, written, copied and combined, in arrays of eight times the last-level cache; sums are "
            "checked."
        ),
        Metric(later("Bandwidth"), "GB/s", digits=2),
        Subsystem.MEMORY,
        _metrics("GB/s", ("read", "write", "copy", "combine"), 2),
    ),
    _built_in(
        "latency",
        later("Latency"),
        later(
            "One dependent load after the other over a random cycle, by the size of what is worked on; the cycle "
            "has to close."
        ),
        Metric(later("Latency"), "ns", LOWER, digits=1),
        Subsystem.MEMORY,
        _metrics("ns", _SIZES, 2, LOWER),
        pass_s=8.0,
    ),
    _built_in(
        "memory_check",
        later("Memory check"),
        later("Moving inversions of four patterns over as much memory as allowed; errors are told by address and bit."),
        Metric(later("Memory check"), "GB/s", digits=2),
        Subsystem.MEMORY,
        pass_s=10.0,
        usual=False,
    ),
    _built_in(
        "frames",
        later("Frames"),
        later(
            "A heavy scene drawn off screen; wrong pixels are found by a picture that every graphics card draws "
            "the same."
        ),
        Metric(later("Frames"), "frames/s", digits=1),
        Subsystem.GRAPHICS,
        (*_metrics("frames/s", ("1 % low", "0.1 % low")), Metric("late frames", "%", LOWER, 2)),
        pass_s=10.0,
        usual=False,
    ),
    _built_in(
        "storage",
        later("Storage, in order"),
        later("A file read and written in 1 MiB pieces past the system's cache; all that is read is compared."),
        Metric(later("Storage, in order"), "MB/s", digits=0),
        Subsystem.STORAGE,
        _metrics("MB/s", ("reading", "writing"), 0),
        usual=False,
    ),
    _built_in(
        "storage_random",
        later("Storage, at random"),
        later("4 KiB pieces of a file read in random order, one request at a time; all that is read is compared."),
        Metric(later("Storage, at random"), "reads/s", digits=0),
        Subsystem.STORAGE,
        _metrics("µs", ("half within", "99 % within"), 1, LOWER),
        usual=False,
    ),
    _built_in(
        "mixed",
        later("Mixed load"),
        later(
            "Arithmetic, whole numbers, memory and compression in turn, every worker at its own time; all "
            "results checked."
        ),
        Metric(later("Mixed load"), "turns/s", digits=1),
        Subsystem.PROCESSOR,
        pass_s=20.0,
        scored=False,
        usual=False,
    ),
)

MIXED, MEMORY_CHECK, FRAMES, WIDE = "mixed", "memory_check", "frames", "wide_arithmetic"
USUAL = tuple(built_in.workload.id for built_in in BUILT_IN if built_in.usual)
