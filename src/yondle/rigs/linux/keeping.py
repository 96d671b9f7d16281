"""What this machine keeps over restarts, as the service that does so has written it down, and the way to tell it."""

from __future__ import annotations

import json
import subprocess
from collections.abc import Mapping
from pathlib import Path
from typing import Any

from yondle.language.saying import later, named, say
from yondle.model.errors import KnownError
from yondle.model.kept import Incident, KeptNow
from yondle.rigs.linux.knobs import offered
from yondle.rigs.linux.privilege import find_keeping
from yondle.rigs.linux.root.helper import kept
from yondle.rigs.linux.root.helper.interfaces import read
from yondle.rigs.linux.root.helper.keeping import NOT_THE_KERNELS

_WITHIN_S = 120.0
_WORDS = {
    "the machine went down before it had borne the settings": later(
        "the machine went down within ten minutes after the settings were set"
    ),
    "the machine went down, or lost its power": later("the machine went down, or lost its power"),
    "the machine went down twice within a week": later("the machine went down twice within a week"),
}
"""What the service says of restarts that nobody ordered; all else are words of the kernel."""


class ThisKeeper:
    """The service of this machine, reached through the authorisation service."""

    def settable(self) -> frozenset[str]:
        """Give the knobs that can be kept: the kernel's own, not those of an administrator's files."""
        return frozenset(knob for knob in offered().interfaces if not knob.startswith(NOT_THE_KERNELS))

    def now(self) -> KeptNow:
        """Look at what is kept."""
        return kept_now()

    def tell(self, word: str, request: Mapping[str, Any] | None = None) -> None:
        """Have it do something; raises KnownError with its reason where it doesn't."""
        way = find_keeping()
        if not way.command:
            raise KnownError(
                say("Nothing can be kept over restarts here: {why}.", why=way.missing), say("See docs/keep.md.")
            )
        try:
            done = subprocess.run(
                [*way.command, word], input=json.dumps(request or {}) + "\n", capture_output=True, text=True, timeout=_WITHIN_S,
                check=False,
            )  # fmt: skip
            answer = json.loads(done.stdout)
        except (OSError, ValueError, subprocess.TimeoutExpired) as error:
            raise KnownError(
                say("What keeps profiles over restarts doesn't answer."),
                say("Was the authorisation declined? Try again, or look at 'yondle inspect'."),
            ) from error
        if not answer.get("ok"):
            raise KnownError(
                say("It isn't kept: {why}.", why=answer.get("why", "")), say("Nothing was changed. See docs/keep.md.")
            )


def kept_now(root: Path = Path("/"), owner: int = 0) -> KeptNow:
    """Look at what is kept on this machine; what can't be believed is told as what stops it."""
    state = root / kept.STATE
    try:
        told = kept.believed(state / kept.KEPT, owner) or {}
        profiles = {
            source: (str(each["name"]), str(each["logbook"]), int(each["step"]))
            for source, each in dict(told.get("profiles", {})).items()  # type: ignore[call-overload]
        }
        stopped = kept.believed(state / kept.STOPPED, owner)
        why = said(str(stopped.get("why", ""))) if stopped is not None else ""
        night = kept.believed(state / kept.NIGHT, owner) or {}
    except (kept.Refused, AttributeError, KeyError, TypeError, ValueError) as wrong:
        profiles, why, night = {}, str(wrong), {}
    found = tuple(
        Incident(said(str(each.get("why", ""))), *(str(each.get(key, "")) for key in ("at", "name", "logbook")))
        for each in kept.incidents(root)
    )
    boot = read(root / "proc/sys/kernel/random/boot_id")
    now = [str(each["name"]) for each in lived(root, owner, boot or "") if each.get("open")]
    starts = night.get("starts")
    came_back = len(starts) if isinstance(starts, list) else 0
    return KeptNow(profiles, why, now[-1] if now else "", found, str(night.get("book", "")), came_back)


def lived(root: Path = Path("/"), owner: int = 0, boot: str = "*") -> list[dict[str, Any]]:
    """Give what kept profiles have lived through, in any boot or one, as the service wrote it.

    What can't be believed is left out.
    """
    found = []
    for file in sorted((root / kept.STATE / kept.LIVED).glob(f"{boot}-*.json")):
        try:
            told = kept.believed(file, owner)
        except kept.Refused:
            continue
        if told is not None:
            found.append(told)
    return found


def said(why: str) -> str:
    """Say in the reader's language why a profile isn't in force any more."""
    return named(_WORDS[why]) if why in _WORDS else why
