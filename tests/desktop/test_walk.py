"""A short random walk through the window; `python -m tests.desktop.walk --actions 20000 --seeds 10` is the long one."""

from __future__ import annotations

import subprocess
import sys


def test_a_random_walk_finds_window_and_engine_at_one() -> None:
    ran = subprocess.run(
        [sys.executable, "-m", "tests.desktop.walk", "--actions", "120"], capture_output=True, text=True, check=False
    )
    assert ran.returncode == 0, ran.stdout + ran.stderr
