"""The life of an open logbook and the one table of its transitions; `python -m yondle.app.session.life` prints it."""

from __future__ import annotations

from enum import Enum

from yondle.model.transitions import Transitions


class Life(Enum):
    """What the owner of a logbook is doing with it."""

    CLOSED = "closed"
    OPENING = "opening"
    AT_REST = "at rest"
    RUNNING = "running"
    WAITING = "waiting for values entered by hand"
    CLOSING = "closing"


class LifeEvent(Enum):
    """What moves it from state to state."""

    OPEN = "open"
    ORDER = "order"
    CLOSE = "close"
    REST = "rests"
    WAIT = "waits"
    SHUT = "no logbook is open"


TRANSITIONS = Transitions(
    {
        (Life.CLOSED, LifeEvent.OPEN): Life.OPENING,
        (Life.CLOSED, LifeEvent.ORDER): Life.RUNNING,
        (Life.OPENING, LifeEvent.REST): Life.AT_REST,
        (Life.OPENING, LifeEvent.WAIT): Life.WAITING,
        (Life.OPENING, LifeEvent.SHUT): Life.CLOSED,
        (Life.AT_REST, LifeEvent.ORDER): Life.RUNNING,
        (Life.AT_REST, LifeEvent.CLOSE): Life.CLOSING,
        (Life.WAITING, LifeEvent.ORDER): Life.RUNNING,
        (Life.WAITING, LifeEvent.CLOSE): Life.CLOSING,
        (Life.RUNNING, LifeEvent.REST): Life.AT_REST,
        (Life.RUNNING, LifeEvent.WAIT): Life.WAITING,
        (Life.RUNNING, LifeEvent.SHUT): Life.CLOSED,
        (Life.CLOSING, LifeEvent.SHUT): Life.CLOSED,
    }
)


if __name__ == "__main__":
    print(TRANSITIONS.table())
