"""Says what is to be kept over restarts, after an administrator's word: `set` with a request on its input, `off`, `again`.

`night` allows a plan to go on over restarts, with a request of its own (`nights.py`); `go` is what the service of that runs,
`ended` what is run after the service that keeps profiles has ended in any way.

A request is one JSON object: {"for": "mains", "profile": {"name": "daily", "logbook": "5f0c…", "step": 12, "values":
{"core_clock_most": 4425.0}}, "instead": false}; for the battery, or for both. The answer is {"ok": true, "kept": {…}} or
{"ok": false, "why": "…"}. Values are held against the ranges and the ceilings of the helper, here and again at every start.
"""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

from .found import find
from .keeper import SET_IN, ended
from .kept import (
    FORMAT,
    KEPT,
    LARGEST_FILE,
    MARK,
    NIGHT,
    SOURCES,
    STATE,
    STOPPED,
    Refused,
    ceilings,
    checked,
    durable,
    forget,
    hardware,
    incidents,
    load,
    profile_of,
)
from .nights import go_on, night_of

UNIT, NIGHT_UNIT = "yondle-keep.service", "yondle-night.service"
NOT_THE_KERNELS = "own_"
"""Knobs by an administrator's files are set while Yondle runs, not at every start: what is in those files may change."""


def main(arguments: list[str], root: Path, owner: int = 0) -> None:
    """Do what is asked and print the answer."""
    if arguments in (["go"], ["ended"]):
        (go_on if arguments == ["go"] else ended)(root, owner)
        return
    try:
        answer = {"ok": True, "kept": _do(arguments, root, owner)}
    except (Refused, ValueError, RecursionError) as why:
        answer = {"ok": False, "why": str(why)}
    except (OSError, subprocess.SubprocessError) as error:
        answer = {"ok": False, "why": f"it was refused: {error}"}
    print(json.dumps(answer))
    sys.exit(0 if answer["ok"] else 1)


def _do(arguments: list[str], root: Path, owner: int) -> dict[str, object]:
    if not (root / "run/systemd/system").is_dir():
        raise Refused("this machine wasn't started by systemd, so nothing would set it at the next start")
    state = root / STATE
    match arguments:
        case ["set"]:
            kept = _set(sys.stdin.buffer.readline(LARGEST_FILE), root, owner)
            _write(root, kept)
            _system("enable", UNIT)
            _system("restart", UNIT)
            return dict(kept)
        case ["off"]:
            for unit in (UNIT, NIGHT_UNIT):
                _system("disable", "--now", unit)
            for file in (state / KEPT, state / STOPPED, state / MARK, state / NIGHT, root / SET_IN):
                forget(file)
            return {}
        case ["again"]:
            kept = load(root, owner)
            if not kept:
                raise Refused("nothing is kept")
            _write(root, kept)
            _system("restart", UNIT)
            return dict(kept)
        case ["night"]:
            uid = int(os.environ.get("PKEXEC_UID", os.getuid()))
            durable(state / NIGHT, night_of(json.loads(sys.stdin.buffer.readline(LARGEST_FILE)), uid))
            _system("enable", NIGHT_UNIT)
            return {}
        case _:
            raise Refused("what is to be done is set, off, again or night")


def _set(line: bytes, root: Path, owner: int) -> dict[str, dict[str, object]]:
    """Take a request; raises Refused for what can't be kept, so that nothing is written."""
    told = json.loads(line)
    if not isinstance(told, dict) or set(told) != {"for", "profile", "instead"} or type(told["instead"]) is not bool:
        raise Refused("a request says for what, which profile, and whether instead of another's")
    sources = SOURCES if told["for"] == "both" else (told["for"],)
    if not all(isinstance(each, str) and each in SOURCES for each in sources):
        raise Refused("a profile is kept for mains, battery or both")
    profile = profile_of(told["profile"])
    values, interfaces, limits = profile["values"], find(root, owner), ceilings(root, owner)
    assert isinstance(values, dict)
    for knob, value in values.items():
        if knob not in interfaces or knob.startswith(NOT_THE_KERNELS):
            raise Refused(f"{knob} is no knob that can be kept here")
        try:
            values[knob] = checked(interfaces[knob], value, limits, found_is_legal=False)
        except Refused as why:
            raise Refused(f"{knob}: {why}") from why
    try:
        kept = load(root, owner)
    except Refused:
        if not told["instead"]:
            raise
        kept = {}
    others = {kept[each]["name"] for each in sources if each in kept and kept[each]["logbook"] != profile["logbook"]}
    if others and not told["instead"]:
        raise Refused(f"another logbook keeps '{others.pop()}'")
    return {**kept, **dict.fromkeys(sources, profile)}


def _write(root: Path, kept: dict[str, dict[str, object]]) -> None:
    state, seen = root / STATE, len(incidents(root))
    durable(state / KEPT, {"format": FORMAT, "hardware": hardware(root), "seen": seen, "profiles": kept})
    for file in (state / STOPPED, state / MARK):
        forget(file)


def _system(*words: str) -> None:
    done = subprocess.run(["/usr/bin/systemctl", "--quiet", *words], capture_output=True, text=True, check=False)
    if done.returncode != 0:
        raise Refused(done.stderr.strip() or f"systemctl {words[0]} failed")
