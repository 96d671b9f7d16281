"""No text of the window, of the commands or of a report is left out of the catalogue, nor a temperature in °C: all are opened."""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

ROOT = Path(__file__).parent.parent.parent


def test_every_text_shown_is_looked_up_and_every_temperature_in_fahrenheit(tmp_path: Path) -> None:
    surroundings = {
        **os.environ,
        "YONDLE_LANGUAGE": "qps",
        "YONDLE_TEMPERATURES": "F",
        "COLUMNS": "300",
        "PYTHONPATH": str(ROOT),
    }
    surroundings |= {
        name: str(tmp_path) for name in ("XDG_DATA_HOME", "XDG_CONFIG_HOME", "XDG_STATE_HOME", "XDG_CACHE_HOME")
    }
    command = [sys.executable, "-m", "tests.desktop.crawl", str(tmp_path)]
    done = subprocess.run(command, cwd=ROOT, env=surroundings, capture_output=True, text=True, timeout=240)
    assert done.returncode == 0, done.stdout + done.stderr[-2000:]
