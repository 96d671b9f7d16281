"""The help of the commands in the user's language: ours is looked up once more, the command library's comes from our catalogue."""

from __future__ import annotations

import gettext
import inspect
import os
from typing import Any

from yondle.language.saying import CATALOGUES, DOMAIN, ENGLISH, LANGUAGE, later, named

OF_THE_LIBRARY = (
    later("Usage:"), later("Options"), later("Arguments"), later("Commands"), later("required"), later("default: {default}"),
    later("Error: {message}"), later("Try '{command} {option}' for help."), later("Missing command."), later("Missing argument"),
    later("Missing option"), later("Missing parameter"), later("No such option {name!r}."), later("No such command {name!r}."),
    later("Did you mean {possibility}?"), later("Got unexpected extra argument ({args})"),
    later("Got unexpected extra arguments ({args})"), later("Invalid value: {message}"),
    later("Invalid value for {param_hint}: {message}"), later("Option {name!r} requires an argument."),
    later("Option {name!r} does not take a value."), later("{value!r} is not {choice}."),
    later("{value} is not in the range {range}."), later("{value!r} is not a valid {number_type}."), later("Aborted!"),
    later("Show this message and exit."),
)  # fmt: skip
"""What the command library (Click) says itself; it looks it up by gettext, too."""


def translated(command: Any) -> Any:
    """Put the help of a command and of those below it into the user's language; gives the command."""
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
    for inner in getattr(command, "commands", {}).values():
        _translate(inner)
