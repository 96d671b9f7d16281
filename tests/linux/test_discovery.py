"""What is found on stand-ins of a desktop, a graphics card, a laptop and a server, and how it is read."""

from __future__ import annotations

import binascii
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from dataclasses import replace
from pathlib import Path

import pytest
from tests.linux import trees

from yondle.model.errors import KnownError
from yondle.model.sensors import Quantity, Reading
from yondle.planning.ladder import LONGEST_PRELOAD_S, quick_check
from yondle.rigs.linux.conditions import Conditions
from yondle.rigs.linux.evidence import KernelLog, crash_records
from yondle.rigs.linux.files import Tree
from yondle.rigs.linux.knobs import left_out_words, offered
from yondle.rigs.linux.probe import EnergyMeter, Probe
from yondle.rigs.linux.probes import THROTTLES, find_probes
from yondle.rigs.linux.root.helper.found import find
from yondle.rigs.linux.smbios import modules
from yondle.rigs.linux.spd import timings_in
from yondle.rigs.linux.this import ThisRig
from yondle.rigs.linux.topology import spread_over_cores
from yondle.workloads.children import killed_for_memory
from yondle.workloads.host import ChildHost


class DirectLine:
    """Sets values without a helper, as far as the stand-in goes."""

    ended = ""

    def __init__(self, root: Path) -> None:
        self._interfaces = find(root)

    def begin(self) -> bool:
        return False

    def look(self, what: str) -> None:
        return None

    def set(self, knob: str, value: float) -> float | None:
        self._interfaces[knob].set(value)
        return self._interfaces[knob].value()

    def close(self) -> None:
        for each in self._interfaces.values():
            each.put_back()


def probes(root: Path, now: Callable[[], float] = lambda: 0.0) -> dict[str, Probe]:
    return {probe.channel.id: probe for probe in find_probes(Tree(root), now)}


def readings(root: Path) -> dict[str, Reading]:
    return {name: probe.read() for name, probe in probes(root).items()}


def rig(root: Path) -> ThisRig:
    return ThisRig(ChildHost(lambda: 0.0), lambda: 0.0, root, DirectLine(root))


def test_a_desktops_sensors_are_read_in_their_units(tmp_path: Path) -> None:
    found = readings(trees.desktop(tmp_path))
    assert found["coretemp_package_id_0"] == 41.0
    assert found["board_vcore"] == 1.216
    assert found["board_fan2"] == 1180.0
    assert (found["core_clock_mean"], found["core_clock_lowest"]) == (4150.0, 4000.0)
    assert found[THROTTLES] == 0.0
    cores = {name: probe.channel.core for name, probe in probes(tmp_path).items() if probe.channel.core is not None}
    assert cores == {"coretemp_core_0": 0, "coretemp_core_1": 1, **{f"cpu{i}_clock": i for i in range(4)}}
    assert (found["coretemp_core_1"], found["cpu2_clock"]) == (40.5, 4200.0)


@pytest.mark.parametrize(
    ("chip", "reading", "critical", "told"),
    [
        ("coretemp", 45.0, 100.0, ""),
        ("coretemp", 45.0, 20.8, "no part shuts itself down at 20.8"),
        ("k10temp", 45.0, 255.0, "no part shuts itself down at 255"),
        ("k10temp", 88.0, 90.0, "next to its critical 90"),
        ("nct6779", 35.0, 105.0, "isn't of a processor"),
        ("spd5118", 35.0, 85.0, ""),
        ("nvme", 41.0, 84.8, ""),
        ("amdgpu", 52.0, 110.0, ""),
        ("coretemp", 45.0, float("nan"), ""),
    ],
)  # fmt: skip
def test_junk_that_a_chip_calls_critical_guards_nothing_and_is_told(
    tmp_path: Path, chip: str, reading: float, critical: float, told: str
) -> None:
    at = "sys/class/hwmon/hwmon0"
    trees.put(
        tmp_path,
        {f"{at}/name": chip, f"{at}/temp1_input": f"{1e3 * reading:.0f}", f"{at}/temp1_crit": f"{1e3 * critical:g}"},
    )
    machine = rig(tmp_path)
    (probe,) = [p for p in machine.probes if p.channel.quantity is Quantity.TEMPERATURE]
    guards = not told and critical == critical
    assert told in probe.junk
    assert bool(probe.junk) == bool(told)
    assert [limit.most for limit in machine.declaration.limits] == ([critical - 5.0] if guards else [])
    machine.close()


def test_what_cards_of_other_drivers_show_is_read(tmp_path: Path) -> None:
    """drivers/gpu/drm/xe/xe_gt_freq.c:60, i915_hwmon.c:284 of linux-source-6.12: energy alone, clocks asked for and actual."""
    card, chip = "sys/class/drm/card1", "sys/class/hwmon/hwmon4"
    files = {
        f"{card}/device/tile0/gt0/freq0/act_freq": "2050", f"{card}/device/tile0/gt0/freq0/cur_freq": "2400",
        f"{card}/device/current_link_speed": "8.0 GT/s PCIe", f"{card}/device/max_link_speed": "16.0 GT/s PCIe",
        f"{chip}/name": "xe", f"{chip}/energy1_input": "1000000", f"{chip}/energy1_label": "card",
        f"{chip}/curr1_input": "5210",
    }  # fmt: skip
    times = iter([0.0, 2.0])
    found = probes(trees.put(tmp_path, files), lambda: next(times))
    assert (found["graphics_clock"].read(), found["graphics_clock_asked_for"].read()) == (2050.0, 2400.0)
    assert (found["link_speed"].read(), found["xe_curr1"].read()) == (8.0, 5.21)
    power = found["xe_card_power"]
    assert power.read() is None
    (tmp_path / chip / "energy1_input").write_text("181000000\n")
    assert (power.read(), power.channel.subsystem.value) == (90.0, "graphics")


def test_ids_of_sensors_and_knobs_are_the_same_in_every_language(tmp_path: Path) -> None:
    trees.desktop(tmp_path)
    trees.graphics(tmp_path)
    trees.server(tmp_path)
    script = (
        "import sys; from pathlib import Path; from yondle.rigs.linux.probes import find_probes; "
        "from yondle.rigs.linux.files import Tree; "
        "print(*(p.channel.id for p in find_probes(Tree(Path(sys.argv[1])), lambda: 0.0)))"
    )
    said = subprocess.run(
        [sys.executable, "-c", script, str(tmp_path)],
        env={**os.environ, "YONDLE_LANGUAGE": "de"}, capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert said.stdout.split() == list(probes(tmp_path))


def test_rounds_settle_on_the_package_and_wait_for_the_longest_window_the_kernel_tells(tmp_path: Path) -> None:
    root = trees.desktop(tmp_path)
    assert rig(root).declaration.settle_channel == "coretemp_package_id_0"
    assert rig(root).declaration.settle_below is None
    assert rig(root).declaration.limiter_window_s is None
    zone = root / "sys/class/powercap/package-rapl:0"
    (zone / "constraint_0_time_window_us").write_text("27983872\n")
    (zone / "constraint_1_time_window_us").write_text("2440\n")
    assert rig(root).declaration.limiter_window_s == 27.983872
    check = quick_check(rig(root).declaration, 3)
    assert check.preload_s == 2 * 27.983872
    (zone / "constraint_0_time_window_us").write_text("448000000\n")
    assert quick_check(rig(root).declaration, 3).preload_s == LONGEST_PRELOAD_S
    bare = replace(rig(root).declaration, channels=(), limiter_window_s=None)
    assert quick_check(bare, 3).preload_s == 0.0


def test_a_desktops_knobs_are_offered_with_what_was_found_as_stock_and_put_back_exactly(tmp_path: Path) -> None:
    root = trees.desktop(tmp_path)
    before = {path: path.read_text() for path in root.rglob("*") if path.is_file()}
    machine = rig(root)
    assert [(limit.channel, limit.most) for limit in machine.declaration.limits] == [("coretemp_package_id_0", 95.0)]
    knobs = {knob.id: knob for knob in machine.declaration.knobs}
    assert (knobs["core_clock_most"].low, knobs["core_clock_most"].high, knobs["core_clock_most"].step) == (
        800,
        4800,
        100,
    )
    assert knobs["power_limit_short"].high == 160.0
    assert knobs["large_pages"].text(knobs["large_pages"].stock) == "madvise"
    assert knobs["turbo"].text(knobs["turbo"].stock) == "on"
    wanted = {
        "core_clock_most": 4200.0, "governor": 0.0, "power_limit_long": 95.0, "large_pages": 2.0, "turbo": 0.0,
        "fan_board_2": 60.0, "processors_on_line": 3.0, "threads_per_core": 0.0, "most_performance": 80.0,
    }  # fmt: skip
    assert all(reply.taken for reply in machine.apply(wanted))
    read = machine.read_back()
    assert {knob: read[knob] for knob in wanted} == wanted
    assert (root / "sys/class/hwmon/hwmon2/pwm2").read_text() == "153"
    assert (root / "sys/class/hwmon/hwmon2/pwm2_enable").read_text() == "1"
    assert (root / "sys/devices/system/cpu/cpufreq/policy3/scaling_max_freq").read_text() == "4200000"
    assert (root / "sys/devices/system/cpu/cpu3/online").read_text() == "0"
    refused = machine.apply({"core_clock_most": 5000.0})[0]
    assert not refused.taken
    machine.close()
    after = {path: path.read_text() for path in root.rglob("*") if path.is_file() and path.name != "enabled"}
    assert {path.name: text.strip() for path, text in after.items()} == {
        path.name: text.strip() for path, text in before.items() if path.name != "enabled"
    }
    assert (root / "sys/kernel/mm/transparent_hugepage/enabled").read_text() == "madvise"


def test_what_a_graphics_card_does_is_read(tmp_path: Path) -> None:
    found = readings(trees.graphics(tmp_path))
    assert (found["graphics_clock"], found["graphics_memory_clock"]) == (1480.0, 97.0)
    assert (found["graphics_in_use"], found["graphics_memory_used"], found["link_width"]) == (63.0, 3.0, 8.0)
    assert find(tmp_path)["graphics_power_limit"].high == 233.0


def test_a_laptops_modes_battery_and_zones_are_found(tmp_path: Path) -> None:
    root = trees.laptop(tmp_path)
    machine = rig(root)
    mode = next(knob for knob in machine.declaration.knobs if knob.id == "power_mode")
    assert mode.choices == ("low-power", "balanced", "performance")
    assert machine.facts()["power source"] == "battery"
    assert machine.facts()["firmware"] == "1.07"
    assert readings(root)["zone_acpitz"] == 44.5
    assert find(root)["graphics_clock_most"].low == 300.0
    machine.close()


def test_a_servers_packages_are_limited_together_and_its_memory_errors_counted(tmp_path: Path) -> None:
    root = trees.server(tmp_path)
    machine = rig(root)
    assert "power_limit_long" not in {knob.id for knob in machine.declaration.knobs}
    (left,) = [left_out_words(each) for each in offered(root).left_out if each.knob == "power_limit_long"]
    assert "at different values: 150000000, 165000000" in left
    assert "processors_on_line" not in find(root)
    counted = [
        probe for probe in machine.probes if probe.channel.quantity is Quantity.ERRORS and "mc1" in probe.channel.id
    ]
    assert [probe.read() for probe in counted] == [3.0, 0.0]
    assert machine.crash_signs(0.0) == ("dmesg-efi-1: Kernel panic - not syncing: Fatal machine check",)
    assert crash_records(root, since=4e9) == []
    machine.close()


def test_memory_modules_are_told_from_the_firmwares_table(tmp_path: Path) -> None:
    table = tmp_path / "sys/firmware/dmi/tables/DMI"
    table.parent.mkdir(parents=True)
    empty = trees.memory_device(0, 0, 0, "none")
    kit = trees.memory_device(16384, 6000, 5600, "PL-6000") + trees.memory_device(16384, 6000, 5600, "PL-6000")
    table.write_bytes(
        b"\x01\x05\0\0\0\0\0" + kit + empty + trees.memory_device(65536, 4800, 4800, "x") + b"\x7f\x04\0\0\0\0"
    )
    assert [m.part for m in modules(tmp_path)] == ["PL-6000", "PL-6000", "x"]
    words = "2 x 16 GiB at 5600 MT/s, made for 6000 MT/s; 1 x 64 GiB at 4800 MT/s"
    assert Conditions(tmp_path).facts()["memory modules"] == words
    for length in range(0, 120, 7):
        table.write_bytes((kit + kit)[:length])
        modules(tmp_path)


def test_what_modules_are_made_for_is_told_from_their_own_chip_and_from_no_junk(tmp_path: Path) -> None:
    """Bytes as the standards lay them out; the cycles beside them are those of the standards' own speed bins."""

    def module(size: int, cells: dict[int, int], checks_at: int, covered: int) -> bytes:
        made = bytearray(size)
        for at, byte in cells.items():
            made[at] = byte
        made[checks_at : checks_at + 2] = binascii.crc_hqx(bytes(made[:covered]), 0).to_bytes(2, "little")
        return bytes(made)

    third = {0: 0x92, 2: 0x0B, 9: 0x11, 10: 1, 11: 8, 12: 10, 16: 110, 18: 110, 20: 110, 21: 0x11, 22: 0x18}
    fourth = {2: 0x0C, 18: 5, 24: 110, 25: 110, 26: 110, 27: 0x11, 28: 0x00, 125: 0}
    fifth = {
        2: 0x12,
        20: 0x65,
        21: 0x01,
        30: 0x2C,
        31: 0x40,
        32: 0x2C,
        33: 0x40,
        34: 0x2C,
        35: 0x40,
        36: 0x00,
        37: 0x7D,
    }
    chips = {
        "spd5118/0-0050": module(1024, fifth, 510, 510), "spd5118/0-0051": module(1024, fifth, 510, 510),
        "ee1004/1-0050": module(512, fourth, 126, 126), "at24/2-0050": module(256, third, 126, 117),
    }  # fmt: skip
    for place, data in chips.items():
        file = tmp_path / "sys/bus/i2c/drivers" / place / "eeprom"
        file.parent.mkdir(parents=True)
        file.write_bytes(data)
    words = "2 x 5600 MT/s at 46-46-46-90; 1 x 3200 MT/s at 22-22-22-52; 1 x 1600 MT/s at 11-11-11-28"
    assert Conditions(tmp_path).facts()["memory modules are made for"] == words
    for data in chips.values():
        spoilt = bytearray(data)
        spoilt[21] ^= 1
        assert timings_in(bytes(spoilt)) is None
        assert [timings_in(data[:length]) for length in (0, 2, 30, 100)] == [None] * 4


def test_drives_and_chips_of_one_name_keep_their_ids_whatever_number_they_get(tmp_path: Path) -> None:
    """Where hwmon devices hang: drivers/nvme/host/hwmon.c:252, drivers/hwmon/drivetemp.c:577, libata-transport.c:788."""
    pci = "sys/devices/pci0000:00"
    seats = {
        f"{pci}/0000:00:1d.0/0000:01:00.0/nvme/nvme0": ("nvme", 38), f"{pci}/0000:00:1b.0/0000:02:00.0/nvme/nvme1": ("nvme", 44),
        f"{pci}/0000:00:17.0/ata3/host2/target2:0:0/2:0:0:0": ("drivetemp", 31),
        "sys/devices/platform/nct6775.656": ("nct6798", 30), "sys/devices/platform/nct6775.672": ("nct6798", 33),
        f"{pci}/0000:00:18.3": ("k10temp", 50),
    }  # fmt: skip
    told = []
    for boot, order in enumerate((list(seats), list(reversed(seats)))):
        root = tmp_path / str(boot)
        for number, seat in enumerate(order):
            name, celsius = seats[seat]
            chip = f"sys/class/hwmon/hwmon{number}"
            trees.put(root, {f"{chip}/name": name, f"{chip}/temp1_input": f"{celsius}000", f"{seat}/there": ""})
            (root / chip / "device").symlink_to(root / seat)
            if name == "nct6798":
                trees.put(root, {f"{chip}/pwm1": str(celsius * 3), f"{chip}/pwm1_enable": "5"})
        trees.put(root, {f"{pci}/0000:00:17.0/ata3/ata_port/ata3/port_no": "1"})
        told.append({p.channel.id: (p.channel.name, p.read()) for p in find_probes(Tree(root), lambda: 0.0)})
        fans = {name: each.stock for name, each in offered(root).knobs.items()}
        assert fans == {"fan_nct6798_1": pytest.approx(35.0, abs=1), "fan_nct6798_2_1": pytest.approx(39.0, abs=1)}
    assert told[0] == told[1] == {
        "nvme_temp1_0000_01_00_0": ("temp1 (nvme 01:00.0)", 38.0), "nvme_temp1_0000_02_00_0": ("temp1 (nvme 02:00.0)", 44.0),
        "drivetemp_temp1_0000_00_17_0_port_1": ("temp1 (drivetemp 00:17.0 port 1)", 31.0),
        "nct6798_temp1_nct6775_656": ("temp1 (nct6798 nct6775.656)", 30.0),
        "nct6798_temp1_nct6775_672": ("temp1 (nct6798 nct6775.672)", 33.0), "k10temp_temp1": ("temp1 (k10temp)", 50.0),
    }  # fmt: skip


def test_power_is_energy_over_time_past_the_end_of_the_counter(tmp_path: Path) -> None:
    times = iter([0.0, 2.0, 3.0, 4.0])
    file = tmp_path / "energy_uj"
    file.write_text("1000000\n")
    meter = EnergyMeter(Tree(tmp_path).source("energy_uj").number, 200_000_000.0, lambda: next(times))
    assert meter.watts() is None
    file.write_text("91000000\n")
    assert meter.watts() == 45.0
    file.write_text("190000000\n")
    meter.watts()
    file.write_text("10000000\n")
    assert meter.watts() == 20.0


def test_a_sensor_that_is_unplugged_falls_silent_and_comes_back(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    root = trees.desktop(tmp_path)
    monkeypatch.setattr("yondle.rigs.linux.files._LOOK_AGAIN_S", 0.0)
    source = Tree(root).source("sys/class/hwmon/hwmon0/temp1_input")
    assert source.number() == 41000.0
    source.close()
    shutil.move(root / "sys/class/hwmon/hwmon0", root / "away")
    assert source.number() is None
    shutil.move(root / "away", root / "sys/class/hwmon/hwmon0")
    assert source.number() == 41000.0


def test_hardware_errors_in_the_kernels_log_are_counted_and_quoted(tmp_path: Path) -> None:
    kept = trees.put(tmp_path, {"dev/kmsg": "2,0,0,-;mce: [Hardware Error]: before Yondle began"}) / "dev/kmsg"
    log = KernelLog(tmp_path)
    words = "mce: [Hardware Error]: CPU 3: Machine Check: 0 Bank 5"
    with kept.open("a") as more:
        more.write(f"6,1,1,-;usb 1-1: new device\n2,2,2,-;{words}\n SUBSYSTEM=x\n")
    log.look()
    assert log.hardware_errors == 1
    assert log.said() == words
    assert log.said() == ""
    log.close()


def test_a_machine_with_nothing_offers_nothing_and_breaks_nowhere(tmp_path: Path) -> None:
    assert find(tmp_path) == {}
    assert find_probes(Tree(tmp_path), lambda: 0.0) == []
    assert not KernelLog(tmp_path).readable
    assert killed_for_memory(tmp_path) == 0
    machine = rig(tmp_path)
    with pytest.raises(KnownError, match="no knob"):
        machine.declaration.knob("large_pages")
    machine.close()


def test_workers_take_a_core_each_before_any_takes_a_second_thread(tmp_path: Path) -> None:
    """Documentation/admin-guide/cputopology.rst: siblings are neighbours on one machine, half the machine apart on another."""
    cpu = "sys/devices/system/cpu"
    neighbours = {f"{cpu}/cpu{i}/topology/thread_siblings_list": f"{i // 2 * 2}-{i // 2 * 2 + 1}" for i in range(8)}
    apart = {f"{cpu}/cpu{i}/topology/thread_siblings_list": f"{i % 4},{i % 4 + 4}" for i in range(8)}
    one, two = trees.put(tmp_path / "one", neighbours), trees.put(tmp_path / "two", apart)
    assert spread_over_cores(Tree(one), list(range(8))) == [0, 2, 4, 6, 1, 3, 5, 7]
    assert spread_over_cores(Tree(two), list(range(8))) == [0, 1, 2, 3, 4, 5, 6, 7]
    assert spread_over_cores(Tree(one), [1, 3, 4]) == [1, 3, 4], (
        "the first of a core is the first of those that may be used"
    )
    assert spread_over_cores(Tree(tmp_path), [2, 0, 1]) == [0, 1, 2]
    for rubbish in ("", "x", "5-1", "0-999999999", "-", "1-2-3", "\x00"):
        trees.put(tmp_path / "one", {f"{cpu}/cpu0/topology/thread_siblings_list": rubbish})
        assert sorted(spread_over_cores(Tree(one), list(range(8)))) == list(range(8))


def test_quotas_and_how_much_of_a_cards_memory_is_in_sight_are_conditions(tmp_path: Path) -> None:
    group, card = "sys/fs/cgroup/user.slice/one.scope", "sys/class/drm/card0/device"
    files = {
        "proc/self/cgroup": "0::/user.slice/one.scope",
        f"{group}/cpu.max": "max 100000",
        "sys/fs/cgroup/user.slice/cpu.max": "150000 100000",
        f"{group}/memory.max": str(4 << 30),
        f"{card}/resource": "0x0000007c00000000 0x0000007c0fffffff 0x000000000014220c\n0x0 0x0 0x0",
        f"{card}/mem_info_vram_total": str(8 << 30),
    }
    facts = Conditions(trees.put(tmp_path, files)).facts()
    assert facts["processors left by a quota"] == 1.5
    assert facts["memory left by a quota, GiB"] == 4.0
    assert facts["graphics memory in sight"] == "256 of 8192 MiB"
    trees.put(tmp_path, {f"{card}/resource": "0x0000007c00000000 0x0000007dffffffff 0x000000000014220c"})
    assert Conditions(tmp_path).facts()["graphics memory in sight"] == "the whole of it"
    trees.put(tmp_path, {"proc/self/cgroup": "0::/../../etc", f"{card}/resource": "rubbish"})
    facts = Conditions(tmp_path).facts()
    assert "processors left by a quota" not in facts
    assert "graphics memory in sight" not in facts
