"""A workload child that misbehaves in the way its first argument names; speaks the same protocol as the kernels."""

import ctypes
import json
import os
import signal
import sys
import time


def say(event: str, **values: object) -> None:
    sys.stdout.write(json.dumps({"event": event, **values}) + "\n")
    sys.stdout.flush()


def main() -> None:
    how = sys.argv[1]
    if how == "never ready":
        time.sleep(60)
    if how == "cannot start":
        sys.exit("no such instruction set")
    if how == "falls at start":
        ctypes.string_at(0)
    if how == "deaf":
        signal.signal(signal.SIGTERM, signal.SIG_IGN)
    say("ready", width=512)
    sys.stdin.readline()
    for _ in range(3):
        say("beat", units=1)
        time.sleep(0.05)
    match how:
        case "segfault":
            ctypes.string_at(0)
        case "illegal":
            os.kill(os.getpid(), signal.SIGILL)
        case "killed":
            os.kill(os.getpid(), signal.SIGKILL)
        case "terminated":
            os.kill(os.getpid(), signal.SIGTERM)
        case "stopped":
            os.kill(os.getpid(), signal.SIGSTOP)
        case "hang" | "deaf":
            time.sleep(60)
        case "wrong":
            say("wrong", detail="processor 1: 1 of 7 units (first 7)", seconds=0.2)
        case "garbage":
            sys.stdout.write("not json\n[1, 2]\n{}\n")
            say("result", score="fast", seconds=1.0)
        case "grandchild":
            if os.fork() == 0:
                time.sleep(60)
            say("result", score=1.0, seconds=1.0)
        case "hungry":
            with open(sys.argv[2], "w") as members:
                members.write(str(os.getpid()))
            hoard = [bytearray(os.urandom(1 << 20)) for _ in range(1024)]
            say("result", score=float(len(hoard)), seconds=1.0)
        case "silent end":
            pass


main()
