"""Writes the manual page from the commands themselves, so that it says what --help says."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import Any

import typer.main

from yondle import __version__
from yondle.cli.commands import build
from yondle.cli.help import translated
from yondle.language.preferred import VARIABLE
from yondle.language.saying import languages, say

NAME = r""".TH YONDLE 1 "" "Yondle {version}" "{manual}"
.SH {name}
yondle \- {summary}
.SH {synopsis}
.B yondle
.RI [ COMMAND ]
.RI [ ARGUMENTS ]
.SH {description}
{about}
.SH {commands}
"""


def page() -> str:
    """Give the page as roff, in the language of this run."""
    root = translated(typer.main.get_command(build(lambda _order: 0)))
    return _head() + "".join(_commands(root, "")) + _tail()


def _head() -> str:
    return NAME.format(
        version=__version__,
        manual=say("User Commands"),
        name=say("NAME"),
        summary=say("a logbook for PC tuners"),
        synopsis=say("SYNOPSIS"),
        description=say("DESCRIPTION"),
        about=_roff(
            say(
                "You change one setting, Yondle tests it, tells a gain from noise, writes everything down, and puts the "
                "machine back when the setting fails. Without a command it opens the window."
            )
        ),
        commands=say("COMMANDS"),
    )


def _tail() -> str:
    codes = (
        ("0", say("done")),
        ("1", say("a fault of the program; its log says more")),
        ("2", say("something that can be put right, with a sentence that says what")),
        ("3", say("it didn't hold: step and again with --strict, and watch")),
        ("130", say("stopped by Ctrl+C")),
    )
    files = (
        ("$XDG_DATA_HOME/yondle", say("logbooks made without naming a place")),
        ("$XDG_STATE_HOME/yondle/log", say("the log of faults")),
    )
    variables = (
        ("YONDLE_SCHEME", say("forces a colour scheme: paper or night")),
        (
            VARIABLE,
            say("chooses the language: {languages}; else the language of the system", languages=", ".join(languages())),
        ),
    )
    sections = ((say("EXIT STATUS"), codes, "B"), (say("FILES"), files, "I"), (say("ENVIRONMENT"), variables, "B"))
    return "".join(
        f".SH {heading}\n" + "".join(f".TP\n.{face} {_roff(name)}\n{_roff(words)}\n" for name, words in rows)
        for heading, rows, face in sections
    )


def _commands(group: Any, before: str) -> list[str]:
    parts = []
    for name, command in sorted(group.commands.items()):
        whole = f"{before}{name}"
        if getattr(command, "commands", None):
            parts += _commands(command, f"{whole} ")
            continue
        arguments = [p for p in command.params if p.param_type_name == "argument"]
        shown = " ".join(p.name.upper() for p in arguments)
        parts.append(f".SS yondle {_roff(whole)} {_roff(shown)}\n{_roff(command.help or '')}\n")
        for each in command.params:
            told = getattr(each, "help", None)
            if each.param_type_name == "argument":
                parts += [f".TP\n.I {_roff(each.name.upper())}\n{_roff(told)}\n"] if told else []
            elif "--help" not in each.opts:
                names = ", ".join([*each.opts, *each.secondary_opts])
                parts.append(f".TP\n.B {_roff(names)}\n{_roff(told or '')}\n")
    return parts


def _roff(text: str) -> str:
    words = re.sub(r"\s+", " ", text).strip().replace("\\", "\\e").replace("-", "\\-")
    return "\\&" + words if words.startswith((".", "'")) else words


def main() -> None:
    """Write the page."""
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("into", type=Path)
    into: Path = parser.parse_args().into
    into.parent.mkdir(parents=True, exist_ok=True)
    into.write_text(page(), "utf-8")


if __name__ == "__main__":
    main()
