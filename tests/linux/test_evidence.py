"""What the machine itself says goes into the verdict: another boot, crash records, its log, throttling, memory errors."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from tests.linux import trees

from yondle.app.machine.clocks import RealClock
from yondle.app.machine.hands import NobodyThere
from yondle.app.machine.machines import Machine
from yondle.app.session.proposing import Propose
from yondle.app.session.session import Session
from yondle.app.session.testing import RunBaseline, TryAgain, TryProposal
from yondle.logbook.logbook import Logbook
from yondle.model.measured import Measured
from yondle.model.verdicts import Failure, Verdict
from yondle.model.workloads import PassResult
from yondle.rigs.linux.evidence import KernelLog, crash_records, follow_journal
from yondle.rigs.linux.this import ThisRig
from yondle.workloads.host import ChildHost

MCE = "2,9,9,-;mce: [Hardware Error]: CPU 1: Machine Check: 0 Bank 5\n"


class TreeRun:
    """A pass that is over at once, after something happened to the machine."""

    def __init__(self, happens: Callable[[], None], facts: dict[str, str | float]) -> None:
        self._happens, self._facts = happens, facts
        self.pid, self.alive = 1, False

    def poll(self) -> PassResult | None:
        self._happens()
        return PassResult(True, 100.0, 1.0, measured=Measured.of(dict(self._facts)))

    def stop(self) -> None:
        return


class TreeHost(ChildHost):
    """Runs nothing; `happens` is what goes on meanwhile."""

    def __init__(self, clock: RealClock) -> None:
        super().__init__(clock.now, clock.wake)
        self.usual, self.hard_load, self.loads_for = ("whole_numbers",), ("", 0.0), {}
        self.happens: Callable[[], None] = lambda: None
        self.facts: dict[str, str | float] = {}

    def start(self, workload: str, seconds: float, cpus: list[int]) -> TreeRun:
        return TreeRun(self.happens, self.facts)


def open_on(root: Path, book: Path) -> tuple[Session, TreeHost]:
    clock = RealClock()
    host = TreeHost(clock)
    rig = ThisRig(host, clock.now, root)
    rig.declaration = replace(rig.declaration, sample_interval_s=0.01)
    logbook = Logbook(book) if book.exists() else Logbook.create(book, "this", "This machine", "")
    return Session(logbook, Machine(rig, clock, NobodyThere())), host


def test_a_machine_that_restarted_is_called_so_with_the_crash_record_it_kept(tmp_path: Path) -> None:
    root, book = trees.server(tmp_path / "root"), tmp_path / "this.yondle"
    session, host = open_on(root, book)

    def power_goes() -> None:
        raise SystemExit

    host.happens = power_goes
    try:
        session.do(RunBaseline(2))
    except SystemExit:
        session.close()
    (root / "proc/sys/kernel/random/boot_id").write_text("bbbb")
    (root / "sys/fs/pstore/dmesg-efi-1").touch()
    session, _ = open_on(root, book)
    outcome = session.snapshot.resumed[0].outcome
    assert outcome.failure is Failure.RESTARTED
    assert "dmesg-efi-1: Kernel panic - not syncing: Fatal machine check" in outcome.reason
    session.close()


def test_hardware_errors_throttling_and_memory_errors_decide_and_are_quoted(tmp_path: Path) -> None:
    root, book = trees.server(tmp_path / "root"), tmp_path / "this.yondle"
    trees.put(root, {"dev/kmsg": "6,0,0,-;nothing yet"})
    session, host = open_on(root, book)
    assert session.do(RunBaseline(2)).verdict is Verdict.HELD

    def logs() -> None:
        with (root / "dev/kmsg").open("a") as log:
            log.write(MCE)

    host.happens = logs
    step = session.do(TryAgain(1, 2))
    assert step.outcome is not None
    assert step.outcome.failure is Failure.ERRORS_CORRECTED
    last = step.attempts[-1].passes[-1].result
    assert last is not None
    assert str(last.measured.told["kernel log"]).startswith("mce: [Hardware Error]")

    def counts(file: str) -> Callable[[], None]:
        def happens() -> None:
            counter = root / file
            counter.write_text(str(int(counter.read_text()) + 1))

        return happens

    host.happens = counts("sys/devices/system/edac/mc/mc0/ce_count")
    outcome = session.do(TryAgain(1, 2)).outcome
    assert outcome is not None
    assert (outcome.failure, outcome.pointer.subsystem) == (Failure.ERRORS_CORRECTED, "memory"), outcome
    host.happens = counts("sys/devices/system/cpu/cpu2/thermal_throttle/core_throttle_count")
    session.do(Propose("workers", 1.0))
    outcome = session.do(TryProposal(2)).outcome
    assert outcome is not None
    assert outcome.failure is Failure.CLOCK_NOT_HELD
    assert "Throttled for heat" in outcome.reason
    session.close()


def test_stock_that_throttles_by_itself_is_a_baseline_that_says_so(tmp_path: Path) -> None:
    root = trees.server(tmp_path / "root")
    session, host = open_on(root, tmp_path / "this.yondle")
    counter = root / "sys/devices/system/cpu/cpu2/thermal_throttle/core_throttle_count"
    host.happens = lambda: counter.write_text(str(int(counter.read_text()) + 1)) and None
    baseline = session.do(RunBaseline(2))
    assert baseline.verdict is Verdict.HELD
    assert baseline.outcome is not None
    assert baseline.outcome.reason.startswith("Held, limited (Throttled for heat")
    session.close()


def test_a_clock_that_moved_disturbs_a_pass_unless_the_machine_throttled(tmp_path: Path) -> None:
    root = trees.server(tmp_path / "root")
    session, host = open_on(root, tmp_path / "this.yondle")
    host.facts = {"reference_moved": 7.0}
    passes = session.do(RunBaseline(2)).attempts[-1].passes
    assert passes[-1].disturbed == "the clock moved by 7 % in the pass"
    assert len(passes) == 7, "a warm-up, one to see what limits, two passes, and three of them repeated"
    session.close()


KERNEL_LINES = [
    # arch/x86/kernel/cpu/mce/core.c:168, 183, 204, 214: one check, told in four lines and once more by core.c:1729
    (1, ["mce: [Hardware Error]: CPU 3: Machine Check: 0 Bank 5: bea0000000000108",
         "mce: [Hardware Error]: TSC 0 ADDR 1ffffa0 MISC d012000100000000",
         "mce: [Hardware Error]: PROCESSOR 2:870f10 TIME 1588 SOCKET 0 APIC 6 microcode 8701013",
         "mce: [Hardware Error]: Run the above through 'mcelog --ascii'",
         "mce: [Hardware Error]: Machine check events logged"]),
    # drivers/edac/mce_amd.c (amd_decode_mce): one corrected error, decoded, and told by its memory controller
    (1, ["[Hardware Error]: Corrected error, no action required.",
         "[Hardware Error]: CPU:2 (19:21:0) MC17_STATUS[-|CE|MiscV|AddrV|-|-|SyndV|CECC|-|-|-]: 0x9c2040000000011b",
         "[Hardware Error]: Error Addr: 0x00000001b2fb6a40",
         "[Hardware Error]: IPID: 0x0000009600250f00, Syndrome: 0x5f8d00000a800601",
         "EDAC MC0: 1 CE on mc#0csrow#2channel#0 (csrow:2 channel:0 page:0x6 offset:0x0 grain:64 syndrome:0x5f8d)"]),
    # drivers/edac/edac_mc.c (edac_ce_error): as many as it says
    (3, ["EDAC MC1: 3 CE memory read error on CPU_SrcID#0_MC#1_Chan#0_DIMM#0 (channel:0 slot:0 page:0x1 offset:0x0)"]),
    # drivers/acpi/apei/ghes.c: the firmware told of it first
    (1, ["{1}[Hardware Error]: Hardware error from APEI Generic Hardware Error Source: 512",
         "{1}[Hardware Error]: It has been corrected by h/w and requires no further action",
         "{1}[Hardware Error]: event severity: corrected"]),
    (1, ["mce: [Hardware Error]: Machine check events logged"]),
    # drivers/thermal/intel/therm_throt.c:288
    (0, ["CPU0: Core temperature is above threshold, cpu clock is throttled (total events = 1)"]),
    # drivers/gpu/drm/amd/amdgpu/amdgpu_job.c:61, amdgpu_device.c:5723
    (0, ["[drm:amdgpu_job_timedout [amdgpu]] *ERROR* ring gfx_0.0.0 timeout, signaled seq=58, emitted seq=60"]),
    (0, ["amdgpu 0000:03:00.0: amdgpu: GPU reset(2) succeeded!"]),
    # linux-source-6.12 drivers/gpu/drm/xe/xe_guc_submit.c:1175
    (0, ["xe 0000:03:00.0: [drm] GT0: Timedout job: seqno=4294967169, lrc_seqno=4294967169, guc_id=2, flags=0x0 in game [3]"]),
    # linux-source-6.12 drivers/nvme/host/pci.c:1504, 1403
    (0, ["nvme nvme0: I/O tag 12 (300c) opcode 0x2 (I/O Cmd) QID 3 timeout, reset controller"]),
    (0, ["nvme nvme0: controller is down; will reset: CSTS=0xffffffff, PCI_STATUS=0x10"]),
    # drivers/ata/libata-eh.c:2299
    (0, ["ata3.00: exception Emask 0x0 SAct 0x0 SErr 0x0 action 0x6 frozen"]),
]  # fmt: skip
HARMLESS = [
    "CPU0: Core temperature/speed normal (total events = 1)", "usb 1-1: new high-speed USB device number 4 using xhci_hcd",
    "amdgpu 0000:03:00.0: amdgpu: SMU is initialized successfully!", "nvme nvme0: 8/0/0 default/read/poll queues",
]  # fmt: skip


@pytest.mark.parametrize("way", ["kmsg", "journal"])
def test_one_error_counts_once_however_many_lines_and_parts_of_the_kernel_tell_of_it(tmp_path: Path, way: str) -> None:
    file = trees.put(tmp_path, {"dev/kmsg" if way == "kmsg" else "journal": ""}) / (
        "dev/kmsg" if way == "kmsg" else "journal"
    )
    log = KernelLog(tmp_path, None if way == "kmsg" else lambda: (os.open(file, os.O_RDONLY), None))
    assert log.readable
    log.look()
    seen, at = 0, 0
    for errors, lines in KERNEL_LINES:
        at += 60_000_000
        with file.open("a") as more:
            for i, line in enumerate(lines):
                micro = at + 900 * i
                head = f"3,{i},{micro},-;" if way == "kmsg" else f"[{micro / 1e6:>12.6f}] host kernel: "
                more.write(f"{head}{line}\n")
        log.look()
        assert log.hardware_errors - seen == errors, lines
        assert lines[0] in log.said() or len(lines[0]) > 160, "it is quoted"
        seen = log.hardware_errors
    with file.open("a") as more:
        more.writelines(f"6,1,{at},-;{line}\n" for line in HARMLESS)
        more.write("6,1,1,-;" + "x" * 40000)
    log.look()
    assert (log.hardware_errors, log.said()) == (seen, "")
    log.close()


def test_the_journal_is_followed_where_the_kernels_own_file_is_closed(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A stand-in for the system's journal, asked in the same way."""
    journal = tmp_path / "journalctl"
    journal.write_text(
        "#!/bin/sh\n"
        'if [ "$2" = -f ]; then\n'
        "  echo '[   10.000001] host kernel: mce: [Hardware Error]: CPU 1: Machine Check: 0 Bank 5'\n"
        "  exec sleep 60\n"
        "fi\n"
        "echo '[    1.000000] host kernel: Linux version'\n"
    )
    journal.chmod(0o755)
    monkeypatch.setenv("PATH", f"{tmp_path}:{os.environ['PATH']}")
    log = KernelLog(tmp_path, follow_journal)
    assert (log.readable, log.source) == (True, "journalctl -k")
    limit = time.monotonic() + 20
    while log.hardware_errors == 0:
        assert time.monotonic() < limit
        log.look()
    log.close()
    journal.write_text("#!/bin/sh\nexit 1\n")
    assert not KernelLog(tmp_path, follow_journal).readable, "who may not read the journal either hears nothing"


def test_crash_records_are_found_where_the_system_keeps_them_after_moving(tmp_path: Path) -> None:
    """systemd-pstore(8): /var/lib/systemd/pstore, by the time of the crash, with what belongs together put together."""
    moved = "var/lib/systemd/pstore/7234567890/001/dmesg.txt"
    trees.put(tmp_path, {moved: "<0>[  812.2] Kernel panic - not syncing: Fatal machine check"})
    assert crash_records(tmp_path) == ["dmesg.txt: Kernel panic - not syncing: Fatal machine check"]
    assert crash_records(tmp_path, since=4e9) == []
