"""Compression: made-up text packed and unpacked again, by zlib at level 6 or by lzma (`dense_compression`).

The text is words drawn by rank as in natural language (Zipf's law), from a vocabulary that is random but the same
everywhere. What comes back is checked against a constant; how small it got depends on the library's version and is
compared within one run only.
"""

from __future__ import annotations

import lzma
import sys
import zlib
from collections.abc import Callable

import numpy as np

from yondle.language.saying import say
from yondle.workloads.kernels.random_words import fill_words
from yondle.workloads.kernels.serve import Kernel, Place, serve
from yondle.workloads.kernels.timings import Timings

TEXT_BYTES = 2 << 20
VOCABULARY = 8192
SEED = 0x48_65_72_6F_6E
EXPECTED_CRC = 0xCDD59F04
MIB = 1 << 20
DENSE_PRESET = 1


def make_text() -> bytes:
    """Give the text, the same on every machine."""
    words = np.empty(VOCABULARY * 2, np.uint64)
    fill_words(words, np.uint64(SEED))
    vocabulary = [_word(int(a), int(b)) for a, b in words.reshape(VOCABULARY, 2)]
    by_rank = np.cumsum(1.0 / np.arange(1, VOCABULARY + 1))
    draws = np.empty(TEXT_BYTES // 4, np.uint64)
    fill_words(draws, np.uint64(SEED + 1))
    share = (draws >> np.uint64(11)).astype(np.float64) / float(1 << 53)
    ranks = np.searchsorted(by_rank, share * by_rank[-1])
    text = b" ".join(vocabulary[min(rank, VOCABULARY - 1)] for rank in ranks.tolist())
    return text[:TEXT_BYTES]


def _word(letters: int, length: int) -> bytes:
    return bytes(97 + (letters >> 5 * i) % 26 for i in range(2 + length % 8))


class Work:
    """One worker packs and unpacks the text."""

    def __init__(self, pack: Callable[[bytes], bytes], unpack: Callable[[bytes], bytes]) -> None:
        self._pack, self._unpack = pack, unpack
        self._text = make_text()
        self._packed_before: int | None = None
        self._spoil = False
        self.timings = Timings()

    def unit(self) -> tuple[float, str]:
        """Pack and unpack once; the work is in MiB of text."""
        with self.timings.timing("packing", TEXT_BYTES / MIB):
            packed = self._pack(self._text)
        if self._spoil:
            self._spoil = False
            middle = len(packed) // 2
            packed = packed[:middle] + bytes([packed[middle] ^ 1]) + packed[middle + 1 :]
        try:
            with self.timings.timing("unpacking", TEXT_BYTES / MIB):
                back = self._unpack(packed)
        except (zlib.error, lzma.LZMAError) as error:
            return 0.0, say("what was packed can't be unpacked ({error})", error=error)
        return TEXT_BYTES / MIB, self._wrong(packed, back)

    def spoil(self) -> None:
        """Flip one bit of what was packed."""
        self._spoil = True

    def _wrong(self, packed: bytes, back: bytes) -> str:
        crc, crc_packed = zlib.crc32(back), zlib.crc32(packed)
        if crc != EXPECTED_CRC:
            return say(
                "checksum of the text {crc:08x} instead of {expected_crc:08x}", crc=crc, expected_crc=EXPECTED_CRC
            )
        if self._packed_before not in (None, crc_packed):
            return say(
                "packed otherwise than before ({crc_packed:08x}, {packed_before:08x})",
                crc_packed=crc_packed,
                packed_before=self._packed_before,
            )
        self._packed_before = crc_packed
        return ""


def make_quick(place: Place) -> Work:
    """Give a worker its work with zlib."""
    return Work(lambda text: zlib.compress(text, 6), zlib.decompress)


def make_dense(place: Place) -> Work:
    """Give a worker its work with lzma."""
    return Work(lambda text: lzma.compress(text, preset=DENSE_PRESET), lzma.decompress)


QUICK = Kernel(make_quick, {"zlib": zlib.ZLIB_RUNTIME_VERSION})
DENSE = Kernel(make_dense, {"python": ".".join(map(str, sys.version_info[:3]))})

if __name__ == "__main__":
    serve(QUICK)
