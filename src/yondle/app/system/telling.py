"""Tells the desktop over its session bus: how a long test ended, in a notification that leads back, and how far one has come.

Notifications follow the Desktop Notifications Specification 1.2. Progress goes out as the launcher entry signal that docks and
taskbars listen to (`com.canonical.Unity.LauncherEntry`); nobody has to. Without a session bus, or a program that shows
notifications, nothing happens. The bus is spoken to by a thread of its own, which sleeps unless something is told or clicked.
"""

from __future__ import annotations

import contextlib
import os
import selectors
import socket
import threading
from collections import deque
from collections.abc import Callable
from html import escape
from typing import TYPE_CHECKING, Any

from yondle.language.saying import say

if TYPE_CHECKING:
    from jeepney import Message
    from jeepney.io.blocking import DBusConnection

APP = "net.yondle.Yondle"
SERVICE, PATH = "org.freedesktop.Notifications", "/org/freedesktop/Notifications"
LAUNCHER, LAUNCHER_PATH = "com.canonical.Unity.LauncherEntry", "/net/yondle/Yondle"
END_WITHIN_S = 5.0


class DesktopTeller:
    """One for the program. `clicked` is called, in its thread, with the key of a notification that was clicked."""

    def __init__(self, clicked: Callable[[str], None]) -> None:
        self._clicked = clicked
        self._jobs: deque[Callable[[DBusConnection], None]] = deque()
        self._shown: dict[int, str] = {}
        self._wake, self._woken = socket.socketpair()
        self._ending = False
        self._thread: threading.Thread | None = None

    def notify(self, title: str, words: str, key: str, sound: bool = False) -> None:
        """Show a notification that a click on leads back from."""
        call = _notification(title, words, ["default", say("Show it")], sound)

        def send(bus: DBusConnection) -> None:
            reply = bus.send_and_get_reply(call, timeout=END_WITHIN_S)
            if reply.header.message_type.name == "method_return":
                self._shown[reply.body[0]] = key

        self._do(send)

    def progress(self, share: float | None) -> None:
        """Show on the taskbar how far a test has come, from 0 to 1; None where none runs."""
        from jeepney import DBusAddress, new_signal

        told = {"progress": ("d", share or 0.0), "progress-visible": ("b", share is not None)}
        body = (f"application://{APP}.desktop", told)
        signal = new_signal(DBusAddress(LAUNCHER_PATH, interface=LAUNCHER), "Update", "sa{sv}", body)
        self._do(lambda bus: bus.send(signal))

    def close(self) -> None:
        """Tell nothing more, and end the thread."""
        self._ending = True
        with contextlib.suppress(OSError):
            self._wake.send(b"x")
        if self._thread is not None:
            self._thread.join(END_WITHIN_S)
        self._wake.close()
        self._woken.close()

    # -- in its thread -------------------------------------------------------------------------------------------------

    def _do(self, job: Callable[[DBusConnection], None]) -> None:
        if self._ending or not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
            return
        self._jobs.append(job)
        if self._thread is None:
            self._thread = threading.Thread(target=self._run, name="telling the desktop", daemon=True)
            self._thread.start()
        self._wake.send(b"x")

    def _run(self) -> None:
        from jeepney import DBusErrorResponse, message_bus
        from jeepney.io.blocking import open_dbus_connection

        try:
            bus = open_dbus_connection("SESSION")
        except (OSError, ValueError, KeyError):
            self._ending = True
            return
        with bus, contextlib.suppress(OSError, EOFError, DBusErrorResponse):
            bus.send_and_get_reply(message_bus.AddMatch(_signals()), timeout=END_WITHIN_S)
            self._listen(bus)
        self._ending = True

    def _listen(self, bus: DBusConnection) -> None:
        with selectors.DefaultSelector() as waiting, bus.filter(_signals(), bufsize=50) as told:
            waiting.register(bus.sock, selectors.EVENT_READ)
            waiting.register(self._woken, selectors.EVENT_READ)
            while not self._ending:
                ready = {key.fileobj for key, _ in waiting.select()}
                if self._woken in ready:
                    self._woken.recv(4096)
                while self._jobs:
                    with contextlib.suppress(TimeoutError):
                        self._jobs.popleft()(bus)
                with contextlib.suppress(TimeoutError):
                    while True:
                        bus.recv_messages(timeout=0.0)
                while told:
                    self._hear(told.popleft())

    def _hear(self, message: Message) -> None:
        from jeepney import HeaderFields

        member = message.header.fields.get(HeaderFields.member)
        number = message.body[0] if message.body else 0
        if member == "ActionInvoked" and number in self._shown:
            self._clicked(self._shown[number])
        elif member == "NotificationClosed":
            self._shown.pop(number, None)


def notify(title: str, words: str) -> bool:
    """Show a notification that leads nowhere, and wait until it is taken; tells whether anybody took it."""
    from jeepney import DBusErrorResponse
    from jeepney.io.blocking import open_dbus_connection

    if not os.environ.get("DBUS_SESSION_BUS_ADDRESS"):
        return False
    try:
        with open_dbus_connection("SESSION") as bus:
            reply = bus.send_and_get_reply(_notification(title, words, [], False), timeout=END_WITHIN_S)
    except (OSError, ValueError, KeyError, EOFError, DBusErrorResponse):
        return False
    return bool(reply.header.message_type.name == "method_return")


def _notification(title: str, words: str, actions: list[str], sound: bool) -> Message:
    """Make the call; names and files in it are escaped, since its body is markup."""
    from jeepney import DBusAddress, new_method_call

    hints: dict[str, tuple[str, Any]] = {"desktop-entry": ("s", APP)}
    hints |= {"sound-name": ("s", "complete")} if sound else {"suppress-sound": ("b", True)}
    body = ("Yondle", 0, APP, title, escape(words, quote=False), actions, hints, -1)
    return new_method_call(DBusAddress(PATH, SERVICE, SERVICE), "Notify", "susssasa{sv}i", body)


def _signals() -> Any:
    from jeepney import MatchRule

    return MatchRule(type="signal", interface=SERVICE, path=PATH)
