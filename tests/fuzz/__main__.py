"""Fuzzes every format that comes from outside: `python -m tests.fuzz --inputs 200000 --seed 1`.

Prints a table of how many inputs of each were read and refused, and every fault with the seed that brings it back. No input
may take longer than 10 s of a processor, or the program more than 1 GiB above what it had.
"""

from __future__ import annotations

import argparse
import collections
import multiprocessing
import os
import resource
import signal
import sys
import tempfile
import time
import traceback
import warnings
from collections.abc import Iterator
from pathlib import Path
from random import Random
from types import FrameType

from tests.fuzz.formats import Formats
from yondle.model.errors import KnownError

LONGEST_S, LARGEST_B = 10, 1 << 30
_BUNCH = 200


class TooLong(Exception):
    """An input took longer than it may."""


def run_one(formats: Formats, kind: str, seed: int) -> str:
    """Make and read one input; gives 'read' or 'refused', or the fault it ended in."""
    chance, shape = Random(f"{kind}/{seed}"), formats.all[kind]
    made = shape.make(chance)
    signal.setitimer(signal.ITIMER_VIRTUAL, LONGEST_S)
    try:
        shape.read(made)
    except KnownError as error:
        bad = not error.problem or not error.remedy or any(ord(c) < 32 and c != "\n" for c in error.problem)
        return f"a poor sentence: {error.problem!r}" if bad else "refused"
    except (Exception, RecursionError):
        lines = traceback.format_exc().strip().splitlines()
        where = [line.strip() for line in lines if "src/yondle" in line]
        return f"{lines[-1][:150]} | {' < '.join(line.split('yondle/')[-1] for line in reversed(where[-3:]))}"
    finally:
        signal.setitimer(signal.ITIMER_VIRTUAL, 0)
    return "read"


def _work(bunch: tuple[str, int, int]) -> tuple[str, list[tuple[int, str]]]:
    kind, first, count = bunch
    return kind, [(seed, run_one(_formats, kind, seed)) for seed in range(first, first + count)]


def _begin() -> None:
    global _formats

    def late(_: int, __: FrameType | None) -> None:
        raise TooLong(f"longer than {LONGEST_S} s")

    warnings.simplefilter("ignore")
    signal.signal(signal.SIGVTALRM, late)
    _formats = Formats(Path(tempfile.mkdtemp(prefix="yondle-fuzz-")))
    used = int(Path("/proc/self/statm").read_text().split()[5]) * os.sysconf("SC_PAGE_SIZE")
    resource.setrlimit(resource.RLIMIT_DATA, (used + LARGEST_B, used + LARGEST_B))


def _bunches(formats: dict[str, int], inputs: int, seed: int) -> Iterator[tuple[str, int, int]]:
    for kind, share in formats.items():
        left, first = inputs * share // sum(formats.values()), seed * 10_000_000
        while left > 0:
            yield kind, first, min(left, _BUNCH)
            first, left = first + _BUNCH, left - _BUNCH


def main() -> int:
    """Run it; exits with 1 where a fault was found."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--inputs", type=int, default=2000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--kind", default="")
    parser.add_argument("--workers", type=int, default=2)
    asked = parser.parse_args()
    began = time.monotonic()
    with tempfile.TemporaryDirectory() as folder:
        made = Formats(Path(folder))
        shares = {kind: shape.share for kind, shape in made.all.items() if asked.kind in kind}
        made.close()
    told: dict[str, collections.Counter[str]] = {kind: collections.Counter() for kind in shares}
    faults: dict[str, tuple[str, int]] = {}
    with multiprocessing.Pool(asked.workers, _begin) as pool:
        for kind, ended in pool.imap_unordered(_work, _bunches(shares, asked.inputs, asked.seed)):
            for seed, how in ended:
                word = how if how in ("read", "refused") else "faults"
                told[kind][word] += 1
                if word == "faults" and f"{kind}: {how}" not in faults:
                    faults[f"{kind}: {how}"] = (kind, seed)
                    print(f"{kind} {seed}: {how}", flush=True)
    print(f"\n{'format':20}{'inputs':>9}{'read':>9}{'refused':>9}{'faults':>9}")
    for kind, counts in told.items():
        print(f"{kind:20}{counts.total():9}{counts['read']:9}{counts['refused']:9}{counts['faults']:9}")
    whole = sum(counts.total() for counts in told.values())
    print(f"{whole} inputs in {time.monotonic() - began:.0f} s, {len(faults)} kinds of fault")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main())
