"""Garbage that refers to itself is collected in the window's thread alone.

Python collects it in whichever thread allocates just then. What belongs to Qt (items of a chart with their labels, say) must
not be taken apart by the engine's thread while the window's paints it: that ends in attributes that are gone, or in a
segmentation fault.
"""

from __future__ import annotations

import gc
import sys
from collections.abc import Iterator
from contextlib import contextmanager

from PySide6.QtCore import QAbstractEventDispatcher, QObject

_OPEN: set[int] = set()
"""Who has put collecting off; Python's own way comes back with the last of them."""

_put_off = 0
"""How many there are who want nothing collected now."""


@contextmanager
def untidied() -> Iterator[None]:
    """Have nothing collected while libraries are loaded, and leave what they brought out of all later collections.

    Where all were loaded already nothing is left out: what an earlier book has left behind would stay for good.
    """
    global _put_off
    _put_off += 1
    loaded = len(sys.modules)
    try:
        yield
    finally:
        if len(sys.modules) > loaded:
            gc.freeze()
        _put_off -= 1


class Tidying(QObject):
    """Collects when the window has nothing else to do, as often as Python would; asleep it costs nothing."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        _OPEN.add(id(self))
        gc.disable()
        dispatcher = QAbstractEventDispatcher.instance()
        if dispatcher is not None:
            dispatcher.aboutToBlock.connect(self.look)

    def look(self) -> None:
        """Collect what is due: the oldest generation that has passed its threshold, as Python's collector does."""
        for generation in (2, 1, 0) if not _put_off else ():
            if gc.get_count()[generation] > gc.get_threshold()[generation]:
                gc.collect(generation)
                return

    def end(self) -> None:
        """Leave collecting to Python again; to be called once no other thread is at work; twice does no harm."""
        if id(self) not in _OPEN:
            return
        dispatcher = QAbstractEventDispatcher.instance()
        if dispatcher is not None:
            dispatcher.aboutToBlock.disconnect(self.look)
        _OPEN.discard(id(self))
        if not _OPEN:
            gc.enable()
