"""The built-in workloads, declared once: what they measure, and the module that runs them."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.model.workloads import Metric, Workload


@dataclass(frozen=True, slots=True)
class BuiltIn:
    """A workload with the module its child process runs."""

    workload: Workload
    module: str


WIDE_ARITHMETIC = BuiltIn(
    Workload(
        id="wide_arithmetic",
        name="Wide arithmetic",
        about="Fused multiply-adds on the widest vectors, from the first-level cache; every result is checked bit for bit.",
        metric=Metric("Wide arithmetic", "GFLOP/s", digits=1),
        pass_s=6.0,
        load="wide vectors",
    ),
    "yondle.workloads.kernels.wide_arithmetic",
)

BUILT_IN = (WIDE_ARITHMETIC,)
