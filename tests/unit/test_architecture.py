"""The import rules hold because breaking any of them is noticed: each is broken once on a copy."""

from __future__ import annotations

import importlib
import os
import re
import shutil
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest

from yondle import __version__

ROOT = Path(__file__).resolve().parents[2]

BREACHES = {
    "Model, analysis, planning, engine, app, faces": ("analysis/margins.py", "import yondle.planning.ladder"),
    "Operations by subject": ("app/machine/clocks.py", "import yondle.app.session.book"),
    "Rigs, workloads and logbook know the model and": ("rigs/linux/proc.py", "import yondle.analysis.margins"),
    "File formats know the model only": ("formats/toml_files.py", "import yondle.app.session.progress"),
    "Adapters don't know each other": ("rigs/linux/this.py", "import yondle.workloads.host"),
    "Reports know model and analysis only": ("reports/picture.py", "import yondle.planning.ladder"),
    "Read models know model, analysis, planning": ("views/shared/gains.py", "import yondle.logbook.keeping"),
    "Subjects of read models meet only in what is shared": ("views/traces/spans.py", "import yondle.views.tune.rulers"),
    "The engine reaches adapters only through its ports": ("engine/watcher.py", "import yondle.logbook.logbook"),
    "Faces use operations and values": ("cli/shown.py", "import yondle.logbook.logbook"),
    "The window sends commands and reads snapshots": ("desktop/tune/desk.py", "import yondle.app.session.session"),
    "Rooms of the window": ("desktop/map/place.py", "import yondle.desktop.scaling.place"),
    "Qt stays in the desktop": ("app/session/progress.py", "import PySide6.QtCore"),
    "The model needs the standard library only": ("model/sensors.py", "import numpy"),
    "SQL stays in the logbook": ("views/kept.py", "import sqlite3"),
    "The language is below everything": ("language/saying.py", "import yondle.model.knobs"),
    "Tables know the model": ("tables/cells.py", "from yondle.views.shared import gains"),
}


def lint(root: Path) -> str:
    command = [str(Path(sys.executable).with_name("lint-imports")), "--no-cache"]
    environment = {**os.environ, "PYTHONPATH": str(root / "src")}
    return subprocess.run(command, cwd=root, env=environment, capture_output=True, text=True, check=False).stdout


def test_every_import_rule_is_broken_by_its_breach(tmp_path: Path) -> None:
    def broken(item: tuple[str, tuple[str, str]]) -> str:
        name, (file, line) = item
        copy = tmp_path / name.replace(" ", "-")[:24]
        shutil.copytree(ROOT / "src", copy / "src", ignore=shutil.ignore_patterns("__pycache__"))
        shutil.copy(ROOT / ".importlinter", copy)
        path = copy / "src" / "yondle" / file
        path.write_text(
            path.read_text("utf-8").replace(
                "from __future__ import annotations\n", f"from __future__ import annotations\n{line}\n"
            )
        )
        return lint(copy)

    with ThreadPoolExecutor(2) as pool:
        answers = dict(zip(BREACHES, pool.map(broken, BREACHES.items()), strict=True))
    for name, answer in answers.items():
        found = [text for text in answer.splitlines() if text.startswith(name)]
        assert found, answer
        assert found[0].endswith("BROKEN"), (name, answer)


def test_every_rule_of_the_contracts_file_is_among_those_broken() -> None:
    names = [
        line.split("=", 1)[1].strip()
        for line in (ROOT / ".importlinter").read_text().splitlines()
        if line.startswith("name")
    ]
    assert len(names) == len(BREACHES)
    assert all(any(name.startswith(known) for known in BREACHES) for name in names)


def test_what_scripts_take_from_the_program_is_there() -> None:
    """Nothing else runs them but a build: a module that was moved shows nowhere before that."""
    root = Path(__file__).parents[2]
    taken = [
        (script.name, module, name)
        for script in (*(root / "tools").glob("*.sh"), root / "Makefile", root / ".ci/run")
        for module, name in re.findall(r"from (yondle[\w.]*) import (\w+)", script.read_text("utf-8"))
    ]
    assert taken
    for script, module, name in taken:
        assert hasattr(importlib.import_module(module), name), f"{script}: {module}.{name}"


def test_every_file_that_a_document_names_is_there() -> None:
    """Decisions tell of their time, and may name what is gone."""
    root = Path(__file__).parents[2]
    sources = [f"/{path.relative_to(root)}" for path in (root / "src").rglob("*.*")]
    missing = []
    for document in (*(root / "docs").glob("*.md"), root / "README.md", root / "CONTRIBUTING.md"):
        for name in re.findall(r"`((?:[\w-]+/)+[\w.-]+\.(?:py|toml|sh|md))`", document.read_text("utf-8")):
            there = any((place / name).exists() for place in (root, root / "docs"))
            if not there and not any(source.endswith(f"/{name}") for source in sources):
                missing.append(f"{document.name}: {name}")
    assert missing == []


def test_every_description_of_a_package_is_of_this_version() -> None:
    for file, before in (
        ("pyproject.toml", 'version = "'), ("packaging/arch/PKGBUILD", "pkgver="), ("packaging/rpm/yondle.spec", "Version:"),
        ("Makefile", "-o dist/yondle-"),
    ):  # fmt: skip
        told = (ROOT / file).read_text("utf-8").split(before)[1].strip()
        assert told.startswith(__version__), file


@pytest.mark.parametrize(
    "loads",
    [
        "from pydantic import BaseModel; import yondle.desktop.look.theme; from pydantic import Field, model_validator",
        "import benchmarks.__main__",
    ],
)
def test_what_validates_files_is_loaded_to_its_end_whenever_qt_comes(loads: str) -> None:
    """Qt looks into every import; what was loaded by halves before it could not be loaded after it."""
    done = subprocess.run([sys.executable, "-c", loads], cwd=ROOT, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr[-2000:]
