"""`make vm-test`: runs a part of the crash test and prints its table; the machine is made by `tools/vm_root.sh`."""

from __future__ import annotations

import os
import sys
from collections import Counter
from concurrent.futures import ThreadPoolExecutor

from tests.vm import bench, kept, nights, odd
from tests.vm.machine import folder


def main() -> None:
    """Run `kept TIMES [MACHINES]`, `nights …`, `odd …` or `bench …`, on so many machines at once."""
    part, times, machines = sys.argv[1], int(sys.argv[2]), int((*sys.argv[3:], "2")[0])
    first = int(os.environ.get("SEED", "1"))
    runs = {"kept": kept.run, "nights": nights.run, "odd": odd.run, "bench": bench.run}
    with ThreadPoolExecutor(machines) as pool:
        each = [times // machines + (i < times % machines) for i in range(machines)]
        tallies = list(pool.map(lambda i: runs[part](folder(), each[i], first + i), range(machines)))
    kinds: Counter[str] = sum((tally.kinds for tally in tallies), Counter())
    wrong = [words for tally in tallies for words in tally.wrong]
    print("\n| gone down by | times |\n| --- | --- |")
    for kind, count in sorted(kinds.items()):
        print(f"| {kind} | {count} |")
    print(f"| in all | {kinds.total()} |")
    print(f"\nwrong: {len(wrong)}; most starts in force one after the other: {max(t.longest_loop for t in tallies)}")
    print(f"starts in force {sum(t.in_force for t in tallies)}, at stock {sum(t.at_stock for t in tallies)}")
    print("\n".join(wrong))
    sys.exit(1 if wrong else 0)


if __name__ == "__main__":
    main()
