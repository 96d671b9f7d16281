"""The help of the commands in the user's language: ours is looked up here, the command library's comes from our catalogue."""

from __future__ import annotations

import gettext
import inspect
import os
from typing import Any

from yondle.language.saying import CATALOGUES, DOMAIN, ENGLISH, LANGUAGE, later, named

OF_THE_LIBRARY = (
    later("Options"), later("Arguments"), later("Commands"), later("required"), later("default: {default}"),
    later("Missing command."), later("No such command {name!r}."), later("Aborted!"), later("Show this message and exit."),
)  # fmt: skip
"""What the command library (Typer) looks up by gettext. The rest of what it says of a wrong command line stays English."""


def translated(command: Any) -> Any:
    """Put the help of a command and of those below it into the user's language; gives the command.

    Commands that are made only when they are asked for are put into it as they are made, so none is made here.
    """
    if LANGUAGE == ENGLISH:
        return command
    os.environ["LANGUAGE"] = LANGUAGE
    gettext.bindtextdomain(DOMAIN, str(CATALOGUES))
    gettext.textdomain(DOMAIN)
    _translate(command)
    return command


def _translate(command: Any) -> None:
    command.help = named(inspect.cleandoc(command.help or ""))
    for parameter in command.params:
        if getattr(parameter, "help", None):
            parameter.help = named(inspect.cleandoc(parameter.help))
    below = getattr(command, "commands", {})
    for inner in below.values() if isinstance(below, dict) else ():
        _translate(inner)
