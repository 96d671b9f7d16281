"""How a bench is reached: its address, the system's ssh, and what ssh says when it can't, in words that help."""

from __future__ import annotations

import re
from dataclasses import dataclass

from yondle.language.preferred import TEMPERATURES, VARIABLE
from yondle.language.saying import LANGUAGE, say
from yondle.model.errors import KnownError
from yondle.model.quantities import FAHRENHEIT

SCHEME = "ssh://"
CONNECTS_WITHIN_S, ALIVE_EVERY_S, ALIVE_TIMES = 10, 5, 3
_PARTS = re.compile(
    r"ssh://(?:(?P<user>[A-Za-z0-9_][A-Za-z0-9_.-]{0,63})@)?(?P<host>[A-Za-z0-9_][A-Za-z0-9_.-]{0,253}|\[[0-9A-Fa-f:.%a-z]{2,64}\])"
    r"(?::(?P<port>[0-9]{1,5}))?(?P<program>/[A-Za-z0-9_./+-]{1,500})?"
)


@dataclass(frozen=True, slots=True)
class Address:
    """Where a bench is: a host that ssh knows, perhaps a user and a port, and the path of Yondle's program there."""

    host: str
    user: str = ""
    port: int = 0
    program: str = ""

    @property
    def target(self) -> str:
        """As ssh takes it."""
        return f"{self.user}@{self.host}" if self.user else self.host

    def __str__(self) -> str:
        host = f"[{self.host}]" if ":" in self.host else self.host
        return (
            f"{SCHEME}{self.user + '@' if self.user else ''}{host}{f':{self.port}' if self.port else ''}{self.program}"
        )

    def command(self) -> tuple[str, ...]:
        """Give the command that starts the agent there; it never asks anything, since nobody would see the question."""
        port = ("-p", str(self.port)) if self.port else ()
        options = (
            "BatchMode=yes", f"ConnectTimeout={CONNECTS_WITHIN_S}", f"ServerAliveInterval={ALIVE_EVERY_S}",
            f"ServerAliveCountMax={ALIVE_TIMES}", "ForwardAgent=no", "ForwardX11=no", "ClearAllForwardings=yes",
            "PermitLocalCommand=no", "RequestTTY=no", "ControlMaster=no", "ControlPath=none",
        )  # fmt: skip
        given = (word for option in options for word in ("-o", option))
        return (
            "ssh",
            "-T",
            *given,
            *port,
            "--",
            self.target,
            "env",
            f"{VARIABLE}={LANGUAGE}",
            f"{TEMPERATURES}={'F' if FAHRENHEIT else 'C'}",
            self.program or "yondle",
            "agent",
        )


def address_of(text: str) -> Address:
    """Read an address; raises KnownError for what is none."""
    parts = _PARTS.fullmatch(text.strip())
    if parts is None or int(parts["port"] or 1) not in range(1, 65536):
        raise KnownError(
            say("'{text}' is no address of a bench.", text=text[:200]),
            say("Write it as ssh://user@host, with :port and /path/to/yondle behind it where they are needed."),
        )
    return Address(parts["host"].strip("[]"), parts["user"] or "", int(parts["port"] or 0), parts["program"] or "")


def why_not(address: Address, said: str, code: int | None) -> tuple[str, str, bool]:
    """Give what stands against a line in words, what to do about it, and whether it may be over by itself.

    `said` is what ssh wrote, `code` what it ended with; a bench that is starting says nothing, or refuses for a while.
    """
    at = address.target
    if code is None and not said:
        return say("{at} doesn't answer.", at=at), say("Is it switched on, and on the network?"), True
    if "booting up" in said or "shut down" in said:
        return say("{at} is starting, or shutting down.", at=at), say("Wait until that is over."), True
    if "REMOTE HOST IDENTIFICATION HAS CHANGED" in said:
        return (
            say("{at} shows another key than it did before.", at=at),
            say(
                "If it was set up anew, take the old key out (ssh-keygen -R {host}) and log in once by hand.",
                host=address.host,
            ),
            False,
        )
    if "Host key verification failed" in said:
        return (
            say("The key of {at} isn't known here yet.", at=at),
            say("Log in once by hand and compare its key:  ssh {at}", at=at),
            False,
        )
    if "Permission denied" in said or "Too many authentication failures" in said:
        return (
            say("{at} lets nobody in with the keys there are here.", at=at),
            say("Put yours there:  ssh-copy-id {at}", at=at),
            False,
        )
    if "Could not resolve hostname" in said:
        return (
            say("No machine is known by the name of {host}.", host=address.host),
            say("See that the name is right, and that this computer is on the network."),
            True,
        )
    if code == 127 or "command not found" in said or "No such file or directory" in said:
        return (
            say("Yondle isn't on {at}, or not where a login finds it.", at=at),
            say("Install it there, or write its path behind the address: ssh://{at}/opt/yondle/bin/yondle", at=at),
            False,
        )
    if "No such command" in said:
        return (
            say("The Yondle on {at} is of a version without an agent.", at=at),
            say("Install the same version there as here."),
            False,
        )
    last = next((each.strip() for each in reversed(said.splitlines()) if each.strip()), "").removeprefix("ssh: ")
    if any(
        each in said
        for each in (
            "Connection refused",
            "timed out",
            "No route",
            "unreachable",
            "Connection reset",
            "closed by",
            "not responding",
        )
    ):
        return (
            say("{at} can't be reached: {last}.", at=at, last=last.rstrip(".")),
            say("Is it switched on, and on the network?"),
            True,
        )
    if last:
        return (
            say("The agent on {at} doesn't start: {last}.", at=at, last=last.rstrip(".")[:300]),
            say("See docs/bench.md."),
            False,
        )
    return say("The line to {at} ended.", at=at), say("Is it switched on, and on the network?"), True
