"""How a block of samples is packed into bytes: one float64 column of times, one float32 column per channel, deflated."""

from __future__ import annotations

import math
import zlib
from array import array
from typing import TYPE_CHECKING

from yondle.language.saying import say
from yondle.model.sensors import Reading, SampleBlock

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

LARGEST_BLOCK_BYTES = 64 * 1024 * 1024
"""What a sensor log of another program, which is one block, may take unpacked; a block of samples takes far less."""
LARGEST_TRACE_BYTES = 384 * 1024 * 1024
"""What all blocks of a trace may take together: a day of sixty sensors, ten times a second."""
MOST_DEFLATED, SMALL_BLOCK_BYTES = 100, 1 << 20
"""Blocks above this size that claim to unpack to more than so many times theirs are none of ours: the times alone of sixty
sensors that never change are a ninetieth of it."""


def pack(block: SampleBlock) -> bytes:
    """Pack a block column by column; a missing reading becomes NaN."""
    columns = [array("d", block.times_s).tobytes()]
    for i in range(len(block.channels)):
        values = (math.nan if row[i] is None else row[i] for row in block.rows)
        columns.append(array("f", [v if v is not None else math.nan for v in values]).tobytes())
    return zlib.compress(b"".join(columns), 1)


def block_bytes(channels: tuple[str, ...], samples: int) -> int:
    """Give the bytes a block takes unpacked; raises ValueError for one that can't be."""
    if not isinstance(samples, int) or samples < 0:
        raise ValueError(say("the block has the wrong length"))
    return samples * (8 + 4 * len(channels))


def unpack(channels: tuple[str, ...], samples: int, data: bytes) -> SampleBlock:
    """Unpack a block; raises ValueError when the bytes don't make one."""
    raw = _inflated(channels, samples, data)
    times = array("d")
    times.frombytes(raw[: 8 * samples])
    columns: list[tuple[Reading, ...]] = []
    for i in range(len(channels)):
        start = samples * (8 + 4 * i)
        column = array("f")
        column.frombytes(raw[start : start + 4 * samples])
        columns.append(tuple(None if math.isnan(v) else v for v in column))
    rows = tuple(zip(*columns, strict=True)) if columns else tuple(() for _ in range(samples))
    return SampleBlock(channels, tuple(times), rows)


def unpack_arrays(
    channels: tuple[str, ...], samples: int, data: bytes
) -> tuple[NDArray[np.float64], NDArray[np.float32]]:
    """Unpack a block as times, shape (samples,), and readings, shape (channels, samples), nan where there was none.

    Raises ValueError when the bytes don't make a block.
    """
    import numpy as np

    raw = _inflated(channels, samples, data)
    times = np.frombuffer(raw, np.float64, samples)
    return times, np.frombuffer(raw, np.float32, offset=8 * samples).reshape(len(channels), samples)


def _inflated(channels: tuple[str, ...], samples: int, data: bytes) -> bytes:
    expected = block_bytes(channels, samples)
    if expected > min(LARGEST_BLOCK_BYTES, max(SMALL_BLOCK_BYTES, MOST_DEFLATED * len(data))):
        raise ValueError(say("the block is larger than any that is written"))
    unpacker = zlib.decompressobj()
    try:
        raw = unpacker.decompress(data, expected + 1)
    except zlib.error as error:
        raise ValueError(say("the block is damaged")) from error
    if len(raw) != expected:
        raise ValueError(say("the block has the wrong length"))
    return raw
