"""Installs and removes the helper that runs as root, with the policy the desktop's authorisation service asks by."""

from __future__ import annotations

import os
import stat
from importlib.resources import files
from pathlib import Path

from yondle.formats.whole_files import folder_for_all, write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.rigs.linux.privilege import INSTALLED, POLICY

POLICY_TEXT = """<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE policyconfig PUBLIC "-//freedesktop//DTD polkit Policy Configuration 1.0//EN"
 "http://www.freedesktop.org/software/polkit/policyconfig-1.dtd">
<policyconfig>
  <action id="net.yondle.helper">
    <description>Set clocks, limits and switches of this machine</description>
    <description xml:lang="de">Takte, Grenzen und Schalter dieses Rechners setzen</description>
    <message>Yondle wants to set clocks, limits and switches of this machine. They are put back when it ends.</message>
    <message xml:lang="de">Yondle möchte Takte, Grenzen und Schalter setzen. Wenn es endet, werden sie zurückgestellt.</message>
    <defaults>
      <allow_any>no</allow_any>
      <allow_inactive>no</allow_inactive>
      <allow_active>auth_admin_keep</allow_active>
    </defaults>
    <annotate key="org.freedesktop.policykit.exec.path">{helper}</annotate>
  </action>
</policyconfig>
"""
"""As polkit(8) describes; the person at the machine is asked for an administrator's word, others can't."""


def install(root: Path = Path("/")) -> list[Path]:
    """Copy the helper and write its policy; gives the files. Raises KnownError without the right to."""
    _must_be_root(root)
    target, policy = _below(root, INSTALLED), _below(root, POLICY)
    source = files("yondle.rigs.linux").joinpath("helper.py").read_text("utf-8")
    try:
        for path, text, mode in (
            (target, f"#!/usr/bin/python3 -I\n{source}", 0o755),
            (policy, POLICY_TEXT.format(helper=INSTALLED), 0o644),
        ):
            folder_for_all(path.parent)
            _must_be_safe(path.parent)
            path.unlink(missing_ok=True)
            write_whole(path, text, replaces=False, mode=mode)
    except OSError as error:
        raise KnownError(
            say("The helper can't be installed ({error}).", error=error),
            say("Run it as root: sudo yondle helper install"),
        ) from error
    return [target, policy]


def remove(root: Path = Path("/")) -> list[Path]:
    """Remove both; gives what was there."""
    _must_be_root(root)
    gone = []
    for path in (_below(root, INSTALLED), _below(root, POLICY)):
        if path.exists():
            path.unlink()
            gone.append(path)
    return gone


def _must_be_safe(folder: Path) -> None:
    """Refuse a folder in which somebody else could put another file in the place of one that runs as root."""
    about = folder.stat()
    if about.st_mode & (stat.S_IWGRP | stat.S_IWOTH) and not about.st_mode & stat.S_ISVTX:
        raise KnownError(
            say(
                "{folder} may be written by others than its owner, so nothing that runs as root belongs there.",
                folder=folder,
            ),
            f"sudo chmod go-w {folder}",
        )


def _must_be_root(root: Path) -> None:
    if root == Path("/") and os.getuid() != 0:
        raise KnownError(say("Only root may do that."), "sudo yondle helper …")


def _below(root: Path, path: Path) -> Path:
    return root / path.relative_to("/")
