"""Loads the large libraries that charts and margins need, without holding the window up."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager

from yondle.desktop.link.tidying import untidied

_POLITE_S = 0.0005
"""How soon a thread gives way while loading; the usual 5 ms add up in the window's thread."""


def load_figures() -> None:
    """Load what charts and margins need, in the worker thread."""
    with _politely():
        import yondle.analysis.exposure
        import yondle.analysis.hazards
        import yondle.desktop.tune.score_chart  # noqa: F401


def load_functions() -> None:
    """Load SciPy's functions, which what is compared in rounds needs, and later places; in the worker thread."""
    with _politely():
        import scipy.special  # noqa: F401


def load_both() -> None:
    """Load the functions, then what charts need: for a book that can't be shown without either."""
    load_functions()
    load_figures()


@contextmanager
def _politely() -> Iterator[None]:
    """Leave the window its turn as often as can be.

    A collection of garbage over all that is being loaded would hold the window up for longer than the loading itself does
    at any one time, so none is made meanwhile, nor any later one over what is loaded by then.
    """
    usual = sys.getswitchinterval()
    sys.setswitchinterval(_POLITE_S)
    try:
        with untidied():
            yield
    finally:
        sys.setswitchinterval(usual)
