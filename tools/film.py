"""Films Heron's evening into docs/evening.webp, offscreen: every step really tested, then what came of it."""

from __future__ import annotations

import tempfile
from pathlib import Path

from PIL import Image
from PySide6.QtCore import Qt
from PySide6.QtGui import QImage
from PySide6.QtWidgets import QApplication
from tools.screenshots import FOLDER, Camera, at_home_in

from yondle.app.machine.machines import choose_rig
from yondle.app.session.opening import create_logbook
from yondle.desktop.shell.rooms import NAMES
from yondle.desktop.shell.window import MainWindow

WIDTH, QUALITY, MOST_BYTES = 960, 72, 2_000_000
STEP_MS, PLACE_MS = 700, 2500
PLACES = ("Scaling", "Map", "Traces", "Compare")


class Film:
    """Pictures of a window one after the other, each shown for a time of its own."""

    def __init__(self) -> None:
        self._frames: list[Image.Image] = []
        self._shown_ms: list[int] = []

    def take(self, window: MainWindow, shown_ms: int) -> None:
        """Take another picture, once everything has found its place."""
        for _ in range(8):
            QApplication.processEvents()
        small = window.grab().toImage().scaledToWidth(WIDTH, Qt.TransformationMode.SmoothTransformation)
        small = small.convertToFormat(QImage.Format.Format_RGB888)
        size = (small.width(), small.height())
        self._frames.append(Image.frombytes("RGB", size, bytes(small.constBits()), "raw", "RGB", small.bytesPerLine()))
        self._shown_ms.append(shown_ms)

    def write(self, path: Path) -> None:
        """Write it as an animated WebP that runs for ever."""
        first, *others = self._frames
        first.save(
            path, save_all=True, append_images=others, duration=self._shown_ms, loop=0, quality=QUALITY, method=6
        )
        size = path.stat().st_size
        print(f"{path}: {len(self._frames)} pictures, {size / 1e6:.2f} MB")
        if size > MOST_BYTES:
            raise SystemExit("The film is too large: lower its quality, or its width.")


def main() -> None:
    """Run the evening in the window, and film it."""
    with tempfile.TemporaryDirectory() as home:
        at_home_in(Path(home))
        camera, film = Camera(FOLDER, Path(home)), Film()
        book = Path(home) / "heron.yondle"
        create_logbook(book, choose_rig("heron")).close()
        with camera.window() as window:
            camera.open(window, book, None)
            tune = window.tune
            assert tune is not None
            film.take(window, PLACE_MS)
            tune.run_evening()
            camera.until(lambda: window.bridge.busy)
            while window.bridge.busy:
                known = len(tune.book.now.steps)
                camera.until(lambda known=known: len(tune.book.now.steps) > known or not window.bridge.busy)
                film.take(window, STEP_MS)
            tune.actions_by_name["dismiss"].trigger()
            film.take(window, PLACE_MS)
            for name in PLACES:
                window.go_to(NAMES.index(name))
                camera.until(lambda: getattr(window.places.currentWidget(), "complete", True))
                film.take(window, PLACE_MS)
        film.write(FOLDER.parent / "evening.webp")


if __name__ == "__main__":
    main()
