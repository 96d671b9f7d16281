"""No text of any place or card is cut, elided untold, faint, on another or on a point: at five sizes, in two languages."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from tools.screenshots import demo_logbook

ROOT = Path(__file__).parent.parent.parent


@pytest.fixture(scope="module")
def evening(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's evening, run once; every walk gets a copy."""
    folder = tmp_path_factory.mktemp("evening")
    demo_logbook(folder / "heron.yondle")
    return folder


@pytest.mark.parametrize("language", ["en", "de"])
def test_every_text_can_be_read(tmp_path: Path, evening: Path, language: str) -> None:
    folder = shutil.copytree(evening, tmp_path / "walk")
    surroundings = {**os.environ, "YONDLE_LANGUAGE": language, "PYTHONPATH": str(ROOT)}
    surroundings |= {
        name: str(folder) for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME")
    }
    command = [sys.executable, "-m", "tests.desktop.texts", str(folder)]
    done = subprocess.run(command, cwd=ROOT, env=surroundings, capture_output=True, text=True, timeout=400)
    assert done.returncode == 0, done.stdout + done.stderr[-2000:]
    looked = int(done.stdout.splitlines()[-1].split()[0])
    assert looked > 20_000, "the walk comes by everything"
