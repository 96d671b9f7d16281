"""A disk whose cache is lost with the power: served over NBD, what wasn't flushed is gone when the emulator is killed.

The protocol is the fixed newstyle of the NBD project's doc/proto.md, as far as an emulator needs it.
"""

from __future__ import annotations

import os
import random
import socket
import struct
import threading
from pathlib import Path

BLOCK = 4096
_MAGIC, _OPTION, _REPLY = 0x4E42444D41474943, 0x49484156454F5054, 0x3E889045565A9
_REQUEST, _ANSWER = 0x25609513, 0x67446698
_GO, _LIST_END, _ACK, _INFO, _UNSUPPORTED = 7, 0, 1, 3, 0x80000001
_READ, _WRITE, _LEAVE, _FLUSH, _TRIM = 0, 1, 2, 3, 4
_HAS_FLAGS, _SEND_FLUSH, _SEND_FUA = 1, 4, 8
_FUA = 1


class Disk:
    """An image that is never changed, the blocks that are safe on top of it, and those that a power cut would lose."""

    def __init__(self, image: Path, at: Path) -> None:
        self.at = at
        self._image = os.open(image, os.O_RDONLY)
        self.size = os.fstat(self._image).st_size
        self._safe: dict[int, bytes] = {}
        self._cached: dict[int, bytes] = {}
        self._guard = threading.Lock()
        self.lost = 0
        at.unlink(missing_ok=True)
        self._listens = socket.socket(socket.AF_UNIX)
        self._listens.bind(str(at))
        self._listens.listen()
        threading.Thread(target=self._serve, daemon=True).start()

    def cut_power(self, dice: random.Random) -> int:
        """Lose what wasn't flushed, but for some blocks that happened to be written; gives how many were lost."""
        with self._guard:
            written = {number: block for number, block in self._cached.items() if dice.random() < 0.3}
            lost = len(self._cached) - len(written)
            self._safe.update(written)
            self._cached.clear()
        self.lost += lost
        return lost

    def keep_all(self) -> None:
        """Have everything safe, as a disk does that keeps its power."""
        with self._guard:
            self._safe.update(self._cached)
            self._cached.clear()

    def close(self) -> None:
        """Serve no longer."""
        self._listens.close()
        os.close(self._image)

    def _block(self, number: int) -> bytes:
        found = self._cached.get(number) or self._safe.get(number)
        return found if found is not None else os.pread(self._image, BLOCK, number * BLOCK).ljust(BLOCK, b"\0")

    def _read(self, start: int, length: int) -> bytes:
        first, last = start // BLOCK, (start + length - 1) // BLOCK
        with self._guard:
            if not any(n in self._cached or n in self._safe for n in range(first, last + 1)):
                return os.pread(self._image, length, start).ljust(length, b"\0")
            whole = b"".join(self._block(n) for n in range(first, last + 1))
        return whole[start - first * BLOCK :][:length]

    def _write(self, start: int, data: bytes) -> None:
        with self._guard:
            at = start
            while at < start + len(data):
                number, inside = divmod(at, BLOCK)
                piece = data[at - start :][: BLOCK - inside]
                if len(piece) == BLOCK:
                    self._cached[number] = bytes(piece)
                else:
                    old = self._block(number)
                    self._cached[number] = old[:inside] + piece + old[inside + len(piece) :]
                at += len(piece)

    def _serve(self) -> None:
        while True:
            try:
                client, _ = self._listens.accept()
            except OSError:
                return
            threading.Thread(target=self._talk, args=(client,), daemon=True).start()

    def _talk(self, client: socket.socket) -> None:
        try:
            with client:
                if self._agree(client):
                    self._answer(client)
        except (OSError, struct.error, EOFError):
            return

    def _agree(self, client: socket.socket) -> bool:
        client.sendall(struct.pack(">QQH", _MAGIC, _OPTION, 3))
        _take(client, 4)
        while True:
            _, option, length = struct.unpack(">QII", _take(client, 16))
            _take(client, length)
            if option != _GO:
                client.sendall(struct.pack(">QIII", _REPLY, option, _UNSUPPORTED, 0))
                continue
            flags = _HAS_FLAGS | _SEND_FLUSH | _SEND_FUA
            client.sendall(struct.pack(">QIIIHQH", _REPLY, option, _INFO, 12, 0, self.size, flags))
            client.sendall(struct.pack(">QIII", _REPLY, option, _ACK, 0))
            return True

    def _answer(self, client: socket.socket) -> None:
        while True:
            _, flags, kind, handle, start, length = struct.unpack(">IHHQQI", _take(client, 28))
            told = b""
            if kind == _READ:
                told = self._read(start, length)
            elif kind == _WRITE:
                self._write(start, _take(client, length))
            elif kind == _LEAVE:
                return
            if kind == _FLUSH or flags & _FUA:
                self.keep_all()
            client.sendall(struct.pack(">IIQ", _ANSWER, 0, handle) + told)


def _take(client: socket.socket, length: int) -> bytes:
    pieces = bytearray()
    while len(pieces) < length:
        piece = client.recv(length - len(pieces))
        if not piece:
            raise EOFError
        pieces += piece
    return bytes(pieces)
