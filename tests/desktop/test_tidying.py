"""Whose thread takes apart what belongs to the window."""

from __future__ import annotations

import gc
import importlib
import sys
import threading
import weakref
from contextlib import redirect_stdout
from io import StringIO
from pathlib import Path

from pytestqt.qtbot import QtBot
from tests.desktop.conftest import Open
from tests.desktop.test_compare_place import make_book

from yondle.app.session.owner import Errand
from yondle.desktop.charts.chart_place import ChartPlace
from yondle.desktop.link.tidying import untidied
from yondle.desktop.shell.rooms import ROOMS


class Ring:
    def __init__(self) -> None:
        self.itself = self


def threads() -> set[str]:
    return {thread.name for thread in threading.enumerate()}


def test_only_the_windows_thread_collects_and_python_does_again_afterwards(
    open_book: Open, qtbot: QtBot, tmp_path: Path
) -> None:
    gc.collect()
    window = open_book(make_book(tmp_path / "book.yondle", ()))
    qtbot.waitUntil(
        lambda: len(window.places.findChildren(ChartPlace)) == len(ROOMS) - 1, timeout=20_000
    )  # all is loaded
    collected_in: list[str] = []
    kept: list[list[object]] = []

    class Allocate(Errand[None]):
        def run(self) -> None:
            for _ in range(20):
                weakref.finalize(Ring(), lambda: collected_in.append(threading.current_thread().name))
            kept.extend([object()] for _ in range(20_000))

    window.bridge.order(Allocate())
    qtbot.waitUntil(lambda: not window.bridge.busy)
    qtbot.waitUntil(lambda: len(collected_in) >= 19)
    assert set(collected_in) == {threading.main_thread().name}
    assert not gc.isenabled()
    window.close()
    qtbot.waitUntil(lambda: not window.isVisible())
    window.bridge.close()
    window.bridge.close()
    window.bridge.prepare(lambda: kept.append([]))  # as a timer may that was started before
    assert "preparing" not in threads()
    assert gc.isenabled()


def test_only_what_is_loaded_is_left_out_of_later_collections() -> None:
    left = Ring()
    alive = weakref.finalize(left, lambda: None)
    del left
    with untidied():
        pass
    gc.collect()
    assert not alive.alive
    frozen = gc.get_freeze_count()
    sys.modules.pop("this", None)
    with untidied(), redirect_stdout(StringIO()):
        importlib.import_module("this")
    assert gc.get_freeze_count() > frozen
