"""Takes out of an installed Qt what Yondle doesn't use: tools, other modules, and the libraries that only those need.

Run by `tools/deb.sh` on the folder a package is made of. What is kept is named here; which libraries it needs is asked of the
loader, so that none is missed.
"""

from __future__ import annotations

import re
import shutil
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

MODULES = (
    "QtCore", "QtGui", "QtWidgets", "QtSvg", "QtSvgWidgets", "QtTest", "QtDBus", "QtNetwork", "QtOpenGL", "QtOpenGLWidgets",
    "QtPrintSupport",
)  # fmt: skip
"""What Yondle and the library that draws its charts import."""
PLUGINS = (
    "platforms", "platformthemes", "platforminputcontexts", "imageformats", "iconengines", "generic", "xcbglintegrations",
    "wayland-decoration-client", "wayland-graphics-integration-client", "wayland-shell-integration",
)  # fmt: skip
PLATFORMS = ("libqxcb.so", "libqwayland", "libqoffscreen.so", "libqminimal.so")
TRANSLATED = re.compile(r"qt(base)?_(de|en)\.qm")


def slim(site: Path) -> int:
    """Take it out; gives the bytes that are gone."""
    pyside = site / "PySide6"
    before = _size(pyside)
    for path in list(pyside.iterdir()):
        if not _is_kept(path):
            _take(path)
    qt = pyside / "Qt"
    for folder in ("qml", "metatypes", "libexec", "include", "mkspecs", "doc"):
        _take(qt / folder)
    for path in list((qt / "translations").glob("*")):
        if not TRANSLATED.fullmatch(path.name):
            _take(path)
    for path in list((qt / "plugins").iterdir()):
        if path.name not in PLUGINS:
            _take(path)
    for path in list((qt / "plugins/platforms").iterdir()):
        if not path.name.startswith(PLATFORMS):
            _take(path)
    for path in list((qt / "plugins/platforminputcontexts").glob("*virtualkeyboard*")):
        _take(path)
    needed = {path.resolve() for path in _needed([*pyside.glob("*.so*"), *(qt / "plugins").rglob("*.so")], pyside)}
    for path in list((qt / "lib").iterdir()):
        if path.resolve() not in needed:
            _take(path)
    return before - _size(pyside)


def _is_kept(path: Path) -> bool:
    if path.is_dir():
        return path.name in ("Qt", "support")
    if path.name.startswith("Qt"):
        return path.suffix == ".so" and path.name.partition(".")[0] in MODULES
    return path.suffix == ".py" or (".so" in path.name and "qml" not in path.name)


def _needed(files: list[Path], inside: Path) -> Iterator[Path]:
    """Give the libraries inside that some files need, and what these need in turn."""
    for file in files:
        told = subprocess.run(["ldd", str(file)], capture_output=True, text=True, check=False).stdout
        for place in re.findall(r"=> (\S+)", told):
            if inside in Path(place).resolve().parents:
                yield Path(place)


def _take(path: Path) -> None:
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path)
    else:
        path.unlink(missing_ok=True)


def _size(folder: Path) -> int:
    return sum(path.stat().st_size for path in folder.rglob("*") if path.is_file() and not path.is_symlink())


if __name__ == "__main__":
    print(f"Left out {slim(Path(sys.argv[1]).resolve()) >> 20} MiB of Qt that isn't used")
