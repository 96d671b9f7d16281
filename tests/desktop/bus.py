"""A session bus of a test's own, and a program on it that takes notifications, as a desktop does."""

from __future__ import annotations

import subprocess
import threading
from collections.abc import Iterator
from contextlib import contextmanager
from typing import Any

from jeepney import (
    DBusAddress,
    HeaderFields,
    MatchRule,
    Message,
    MessageType,
    message_bus,
    new_method_return,
    new_signal,
)
from jeepney.io.blocking import DBusConnection, open_dbus_connection

SERVICE, PATH = "org.freedesktop.Notifications", "/org/freedesktop/Notifications"


@contextmanager
def session_bus() -> Iterator[str]:
    """Start a bus; gives its address."""
    command = ["dbus-daemon", "--session", "--nofork", "--print-address", "--nopidfile"]
    bus = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.DEVNULL, text=True)
    assert bus.stdout is not None
    try:
        yield bus.stdout.readline().strip()
    finally:
        bus.terminate()
        bus.wait()
        bus.stdout.close()


class Desktop:
    """Takes notifications and launcher entries in a thread of its own, and clicks on the last one when told to."""

    def __init__(self, address: str) -> None:
        self._bus: DBusConnection = open_dbus_connection(address)
        self._bus.send_and_get_reply(message_bus.RequestName(SERVICE))
        self._bus.send_and_get_reply(
            message_bus.AddMatch(MatchRule(type="signal", interface="com.canonical.Unity.LauncherEntry"))
        )
        self.notified: list[tuple[Any, ...]] = []
        self.signatures: list[str] = []
        self.progress: list[dict[str, Any]] = []
        self._ending = False
        self._thread = threading.Thread(target=self._run)
        self._thread.start()

    def _run(self) -> None:
        while not self._ending:
            try:
                message = self._bus.receive(timeout=0.05)
            except TimeoutError:
                continue
            self._take(message)

    def _take(self, message: Message) -> None:
        fields = message.header.fields
        if message.header.message_type is MessageType.method_call:
            self.signatures.append(fields[HeaderFields.signature])
            self.notified.append(message.body)
            self._bus.send(new_method_return(message, "u", (len(self.notified),)))
        elif fields.get(HeaderFields.member) == "Update":
            self.progress.append({name: value for name, (_, value) in message.body[1].items()})

    def click(self) -> None:
        """Click on the last notification."""
        emitter = DBusAddress(PATH, interface=SERVICE)
        self._bus.send(new_signal(emitter, "ActionInvoked", "us", (len(self.notified), "default")))

    def close(self) -> None:
        """Leave the bus."""
        self._ending = True
        self._thread.join()
        self._bus.close()
