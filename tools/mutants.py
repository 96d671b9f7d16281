"""Changes the code a little, in thousands of ways, and counts the changes that no test notices; `make mutants`.

The changes are made by mutmut, in a copy of the tree, in a folder of its own that git doesn't see. All of them would take a
day: a sample drawn by a seed says the share well enough, and what survives in it says where tests are weak. Two kinds of
survivors are told apart, since something else than a test of behaviour holds them: words of a sentence (the catalogues of
other languages no longer know a changed one, see tests/unit/test_language.py), and the `strict` of a `zip` whose sides are
made of equal length.
"""

from __future__ import annotations

import argparse
import ast
import json
import math
import os
import random
import shutil
import subprocess
import sys
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cache
from pathlib import Path

ROOT = Path(__file__).parent.parent
WORK = ROOT / ".mutants"
LIBRARY, TREE = WORK / "library", WORK / "tree"
MUTMUT = "mutmut==3.8.1"
"""It lives apart from the pinned packages: nothing but this needs it."""
PARTS = ("analysis", "planning", "engine", "logbook")
TESTS = ("tests/unit", "tests/rig")
READERS = tuple(f"--ignore=tests/unit/{name}.py" for name in ("test_language", "test_architecture"))
"""Tests that read the sources, which hold every change at once while it is tried."""
SAYING = frozenset({"say", "later", "named"})
NOTICED = frozenset({1, 3})
"""How a run of pytest ends that failed, or fell."""
Z = 1.96


@dataclass(frozen=True, slots=True)
class Mutant:
    """One change that was tried: where, what it was, and how it came out; `kind` tells survivors apart."""

    name: str
    place: str
    change: str
    kind: str

    @property
    def part(self) -> str:
        """The folder it lies in."""
        return self.name.split(".")[1]


def main() -> None:
    """Make the copy, try a sample, and print what survived."""
    wanted = _wanted()
    _copy(wanted)
    _mutmut("none.such")
    names = sorted(name for part in wanted.parts for name, _ in _outcomes(part))
    chosen = names if wanted.sample >= len(names) else random.Random(wanted.seed).sample(names, wanted.sample)
    print(
        f"{len(names)} changes can be made in {', '.join(wanted.parts)}; {len(chosen)} are tried (seed {wanted.seed})."
    )
    _mutmut(*chosen, jobs=wanted.jobs)
    outcomes = [(name, code) for part in wanted.parts for name, code in _outcomes(part) if name in set(chosen)]
    if not any(code is not None for _, code in outcomes):
        sys.exit(f"None was tried: the tests failed without any change, or were ended; see {WORK / 'mutmut.log'}.")
    tell(outcomes)


def tell(outcomes: list[tuple[str, int | None]]) -> None:
    """Print every survivor, and a line for each folder and for all of them."""
    survivors = [_survivor(name) for name, code in outcomes if code == 0]
    for mutant in sorted(survivors, key=lambda m: (m.kind, m.place)):
        print(f"{mutant.kind:9} {mutant.place}  {mutant.change}  [{mutant.name}]")
    print(f"\n{'':10} {'tried':>6} {'noticed':>8} {'words':>6} {'strict':>6} {'survived':>9}")
    tried = [(name, code) for name, code in outcomes if code is not None]
    for part in (*sorted({name.split(".")[1] for name, _ in tried}), ""):
        mine = [code for name, code in tried if part in ("", name.split(".")[1])]
        kinds = Counter(m.kind for m in survivors if part in ("", m.part))
        print(
            f"{part or 'all':10} {len(mine):6} {sum(code != 0 for code in mine):8} {kinds['words']:6} "
            f"{kinds['strict']:6} {kinds['survivor']:9}  {_share(kinds['survivor'], len(mine))}"
        )


def _wanted() -> argparse.Namespace:
    parser = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    parser.add_argument(
        "--parts", nargs="+", default=list(PARTS), help="folders of src/yondle, or modules as analysis/pooled"
    )
    parser.add_argument("--tests", nargs="+", default=list(TESTS), help="tests that may notice")
    parser.add_argument("--sample", type=int, default=400, help="how many changes are tried")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 2)
    return parser.parse_args()


def _copy(wanted: argparse.Namespace) -> None:
    """Copy what git knows, as it lies on the disk, with mutmut's settings beside pytest's."""
    if not LIBRARY.exists():
        subprocess.run([sys.executable, "-m", "pip", "install", "-q", "--target", str(LIBRARY), MUTMUT], check=True)
    shutil.rmtree(TREE, ignore_errors=True)
    listed = subprocess.run(
        ["git", "ls-files", "-z", "-co", "--exclude-standard"], cwd=ROOT, check=True, capture_output=True
    )
    for name in filter(None, listed.stdout.decode().split("\0")):
        if (ROOT / name).is_file():
            (TREE / name).parent.mkdir(parents=True, exist_ok=True)
            shutil.copy2(ROOT / name, TREE / name)
    beside = sorted({path.name for path in TREE.iterdir()} - {"tests", "pyproject.toml"})
    settings = {
        "source_paths": ["src"],
        "only_mutate": [f"src/yondle/{part}.py" if "/" in part else f"src/yondle/{part}/*" for part in wanted.parts],
        "do_not_mutate": ["src/yondle/logbook/migrations/*"],
        "also_copy": beside,
        "pytest_add_cli_args": ["-p", "no:cacheprovider", "-p", "no:xdist", "-x", "-q", *READERS],
        "pytest_add_cli_args_test_selection": wanted.tests,
        "mutate_only_covered_lines": True,
    }
    with (TREE / "pyproject.toml").open("a") as file:
        file.write("\n[tool.mutmut]\n")
        file.writelines(f"{key} = {json.dumps(value)}\n" for key, value in settings.items())
        file.write("timeout_multiplier = 4.0\ntimeout_constant = 6.0\n")


def _mutmut(*names: str, jobs: int = 1) -> None:
    """Run mutmut for some mutants. One that there is none of makes the mutants, and reads which test passes which lines."""
    code = f"import sys; sys.path.append({str(LIBRARY)!r}); from mutmut.__main__ import cli; cli()"
    asked = [sys.executable, "-c", code, "run", "--max-children", str(jobs), *names]
    with (WORK / "mutmut.log").open("ab") as log:
        subprocess.run(asked, cwd=TREE, stdout=log, stderr=log, check=False)


def _outcomes(part: str) -> Iterator[tuple[str, int | None]]:
    """Give the mutants of a folder or module with the exit of the tests: 0 where all passed, None where it wasn't tried."""
    here = TREE / "mutants" / "src" / "yondle"
    for path in [here / f"{part}.py.meta"] if "/" in part else sorted((here / part).rglob("*.meta")):
        yield from json.loads(path.read_text())["exit_code_by_key"].items()


def _share(survived: int, tried: int) -> str:
    """Say a share with its 95 % range (Wilson 1927, J. Am. Stat. Assoc. 22)."""
    if not tried:
        return ""
    share, spread = survived / tried, Z * Z / tried
    middle, half = share + spread / 2.0, Z * math.sqrt(share * (1.0 - share) / tried + spread / tried / 4.0)
    low, high = ((middle + side * half) / (1.0 + spread) for side in (-1.0, 1.0))
    return f"{share:6.1%} ({low:.1%} to {high:.1%})"


def _survivor(name: str) -> Mutant:
    module, _, function = name.rpartition(".")
    stem, _, _ = function.partition("__mutmut_")
    made = _functions(module)
    before, after = made[f"{stem}__mutmut_orig"], made[function]
    way = _way(before, after) or [(before, after)]
    old, new = way[-1]
    line = f"{module.removeprefix('yondle.').replace('.', '/')}.py, {stem.rpartition('ǁ')[2].removeprefix('x_')}"
    shown = next((pair for pair in reversed(way[-3:]) if len(ast.unparse(pair[0])) > 12), (old, new))
    return Mutant(name, line, " -> ".join(_short(side) for side in shown), _kind([pair[0] for pair in way]))


@cache
def _functions(module: str) -> dict[str, ast.AST]:
    path = TREE / "mutants" / "src" / Path(*module.split(".")).with_suffix(".py")
    return {
        node.name: node
        for node in ast.walk(ast.parse(path.read_text()))
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef)
    }


def _way(old: ast.AST, new: ast.AST) -> list[tuple[ast.AST, ast.AST]]:
    """Go down two trees to where they first differ."""
    pairs = list(zip(ast.iter_child_nodes(old), ast.iter_child_nodes(new), strict=False))
    alike = len(list(ast.iter_child_nodes(old))) == len(list(ast.iter_child_nodes(new)))
    for a, b in pairs if alike else []:
        if type(a) is type(b) and ast.dump(a) != ast.dump(b):
            return [(a, b), *_way(a, b)]
    return []


def _kind(way: list[ast.AST]) -> str:
    for node, below in zip(way, [*way[1:], None], strict=True):
        if isinstance(node, ast.Call) and isinstance(node.func, ast.Name):
            if node.func.id in SAYING and (below is node.args[0] or below is None):
                return "words"
            strict = [keyword for keyword in node.keywords if keyword.arg == "strict"]
            if node.func.id == "zip" and strict and (below is None or below in strict):
                return "strict"
    return "survivor"


def _short(node: ast.AST) -> str:
    words = ast.unparse(node).splitlines()
    return words[0][:90] + ("…" if len(words) > 1 or len(words[0]) > 90 else "")


if __name__ == "__main__":
    main()
