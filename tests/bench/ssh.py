"""A real ssh server in a network namespace of the test's own, and between it and us a road that can be long, narrow or cut."""

from __future__ import annotations

import os
import shutil
import socket
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from dataclasses import dataclass
from pathlib import Path

SSHD = "/usr/sbin/sshd"


def can_be_had() -> bool:
    """Tell whether a server and a namespace can be made here: only root makes one."""
    return os.getuid() == 0 and os.path.exists(SSHD) and all(map(shutil.which, ("ip", "nft")))


class Road:
    """The road, in a process of its own (`tests.bench.road`)."""

    def __init__(self, host: str) -> None:
        self._process = subprocess.Popen(
            [sys.executable, "-m", "tests.bench.road", host, "22"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            text=True,
        )
        assert self._process.stdout is not None
        self.port = int(self._process.stdout.readline())

    def cut(self) -> None:
        """Cut every connection there is, as a router that forgets them does."""
        self._say("cut")

    def delay(self, seconds: float) -> None:
        """Have each piece come so much later."""
        self._say(f"delay {seconds}")

    def carried(self) -> int:
        """Give how many bytes went over it, both ways."""
        return int(self._say("carried"))

    def end(self) -> None:
        """Take no more."""
        assert self._process.stdin is not None
        self._process.communicate()

    def _say(self, words: str) -> str:
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._process.stdin.write(words + "\n")
        self._process.stdin.flush()
        return self._process.stdout.readline()


@dataclass
class SshBench:
    """A bench behind a road: its address, the road, and a folder whose `ssh` knows the key."""

    address: str
    road: Road
    folder: Path
    namespace: str

    def plug(self, out: bool) -> None:
        """Pull the network cable out, or put it back: nothing gets through, and nothing says so."""
        subprocess.run(["ip", "link", "set", f"{self.namespace}h", "down" if out else "up"], check=True)

    def lose(self, percent: int) -> None:
        """Have so many of a hundred packets get lost, both ways."""
        drop = f"numgen random mod 100 < {percent} counter drop;"
        chains = "\n".join(
            f"chain {way} {{ type filter hook {way} priority 0; {drop} }}" for way in ("input", "output")
        )
        rules = f"flush ruleset\ntable inet loss {{\n{chains if percent else ''}\n}}\n"
        subprocess.run(["ip", "netns", "exec", self.namespace, "nft", "-f", "-"], input=rules, text=True, check=True)

    def agents(self) -> list[int]:
        """List the agents that run there."""
        told = subprocess.run(
            ["pgrep", "-f", f"tests.bench.agent {self.folder}"], capture_output=True, text=True, check=False
        )
        return [int(each) for each in told.stdout.split()]

    def kill_agents(self, signal: str = "-KILL") -> None:
        """Have the agents killed, or stopped."""
        for each in self.agents():
            subprocess.run(["kill", signal, str(each)], check=False)


@contextmanager
def bench_over_ssh(folder: Path, small: bool = True) -> Iterator[SshBench]:
    """Have one, with a small machine behind its agent, or with this one."""
    name, net = f"yb{os.getpid() % 100000}", f"10.77.{os.getpid() % 250}"
    here, there = f"{net}.1", f"{net}.2"
    _run("ip", "netns", "add", name)
    server = None
    try:
        _run("ip", "link", "add", f"{name}h", "type", "veth", "peer", "name", f"{name}b", "netns", name)
        _run("ip", "addr", "add", f"{here}/30", "dev", f"{name}h")
        _run("ip", "link", "set", f"{name}h", "up")
        _run("ip", "-n", name, "addr", "add", f"{there}/30", "dev", f"{name}b")
        _run("ip", "-n", name, "link", "set", f"{name}b", "up")
        _run("ip", "-n", name, "link", "set", "lo", "up")
        for key in ("host", "user"):
            _run("ssh-keygen", "-q", "-t", "ed25519", "-N", "", "-f", str(folder / key))
        shutil.copy(folder / "user.pub", folder / "authorized_keys")
        program = folder / "yondle"
        (folder / "boot").write_text("b1")
        run = f"-m tests.bench.agent {folder}" if small else '-m yondle.main "$@"'
        program.write_text(f"#!/bin/sh\nexec {sys.executable} {run}\n")
        program.chmod(0o755)
        (folder / "sshd_config").write_text(
            f"Port 22\nListenAddress {there}\nHostKey {folder}/host\nAuthorizedKeysFile {folder}/authorized_keys\n"
            "PermitRootLogin prohibit-password\nPasswordAuthentication no\nStrictModes no\nUsePAM no\nPidFile none\n"
            f"SetEnv XDG_STATE_HOME={folder}/state XDG_CONFIG_HOME={folder}/config PYTHONPATH={os.pathsep.join(sys.path)}\n"
        )
        Path("/run/sshd").mkdir(exist_ok=True)
        server = subprocess.Popen(
            ["ip", "netns", "exec", name, SSHD, "-D", "-e", "-f", str(folder / "sshd_config")],
            stderr=subprocess.DEVNULL,
        )
        road = Road(there)
        port = road.port
        (folder / "ssh_config").write_text(
            f"Host *\nIdentityFile {folder}/user\nIdentitiesOnly yes\n"
            f"UserKnownHostsFile {folder}/known\nGlobalKnownHostsFile none\n"
        )
        (folder / "known").write_text(f"[127.0.0.1]:{port} {(folder / 'host.pub').read_text()}")
        _program(folder / "bin", f'exec /usr/bin/ssh -F {folder}/ssh_config "$@"')
        _until_there(there)
        yield SshBench(f"ssh://root@127.0.0.1:{port}{program}", road, folder, name)
        road.end()
    finally:
        if server is not None:
            server.terminate()
            server.wait()
        left = subprocess.run(["ip", "netns", "pids", name], check=False, capture_output=True, text=True)
        for pid in left.stdout.split():
            subprocess.run(["kill", "-KILL", pid], check=False, capture_output=True)
        subprocess.run(["ip", "netns", "del", name], check=False)


def _program(folder: Path, line: str) -> None:
    folder.mkdir()
    (folder / "ssh").write_text(f"#!/bin/sh\n{line}\n")
    (folder / "ssh").chmod(0o755)


def _until_there(there: str) -> None:
    until = time.monotonic() + 20.0
    while time.monotonic() < until:
        with suppress(OSError):
            socket.create_connection((there, 22), 1.0).close()
            return
        time.sleep(0.1)
    raise RuntimeError("the ssh server doesn't start")


def _run(*command: str) -> None:
    subprocess.run(command, check=True, stdout=subprocess.DEVNULL)
