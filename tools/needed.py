"""Gives the part of the lock file that Yondle needs to run, without what only its tests and checks need."""

from __future__ import annotations

import sys
import tomllib
from importlib.metadata import PackageNotFoundError, requires
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name


def needed() -> set[str]:
    """Name every library that is needed, and what these need in turn, for this Python on this machine."""
    project = tomllib.loads(Path("pyproject.toml").read_text("utf-8"))
    waiting = [Requirement(words) for words in project["project"]["dependencies"]]
    found: set[str] = set()
    while waiting:
        each = waiting.pop()
        name = canonicalize_name(each.name)
        if name in found or (each.marker is not None and not each.marker.evaluate({"extra": ""})):
            continue
        found.add(name)
        try:
            waiting += [Requirement(words) for words in requires(name) or ()]
        except PackageNotFoundError:
            continue
    return found


def main() -> None:
    """Print it."""
    wanted, entry = needed(), []
    for line in [*Path(sys.argv[1]).read_text("utf-8").splitlines(), "end=="]:
        if line and not line.startswith((" ", "#")):
            if entry and canonicalize_name(entry[0].split("==")[0]) in wanted:
                print("\n".join(entry))
            entry = []
        if line.strip() and not line.startswith("#"):
            entry.append(line)


if __name__ == "__main__":
    main()
