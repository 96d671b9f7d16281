"""One emulated machine: started, told what to do over its serial line, and brought down in every way there is."""

from __future__ import annotations

import json
import os
import random
import re
import select
import socket
import subprocess
import tempfile
import time
from pathlib import Path

from tests.vm.disk import Disk

STARTS_WITHIN_S, SAYS_WITHIN_S = 240.0, 120.0
_PROMPT = "root@bench:"


class NoAnswerError(Exception):
    """The machine doesn't say what it should."""


class Vm:
    """A machine with a disk of its own; `folder` has the kernel, the first file system and the image."""

    def __init__(self, folder: Path, seed: int, words: str = "", ssh_port: int = 0) -> None:
        self.dice = random.Random(seed)
        self._place = Path(tempfile.mkdtemp(prefix="vm"))
        self.disk = Disk(folder / "disk.img", self._place / "disk")
        self._folder, self._words, self._ssh_port = folder, words, ssh_port
        self._process: subprocess.Popen[bytes] | None = None
        self._line: socket.socket | None = None
        self._heard = ""
        self.starts = 0

    def start(self, words: str = "") -> None:
        """Switch it on and wait until it can be talked to."""
        serial, monitor = self._place / "serial", self._place / "monitor"
        append = f"root=/dev/vda rw console=ttyS0 panic=1 quiet {self._words} {words}"
        command = [
            "qemu-system-x86_64", "-accel", "tcg,thread=multi", "-cpu", "max", "-m", "1024", "-smp", "2",
            "-display", "none", "-nodefaults",
            "-kernel", str(self._folder / "vmlinuz"), "-initrd", str(self._folder / "initrd"), "-append", append,
            "-drive", f"file=nbd+unix:///?socket={self.disk.at},format=raw,if=virtio,cache=writeback",
            "-device", "i6300esb", "-action", "watchdog=reset",
            "-chardev", f"socket,id=serial,path={serial},server=on,wait=off", "-serial", "chardev:serial",
            "-qmp", f"unix:{monitor},server=on,wait=off",
        ]  # fmt: skip
        if self._ssh_port:
            forward = f"user,model=virtio-net-pci,hostfwd=tcp:127.0.0.1:{self._ssh_port}-:22"
            command += ["-nic", forward]
        serial.unlink(missing_ok=True)
        self._process = subprocess.Popen(
            command, stdin=subprocess.DEVNULL, stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL
        )
        until = time.monotonic() + 20.0
        while not serial.exists() or not monitor.exists():
            if time.monotonic() > until or self._process.poll() is not None:
                raise NoAnswerError("the emulator doesn't start")
            time.sleep(0.05)
        self._line = socket.socket(socket.AF_UNIX)
        self._line.connect(str(serial))
        self._heard = ""
        self.up()

    def up(self) -> None:
        """Wait until it has started, after a reset too."""
        self.starts += 1
        self._until(re.escape(_PROMPT), STARTS_WITHIN_S)
        self.run("bind 'set enable-bracketed-paste off'; stty -echo; PS1=; dmesg -n 1", 60.0, quiet=True)

    def run(self, command: str, within_s: float = SAYS_WITHIN_S, quiet: bool = False) -> str:
        """Have a command run, and give what it prints."""
        mark = f"{self.dice.randrange(1 << 40):010x}"
        self._say(f'{command}\necho "<{mark[:5]}""{mark[5:]} $?>"\n')
        self._until(f"<{mark} \\d+>", within_s)
        said, _, rest = self._heard.partition(f"<{mark} ")
        self._heard = rest.partition(">")[2]
        return "" if quiet else said.replace("\r", "").strip()

    def begin(self, command: str) -> None:
        """Say a line and don't wait."""
        self._say(command + "\n")

    def reset(self) -> None:
        """Press its reset button: the disk keeps its power."""
        self._monitor("system_reset")
        self._heard = ""

    def cut_power(self) -> int:
        """Pull the plug; gives how many blocks of its disk are lost."""
        self._end()
        return self.disk.cut_power(self.dice)

    def off(self) -> None:
        """Shut it down in good order."""
        self.begin("systemctl poweroff")
        assert self._process is not None
        try:
            self._process.wait(120.0)
        except subprocess.TimeoutExpired as error:
            raise NoAnswerError("it doesn't shut down") from error
        finally:
            self._end()
        self.disk.keep_all()

    def go_down(self, kind: str) -> None:
        """Go down in one of the ways there are, and come up again."""
        early = kind.endswith(" while starting")
        if early:
            self.reset()
            time.sleep(self.dice.uniform(6.0, 20.0))
        match kind.removesuffix(" while starting"):
            case "reset":
                self.reset()
            case "panic":
                self.begin("echo c > /proc/sysrq-trigger")
            case "frozen user space":
                self.begin("kill -STOP -1")
            case "power cut":
                self.cut_power()
                self.start()
                return
            case "shut down":
                self.off()
                self.start()
                return
        self.up()

    def close(self) -> None:
        """Let go of it."""
        self._end()
        self.disk.close()

    def _end(self) -> None:
        if self._process is not None:
            self._process.kill()
            self._process.wait()
            self._process = None
        if self._line is not None:
            self._line.close()
            self._line = None

    def _say(self, text: str) -> None:
        assert self._line is not None
        for start in range(0, len(text), 256):
            self._line.sendall(text[start : start + 256].encode())
            time.sleep(0.02)

    def _until(self, pattern: str, within_s: float) -> None:
        assert self._line is not None
        until = time.monotonic() + within_s
        while not re.search(pattern, self._heard):
            left = until - time.monotonic()
            if left <= 0.0 or not select.select([self._line], [], [], left)[0]:
                raise NoAnswerError(f"not heard within {within_s:g} s: {pattern}; heard {self._heard[-2000:]!r}")
            piece = self._line.recv(65536)
            if not piece:
                raise NoAnswerError(f"the line is dead; heard {self._heard[-2000:]!r}")
            self._heard += piece.decode("utf-8", "replace")

    def _monitor(self, command: str) -> None:
        with socket.socket(socket.AF_UNIX) as line:
            line.connect(str(self._place / "monitor"))
            talk = line.makefile("rw")
            talk.readline()
            for each in ("qmp_capabilities", command):
                talk.write(json.dumps({"execute": each}) + "\n")
                talk.flush()
                while "return" not in json.loads(talk.readline()):
                    pass

    @property
    def alive(self) -> bool:
        """Tell whether the emulator runs."""
        return self._process is not None and self._process.poll() is None


def folder() -> Path:
    """Give where the machine's files are; `tools/vm_root.sh` makes them."""
    return Path(os.environ.get("YONDLE_VM", "build/vm")).resolve()
