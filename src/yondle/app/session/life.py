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


class Event(Enum):
    """What moves it from state to state."""

    OPEN = "open"
    ORDER = "order"
    CLOSE = "close"
    REST = "rests"
    WAIT = "waits"
    SHUT = "no logbook is open"


TRANSITIONS = Transitions(
    {
        (Life.CLOSED, Event.OPEN): Life.OPENING,
        (Life.CLOSED, Event.ORDER): Life.RUNNING,
        (Life.OPENING, Event.REST): Life.AT_REST,
        (Life.OPENING, Event.WAIT): Life.WAITING,
        (Life.OPENING, Event.SHUT): Life.CLOSED,
        (Life.AT_REST, Event.ORDER): Life.RUNNING,
        (Life.AT_REST, Event.CLOSE): Life.CLOSING,
        (Life.WAITING, Event.ORDER): Life.RUNNING,
        (Life.WAITING, Event.CLOSE): Life.CLOSING,
        (Life.RUNNING, Event.REST): Life.AT_REST,
        (Life.RUNNING, Event.WAIT): Life.WAITING,
        (Life.RUNNING, Event.SHUT): Life.CLOSED,
        (Life.CLOSING, Event.SHUT): Life.CLOSED,
    }
)


if __name__ == "__main__":
    print(TRANSITIONS.table())
