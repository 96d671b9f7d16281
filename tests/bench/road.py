"""A road between two hosts that can be long or cut: `python -m tests.bench.road HOST PORT`, told what to do by lines."""

from __future__ import annotations

import socket
import sys
import threading
import time
from contextlib import suppress


class Carrier:
    """Carries bytes from a port here to another host, each piece `delay_s` late."""

    def __init__(self, to: tuple[str, int]) -> None:
        self._to = to
        self.delay_s, self.carried = 0.0, 0
        self._ends: list[socket.socket] = []
        self._door = socket.create_server(("127.0.0.1", 0))
        self.port = int(self._door.getsockname()[1])
        threading.Thread(target=self._let_in, daemon=True).start()

    def cut(self) -> None:
        for end in self._ends:
            with suppress(OSError):
                end.shutdown(socket.SHUT_RDWR)
        self._ends.clear()

    def _let_in(self) -> None:
        while True:
            near, _ = self._door.accept()
            try:
                far = socket.create_connection(self._to, 5.0)
            except OSError:
                near.close()
                continue
            far.settimeout(None)
            self._ends += [near, far]
            for one, two in ((near, far), (far, near)):
                threading.Thread(target=self._carry, args=(one, two), daemon=True).start()

    def _carry(self, one: socket.socket, two: socket.socket) -> None:
        waiting: list[tuple[float, bytes]] = []
        more = threading.Condition()

        def deliver() -> None:
            piece = b"."
            while piece:
                with more:
                    while not waiting:
                        more.wait()
                    at, piece = waiting.pop(0)
                time.sleep(max(0.0, at - time.monotonic()))
                with suppress(OSError):
                    two.sendall(piece) if piece else two.shutdown(socket.SHUT_WR)

        threading.Thread(target=deliver, daemon=True).start()
        piece = b"."
        while piece:
            try:
                piece = one.recv(1 << 16)
            except OSError:
                piece = b""
            self.carried += len(piece)
            with more:
                waiting.append((time.monotonic() + self.delay_s, piece))
                more.notify()


def main() -> None:
    carrier = Carrier((sys.argv[1], int(sys.argv[2])))
    print(carrier.port, flush=True)
    for line in sys.stdin:
        do, _, value = line.strip().partition(" ")
        if do == "cut":
            carrier.cut()
        elif do == "delay":
            carrier.delay_s = float(value)
        print(carrier.carried, flush=True)


if __name__ == "__main__":
    main()
