"""No text of any place or card is cut, elided untold, faint, on another or on a point: at five sizes, in two languages."""

from __future__ import annotations

import os
import shutil
import subprocess
import sys
from pathlib import Path

from tools.screenshots import demo_logbook

ROOT = Path(__file__).parent.parent.parent
LANGUAGES = ("en", "de")


def test_every_text_can_be_read_in_either_language(tmp_path: Path) -> None:
    evening = tmp_path / "evening"
    evening.mkdir()
    demo_logbook(evening / "heron.yondle")
    walks = {}
    for language in LANGUAGES:
        folder = shutil.copytree(evening, tmp_path / language)
        surroundings = {**os.environ, "YONDLE_LANGUAGE": language, "PYTHONPATH": str(ROOT)}
        surroundings |= {
            name: str(folder) for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME")
        }
        command = [sys.executable, "-m", "tests.desktop.texts", str(folder)]
        pipe = subprocess.PIPE
        walks[language] = subprocess.Popen(command, cwd=ROOT, env=surroundings, stdout=pipe, stderr=pipe, text=True)
    said = {language: walk.communicate(timeout=600) for language, walk in walks.items()}
    for language, (out, troubles) in said.items():
        assert walks[language].returncode == 0, f"{language}: {out}{troubles[-2000:]}"
        assert int(out.splitlines()[-1].split()[0]) > 15_000, "the walk comes by everything"
