"""Opens logbooks for the window; called in the owner's thread, where everything that takes is loaded, too."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from yondle.desktop.link.tidying import untidied
from yondle.desktop.shell.rooms import load_tune


def open_for_window(path: Path, pace: float | None) -> Any:
    """Open a logbook with the settings it stands for in force, so that the window shows the rig at them."""
    with untidied():
        from yondle.app.session.opening import open_logbook, settings_in_force

        load_tune()
        return settings_in_force(lambda: open_logbook(path, pace, asks=True))()


def create_for_window(path: Path, rig: str, pace: float | None, name: str = "") -> Any:
    """Make a logbook for a rig and open it."""
    with untidied():
        from yondle.app.machine.machines import choose_rig
        from yondle.app.session.opening import create_logbook, settings_in_force

        load_tune()
        return settings_in_force(lambda: create_logbook(path, choose_rig(rig, name=name), pace, asks=True))()
