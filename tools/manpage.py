"""Writes the manual page from the commands themselves, so that it says what --help says."""

from __future__ import annotations

import argparse
import re
from pathlib import Path
from typing import Any

import typer.main

from yondle import __version__
from yondle.cli.commands import build

HEAD = """.TH YONDLE 1 "" "Yondle {version}" "User Commands"
.SH NAME
yondle \\- a field book for PC tuners
.SH SYNOPSIS
.B yondle
.RI [ COMMAND ]
.RI [ ARGUMENTS ]
.SH DESCRIPTION
You change one setting, Yondle tests it, tells a gain from noise, writes everything down, and puts the machine back when the
setting fails. Without a command it opens the window.
.SH COMMANDS
"""
TAIL = """.SH EXIT STATUS
.TP
.B 0
done
.TP
.B 1
a fault of the program; its log says more
.TP
.B 2
something that can be put right, with a sentence that says what
.TP
.B 3
it didn't hold: \\fBstep\\fR and \\fBagain\\fR with \\fB\\-\\-strict\\fR, and \\fBwatch\\fR
.TP
.B 130
stopped by Ctrl+C
.SH FILES
.TP
.I $XDG_DATA_HOME/yondle
field books made without naming a place
.TP
.I $XDG_STATE_HOME/yondle/log
the log of faults
.SH ENVIRONMENT
.TP
.B YONDLE_SCHEME
.I paper
or
.I night
forces a colour scheme
"""


def page() -> str:
    """Give the page as roff."""
    root = typer.main.get_command(build(lambda _order: 0))
    return HEAD.format(version=__version__) + "".join(_commands(root, "")) + TAIL


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
    parser.parse_args().into.write_text(page(), "utf-8")


if __name__ == "__main__":
    main()
