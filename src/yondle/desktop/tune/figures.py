"""Loads the large libraries that charts and margins need, without holding the window up."""

from __future__ import annotations

import sys

from yondle.desktop.link.tidying import untidied

_POLITE_S = 0.0005
"""How soon a thread gives way while loading; the usual 5 ms add up in the window's thread."""


def load_figures() -> None:
    """Load what charts and margins need, in the worker thread, leaving the window its turn as often as can be.

    A collection of garbage over all that is being loaded would hold the window up for longer than the loading itself does
    at any one time, so none is made meanwhile, nor any later one over what is loaded by then.
    """
    usual = sys.getswitchinterval()
    sys.setswitchinterval(_POLITE_S)
    try:
        with untidied():
            import scipy.special  # noqa: F401

            import yondle.desktop.tune.score_chart  # noqa: F401
    finally:
        sys.setswitchinterval(usual)
