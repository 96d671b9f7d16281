"""Frames: off-screen pictures drawn by the graphics card through EGL, each checked for wrong pixels.

A frame draws a heavy scene, whose time is what counts, and a small picture by whole-number hashing alone, which every card
has to draw the same: it is compared with the picture the processor works out. The scene's own picture has to be the
same in every frame of a pass.
"""

from __future__ import annotations

import zlib
from collections.abc import Sequence
from importlib.metadata import version
from time import perf_counter
from typing import Any

import numpy as np
from numpy.typing import NDArray

try:
    import moderngl
except ImportError:  # there is no wheel of it for every machine
    moderngl = None  # type: ignore[assignment]

from yondle.language.saying import say
from yondle.model.pacing import pacing
from yondle.workloads.kernels.serve import CannotRun, Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings

SCENE = (1280, 720)
EXACT = (256, 256)
LOOK_AT_SCENE_EVERY = 16
_OFF_SCREEN: dict[str, Any] = {"backend": "egl", "libgl": "libGL.so.1", "libegl": "libEGL.so.1"}
_CORNERS = np.array([-1, -1, 3, -1, -1, 3], np.float32)

_VERTEX = """
#version 330
in vec2 corner;
void main() { gl_Position = vec4(corner, 0.0, 1.0); }
"""

_HASH = """
uint mixed(uint x) {
    x ^= x >> 16; x *= 0x7feb352du; x ^= x >> 15; x *= 0x846ca68bu; x ^= x >> 16;
    return x;
}
"""
"""A whole-number hash of 32 bits, exact on every card; `exact_picture` is the same in NumPy."""

_EXACT_FRAGMENT = (
    "#version 330\n"
    + _HASH
    + """
out uint value;
void main() {
    uint x = uint(gl_FragCoord.y) * 256u + uint(gl_FragCoord.x);
    for (int i = 0; i < 16; ++i) x = mixed(x + uint(i));
    value = x;
}
"""
)

_SCENE_FRAGMENT = (
    "#version 330\n"
    + _HASH
    + """
uniform vec2 size;
uniform int depth;
out vec4 colour;
float ground(vec2 p) {
    float height = 0.0, weight = 0.5;
    for (int i = 0; i < 5; ++i) {
        vec2 cell = floor(p), part = fract(p);
        part = part * part * (3.0 - 2.0 * part);
        vec4 corners;
        for (int k = 0; k < 4; ++k) {
            uint n = uint(int(cell.x) + (k & 1) + 4096) * 73856093u ^ uint(int(cell.y) + (k >> 1) + 4096) * 19349663u;
            corners[k] = float(mixed(n) >> 8) / 16777216.0;
        }
        height += weight * mix(mix(corners[0], corners[1], part.x), mix(corners[2], corners[3], part.x), part.y);
        p *= 2.03; weight *= 0.5;
    }
    return height;
}
void main() {
    vec2 p = gl_FragCoord.xy / size.y * 6.0;
    float light = 0.0;
    for (int i = 0; i < depth; ++i) {
        p += 0.37 * vec2(ground(p + float(i)), ground(p.yx - float(i)));
        light += ground(p);
    }
    colour = vec4(light / float(depth), fract(light), fract(light * 7.0), 1.0);
}
"""
)


def exact_picture() -> NDArray[np.uint32]:
    """Work out the exact picture on the processor, rows from the bottom as OpenGL has them."""
    x = np.arange(EXACT[0] * EXACT[1], dtype=np.uint32)
    with np.errstate(over="ignore"):
        for i in range(16):
            x = x + np.uint32(i)
            x ^= x >> np.uint32(16)
            x *= np.uint32(0x7FEB352D)
            x ^= x >> np.uint32(15)
            x *= np.uint32(0x846CA68B)
            x ^= x >> np.uint32(16)
    return x


class Frames:
    """Draws frames in the context of the thread it is made in."""

    def __init__(self, depth: int = 4) -> None:
        self.timings = Timings()
        self.context = _context()
        corners = self.context.buffer(_CORNERS.tobytes())
        self._scene, self._scene_target = self._picture(_SCENE_FRAGMENT, corners, SCENE, 4, "f1")
        self._exact, self._exact_target = self._picture(_EXACT_FRAGMENT, corners, EXACT, 1, "u4")
        self._scene.program["size"] = (float(SCENE[0]), float(SCENE[1]))
        self._scene.program["depth"] = depth
        self.drawn_by = {"drawn_by": self.context.info["GL_RENDERER"], "opengl": self.context.info["GL_VERSION"]}
        self._expected = exact_picture()
        self._scene_crc: int | None = None
        self._count = 0
        self._spoil = False

    def unit(self) -> tuple[float, str]:
        """Draw one frame and look it over; the work is one frame."""
        began = perf_counter()
        self._scene_target.use()
        self._scene.render(moderngl.TRIANGLES, vertices=3)
        self.context.finish()
        spent = perf_counter() - began
        self._exact_target.use()
        self._exact.render(moderngl.TRIANGLES, vertices=3)
        self._count += 1
        wrong = self._wrong_pixels() or self._scene_changed()
        self.timings.samples_s.append(spent)
        return 1.0, wrong

    def spoil(self) -> None:
        """Flip one bit of one pixel in the next picture."""
        self._spoil = True

    def _wrong_pixels(self) -> str:
        drawn = np.frombuffer(self._exact_target.read(components=1, dtype="u4"), np.uint32).copy()
        if self._spoil:
            drawn[drawn.size // 2] ^= np.uint32(1)
            self._spoil = False
        bad = np.flatnonzero(drawn != self._expected)
        if not bad.size:
            return ""
        y, x = divmod(int(bad[0]), EXACT[0])
        return say("{size} wrong pixels, first at {x}, {y}", size=bad.size, x=x, y=y)

    def _scene_changed(self) -> str:
        if self._count % LOOK_AT_SCENE_EVERY != 1:
            return ""
        crc = zlib.crc32(self._scene_target.read(components=4))
        if self._scene_crc is None:
            self._scene_crc = crc
        return "" if crc == self._scene_crc else say("the scene's picture isn't the same as before")

    def _picture(
        self, fragment: str, corners: moderngl.Buffer, size: tuple[int, int], components: int, dtype: str
    ) -> tuple[moderngl.VertexArray, moderngl.Framebuffer]:
        program = self.context.program(vertex_shader=_VERTEX, fragment_shader=fragment)
        target = self.context.framebuffer([self.context.texture(size, components, dtype=dtype)])
        return self.context.vertex_array(program, [(corners, "2f", "corner")]), target


def _context() -> moderngl.Context:
    try:
        return moderngl.create_context(standalone=True, require=330, **_OFF_SCREEN)
    except Exception as error:
        raise CannotRun(
            say("No picture can be drawn off screen here ({error}).", error=error),
            say("Install the graphics driver's EGL library."),
        ) from error


def _figure(works: Sequence[Any], work: float, seconds: float) -> tuple[float, dict[str, float]]:
    """Frames in a second of drawing; the time of looking them over doesn't count."""
    times = works[0].timings.samples_s
    if not times:
        return 0.0, {}
    paced = pacing(times, per_second=1.0)
    return paced.mean, paced.parts()


def _extras(works: Sequence[Any]) -> dict[str, Any]:
    return {**works[0].drawn_by, "frame_times_ms": [round(1e3 * t, 4) for t in works[0].timings.samples_s]}


def make(place: Place) -> Frames:
    """Give the worker its context and scene."""
    if moderngl is None:
        raise CannotRun(say("The library that draws (moderngl) isn't installed."), "pip install 'yondle[graphics]'")
    return Frames()


_FACTS = {"moderngl": version("moderngl")} if moderngl is not None else {}
KERNEL = Kernel(make, _FACTS, _figure, single=True, extras=_extras)

if __name__ == "__main__":
    serve(KERNEL)
