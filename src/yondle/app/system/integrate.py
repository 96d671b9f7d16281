"""Makes Yondle known to the desktop: menu entry, icons, and logbooks as a kind of file that opens by a double click.

A Debian package brings the same files to their places; this does it for one user, for a Yondle that came otherwise.
"""

from __future__ import annotations

import shutil
import subprocess
from importlib.resources import files
from pathlib import Path

from yondle.app.system.desktop_entries import PROGRAM, quoted
from yondle.formats.whole_files import folder_for_all, write_whole
from yondle.language.saying import say
from yondle.model.errors import KnownError

ID = "net.yondle.Yondle"
PLACES = {
    f"{ID}.desktop": Path("applications"),
    f"{ID}.metainfo.xml": Path("metainfo"),
    f"{ID}.mime.xml": Path("mime/packages"),
    f"{ID}.svg": Path("icons/hicolor/scalable/apps"),
    "net.yondle.logbook.svg": Path("icons/hicolor/scalable/mimetypes"),
}
"""Where each file belongs below a share folder (freedesktop.org: desktop entries, AppStream, shared MIME info, icon themes)."""
_UPDATES = (
    ("update-mime-database", "mime"),
    ("update-desktop-database", "applications"),
    ("gtk-update-icon-cache", "icons/hicolor"),
)


def integrate(share: Path, command: tuple[str, ...] = (PROGRAM,)) -> tuple[Path, ...]:
    """Put the files below a share folder, with the command that starts Yondle; raises KnownError where it can't be written."""
    made = []
    try:
        for name, folder in PLACES.items():
            target = share / folder / name
            folder_for_all(target.parent)
            text = files("yondle.integration").joinpath(name).read_text("utf-8")
            if name.endswith(".desktop"):
                words = " ".join(quoted(word) for word in command)
                text = text.replace("Exec=yondle ", f"Exec={words} ").replace("TryExec=yondle", f"TryExec={command[0]}")
            write_whole(target, text)
            made.append(target)
    except OSError as error:
        raise KnownError(
            say("{share} can't be written ({strerror}).", share=share, strerror=error.strerror),
            say("Give yourself permission."),
        ) from error
    _tell(share)
    return tuple(made)


def take_out(share: Path) -> tuple[Path, ...]:
    """Take the files away again; those that aren't there are no trouble."""
    there = [share / folder / name for name, folder in PLACES.items() if (share / folder / name).exists()]
    for path in there:
        path.unlink()
    _tell(share)
    return tuple(there)


def _tell(share: Path) -> None:
    """Have the desktop take notice, as far as its tools are installed; without them it does so at the next login."""
    for tool, folder in _UPDATES:
        found = shutil.which(tool)
        if found is not None and (share / folder).is_dir():
            subprocess.run([found, str(share / folder)], check=False, capture_output=True, timeout=30)
