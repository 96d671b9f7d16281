"""Installs and removes what runs as root: the helper, the service that keeps profiles, and the policy both are asked by.

Nothing is enabled by installing it: the service is when the first profile is to be kept.
"""

from __future__ import annotations

import os
import shutil
import stat
import subprocess
import sys
from pathlib import Path

from yondle.formats.whole_files import folder_for_all, write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.rigs.linux.privilege import LOCAL, PACKAGED, SOURCE, UNITS, HelperPlace, parts_of
from yondle.rigs.linux.root.helper.kept import STATE

STARTER = """#!{python} -IB
import runpy

runpy.run_path({runs!r}, run_name="__main__")
"""
UNIT_TEXT = """[Unit]
Description=Yondle keeps a profile in force
ConditionPathExists=/var/lib/yondle/kept.json
ConditionKernelCommandLine=!yondle.keep=0

[Service]
ExecStart={keeps}
ExecStopPost={keeps} ended
StateDirectory=yondle
RuntimeDirectory=yondle-helper
RuntimeDirectoryMode=0700
RuntimeDirectoryPreserve=yes
MemoryMax=64M
NoNewPrivileges=yes
PrivateNetwork=yes
PrivateTmp=yes
ProtectHome=yes
ProtectSystem=strict
RestrictRealtime=yes
RestrictSUIDSGID=yes
SystemCallArchitectures=native
TimeoutStopSec=20

[Install]
WantedBy=multi-user.target
"""
NIGHT_TEXT = """[Unit]
Description=Yondle brings a plan back
ConditionPathExists=/var/lib/yondle/night.json
ConditionKernelCommandLine=!yondle.keep=0

[Service]
ExecStart={keeps} go
KillMode=mixed
TimeoutStopSec=60

[Install]
WantedBy=multi-user.target
"""
"""Both as systemd.unit(5), systemd.exec(5) and systemd.service(5) describe; the plan runs with its owner's rights."""
POLICY_TEXT = """<?xml version="1.0" encoding="UTF-8"?>
<!DOCTYPE policyconfig PUBLIC "-//freedesktop//DTD polkit Policy Configuration 1.0//EN"
 "http://www.freedesktop.org/software/polkit/policyconfig-1.dtd">
<policyconfig>
  <action id="{action}">
    <description>Set clocks, limits and switches of this machine, and read its power and errors</description>
    <description xml:lang="de">Takte, Grenzen und Schalter dieses Rechners setzen, Leistung und Fehler lesen</description>
    <message>Yondle wants to set clocks, limits and switches, and to read power and errors. It puts back what it sets.</message>
    <message xml:lang="de">Yondle möchte Takte und Grenzen setzen, Leistung und Fehler lesen. Es stellt alles zurück.</message>
    <defaults>
      <allow_any>no</allow_any>
      <allow_inactive>no</allow_inactive>
      <allow_active>auth_admin_keep</allow_active>
    </defaults>
    <annotate key="org.freedesktop.policykit.exec.path">{helper}</annotate>
  </action>
  <action id="{action}.keep">
    <description>Keep settings of this machine in force over restarts</description>
    <description xml:lang="de">Einstellungen dieses Rechners über Neustarts hinweg in Kraft halten</description>
    <message>Yondle wants to set what this machine is at after every start, or to end that.</message>
    <message xml:lang="de">Yondle möchte bestimmen, worauf dieser Rechner nach jedem Start steht, oder das beenden.</message>
    <defaults>
      <allow_any>no</allow_any>
      <allow_inactive>no</allow_inactive>
      <allow_active>auth_admin</allow_active>
    </defaults>
    <annotate key="org.freedesktop.policykit.exec.path">{keeps}</annotate>
  </action>
</policyconfig>
"""
"""As polkit(8) describes; the person at the machine is asked for an administrator's word, others can't."""


_UNIT_TEXTS = dict(zip(UNITS, (UNIT_TEXT, NIGHT_TEXT), strict=True))


def install(root: Path = Path("/")) -> list[Path]:
    """Copy the helper's folder, write what starts it and its policy; gives the files. Raises KnownError without the right to.

    It runs on the Python that installs it, where nobody but root could have changed that; else on the system's.
    """
    _must_be_root(root)
    return _installed(LOCAL, root, _python())


def install_packaged(root: Path) -> list[Path]:
    """Put what a package of the system holds of it below a folder; it runs on the system's Python."""
    return _installed(PACKAGED, root, "/usr/bin/python3")


def _installed(place: HelperPlace, root: Path, python: str) -> list[Path]:
    at = place.below(root)
    texts = {at.folder / name: text for name, text in parts_of(SOURCE).items()}
    policy = POLICY_TEXT.format(helper=place.starts, action=place.action, keeps=place.keeps)
    try:
        folder_for_all(at.folder.parent)
        _must_be_safe(at.folder.parent)
        _taken_away(at.folder)
        for path, text, mode in (
            *((path, text, 0o644) for path, text in texts.items()),
            (at.starts, STARTER.format(python=python, runs=str(place.folder)), 0o755),
            (at.keeps, STARTER.format(python=python, runs=str(place.folder / "keep.py")), 0o755),
            *((at.units / name, text.format(keeps=place.keeps), 0o644) for name, text in _UNIT_TEXTS.items()),
            (at.policy, policy, 0o644),
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
    _reload(root)
    return [*texts, at.starts, at.keeps, *(at.units / name for name in UNITS), at.policy]


def remove(root: Path = Path("/")) -> list[Path]:
    """Remove all of it that `install` has put there, and what was kept over restarts; gives what was there."""
    _must_be_root(root)
    at, state = LOCAL.below(root), root / STATE
    units = [at.units / name for name in UNITS if (at.units / name).exists()]
    for unit in units:
        _systemctl(root, "disable", "--now", unit.name)
    gone = [path for path in (at.starts, at.keeps, *units, at.policy) if path.exists()]
    for path in gone:
        path.unlink()
    _reload(root)
    return [*gone, *_taken_away(at.folder), *_taken_away(state)]


def _reload(root: Path) -> None:
    _systemctl(root, "daemon-reload")


def _systemctl(root: Path, *words: str) -> None:
    """Have systemd do something, where it runs this machine; what it refuses stays as it was."""
    if root == Path("/") and Path("/run/systemd/system").is_dir():
        subprocess.run(["systemctl", "--quiet", *words], capture_output=True, check=False)


def _taken_away(folder: Path) -> list[Path]:
    """Take a folder of the helper's away, where it is one and no link to another."""
    if folder.is_symlink() or not folder.is_dir():
        folder.unlink(missing_ok=True)
        return []
    shutil.rmtree(folder)
    return [folder]


def _python() -> str:
    """Name the Python the helper is to run on: this one, where only root can change it, else the system's.

    Raises KnownError where that is none that the helper can run on.
    """
    for python in (Path(os.path.realpath(sys.executable)), Path("/usr/bin/python3")):
        places = (python, *python.parents)
        if all(path.exists() and path.stat().st_uid == 0 and not path.stat().st_mode & 0o022 for path in places):
            told = subprocess.run([python, "-I", "-c", "import tomllib"], capture_output=True, check=False)
            if told.returncode == 0:
                return str(python)
    raise KnownError(
        say("There is no Python 3.11 or later that only root can change, and the helper runs as root."),
        say("Install the system's own: apt install python3, or dnf install python3."),
    )


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
