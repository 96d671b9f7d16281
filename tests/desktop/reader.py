"""A screen reader of the tests' own: walks what a program tells over AT-SPI, acts on it, and hears what it announces."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from typing import Any

from jeepney import DBusAddress, HeaderFields, MatchRule, Properties, message_bus, new_method_call
from jeepney.io.blocking import DBusConnection, open_dbus_connection

ACCESSIBLE, VALUE, ACTION = (f"org.a11y.atspi.{kind}" for kind in ("Accessible", "Value", "Action"))
ROOT = "/org/a11y/atspi/accessible/root"
REGISTRY = "org.a11y.atspi.Registry"
WITHIN_S = 20.0


class GoneError(Exception):
    """What was asked isn't there any more."""


@dataclass(frozen=True)
class Node:
    """One thing a program tells of."""

    reader: Reader
    bus: str
    path: str

    def call(self, interface: str, member: str, signature: str | None = None, body: tuple[Any, ...] = ()) -> Any:
        """Call one of its methods."""
        address = DBusAddress(self.path, self.bus, interface)
        return self.reader.ask(new_method_call(address, member, signature, body))

    def get(self, interface: str, name: str) -> Any:
        """Give one of its properties."""
        return self.reader.ask(Properties(DBusAddress(self.path, self.bus, interface)).get(name))[0][1]

    @property
    def name(self) -> str:
        """What it is called."""
        return str(self.get(ACCESSIBLE, "Name"))

    @property
    def role(self) -> str:
        """What it is."""
        return str(self.call(ACCESSIBLE, "GetRoleName")[0])

    def children(self) -> Iterator[Node]:
        """What stands in it."""
        for bus, path in self.call(ACCESSIBLE, "GetChildren")[0]:
            yield Node(self.reader, bus, path)

    def all(self) -> Iterator[tuple[str, str, Node]]:
        """Everything in it with its role and name, from the outside in; what goes away meanwhile is left out."""
        try:
            inside = list(self.children())
        except GoneError:
            return
        for child in inside:
            try:
                yield child.role, child.name, child
            except GoneError:
                continue
            yield from child.all()


class Reader:
    """Connected to the accessibility bus that belongs to a session bus."""

    def __init__(self, session: str) -> None:
        with open_dbus_connection(session) as bus:
            found = bus.send_and_get_reply(
                new_method_call(DBusAddress("/org/a11y/bus", "org.a11y.Bus", "org.a11y.Bus"), "GetAddress"),
                timeout=WITHIN_S,
            )
        self._bus: DBusConnection = open_dbus_connection(found.body[0])
        rule = MatchRule(type="signal", interface="org.a11y.atspi.Event.Object", member="Announcement")
        self._heard = self._bus.filter(rule, bufsize=1000)
        self._queue = self._heard.__enter__()
        self.ask(message_bus.AddMatch(rule))
        events = DBusAddress("/org/a11y/atspi/registry", REGISTRY, REGISTRY)
        self.ask(new_method_call(events, "RegisterEvent", "s", ("object:announcement",)))

    def ask(self, message: Any) -> Any:
        """Send a call; gives what was answered, and fails where an error was."""
        reply = self._bus.send_and_get_reply(message, timeout=WITHIN_S)
        if reply.header.message_type.name != "method_return":
            raise GoneError(reply.body)
        return reply.body

    def program(self, name: str) -> Node:
        """Give a program by its name, once it is there."""
        root = Node(self, REGISTRY, ROOT)
        return self.until(lambda: next((each for each in root.children() if each.name == name), None))

    def until(self, find: Callable[[], Any]) -> Any:
        """Ask again and again until there is an answer."""
        limit = time.monotonic() + WITHIN_S
        while not (found := find()):
            assert time.monotonic() < limit, "it never came"
            time.sleep(0.1)
        return found

    def heard(self) -> list[str]:
        """Give everything announced so far."""
        try:
            while True:
                self._bus.recv_messages(timeout=0.05)
        except TimeoutError:
            pass
        return [
            str(each.body[3][1]) for each in self._queue if each.header.fields[HeaderFields.member] == "Announcement"
        ]

    def close(self) -> None:
        """Leave the bus."""
        self._heard.close()
        self._bus.close()
