"""Stand-ins for the kernel's file trees, one for each family of machine, in the formats its documentation gives."""

from __future__ import annotations

import struct
from pathlib import Path


def put(root: Path, files: dict[str, str]) -> Path:
    """Write files below a root."""
    for name, text in files.items():
        path = root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text + "\n")
    return root


def processors(count: int, online: bool = True) -> dict[str, str]:
    """Processors with clocks, throttle counters, and a switch to take all but the first off line."""
    cpu = "sys/devices/system/cpu"
    files = {
        "proc/stat": "cpu  100 0 100 1000 0 0 0 0 0 0",
        "proc/cpuinfo": "processor : 0\nmodel name : Calder C8",
        "proc/meminfo": "MemTotal: 16777216 kB\nMemAvailable: 8388608 kB",
        "proc/sys/kernel/random/boot_id": "aaaa",
        f"{cpu}/smt/control": "on",
    }
    for i in range(count):
        policy = f"{cpu}/cpufreq/policy{i}"
        files |= {
            f"{policy}/cpuinfo_min_freq": "800000",
            f"{policy}/cpuinfo_max_freq": "4800000",
            f"{policy}/scaling_min_freq": "800000",
            f"{policy}/scaling_max_freq": "4800000",
            f"{policy}/scaling_cur_freq": str(4_000_000 + 100_000 * i),
            f"{policy}/scaling_governor": "powersave",
            f"{policy}/scaling_available_governors": "performance powersave",
            f"{policy}/energy_performance_preference": "balance_performance",
            f"{policy}/energy_performance_available_preferences": "default performance balance_performance power",
            f"{cpu}/cpu{i}/thermal_throttle/core_throttle_count": "0",
        }
        if online and i:
            files[f"{cpu}/cpu{i}/online"] = "1"
    return files


def desktop(root: Path) -> Path:
    """A desktop: sensors with labels, a fan, power limits, huge pages."""
    chip, zone = "sys/class/hwmon/hwmon2", "sys/class/powercap/package-rapl:0"
    return put(
        root,
        processors(4)
        | {
            "sys/class/hwmon/hwmon0/name": "coretemp",
            "sys/class/hwmon/hwmon0/temp1_input": "41000",
            "sys/class/hwmon/hwmon0/temp1_label": "Package id 0",
            "sys/class/hwmon/hwmon0/temp1_crit": "100000",
            "sys/class/hwmon/hwmon0/temp2_input": "39000",
            "sys/class/hwmon/hwmon0/temp2_label": "Core 0",
            "sys/class/hwmon/hwmon0/temp3_input": "40500",
            "sys/class/hwmon/hwmon0/temp3_label": "Core 1",
            f"{chip}/name": "board",
            f"{chip}/in0_input": "1216",
            f"{chip}/in0_label": "Vcore",
            f"{chip}/fan2_input": "1180",
            f"{chip}/pwm2": "102",
            f"{chip}/pwm2_enable": "5",
            f"{zone}/name": "package-0",
            f"{zone}/energy_uj": "1000000",
            f"{zone}/max_energy_range_uj": "262143328850",
            f"{zone}/constraint_0_name": "long_term",
            f"{zone}/constraint_0_power_limit_uw": "125000000",
            f"{zone}/constraint_0_max_power_uw": "125000000",
            f"{zone}/constraint_1_name": "short_term",
            f"{zone}/constraint_1_power_limit_uw": "160000000",
            f"{zone}/constraint_1_max_power_uw": "0",
            "sys/devices/system/cpu/intel_pstate/no_turbo": "0",
            "sys/devices/system/cpu/intel_pstate/max_perf_pct": "100",
            "sys/kernel/mm/transparent_hugepage/enabled": "always [madvise] never",
        },
    )


OD_TABLE = """OD_SCLK:
0: 500Mhz
1: 2500Mhz
OD_MCLK:
0: 97Mhz
1: 1000Mhz
OD_VDDGFX_OFFSET:
0mV
OD_RANGE:
SCLK:     500Mhz       3000Mhz
MCLK:     674Mhz       1200Mhz
VDDGFX_OFFSET:    -450mV          0mV"""


def memory_device(mib: int, made_for: int, runs_at: int, part: str) -> bytes:
    """An SMBIOS structure of type 17, with the fields of version 3.2 up to the configured rate."""
    fields = bytearray(0x28)
    fields[0], fields[1] = 17, len(fields)
    struct.pack_into("<H", fields, 0x0C, mib if mib < 0x7FFF else 0x7FFF)
    struct.pack_into("<I", fields, 0x1C, mib)
    fields[0x1A] = 2
    struct.pack_into("<H", fields, 0x15, made_for)
    struct.pack_into("<H", fields, 0x20, runs_at)
    return bytes(fields) + b"DIMM A\0" + part.encode() + b"\0\0"


def graphics(root: Path) -> Path:
    """A desktop with a graphics card that has a table of clocks and voltages."""
    device = "sys/class/drm/card0/device"
    return put(
        root,
        processors(2)
        | {
            f"{device}/pp_od_clk_voltage": OD_TABLE,
            f"{device}/power_dpm_force_performance_level": "auto",
            f"{device}/pp_dpm_sclk": "0: 500Mhz\n1: 1480Mhz *\n2: 2500Mhz",
            f"{device}/pp_dpm_mclk": "0: 97Mhz *\n1: 1000Mhz",
            f"{device}/gpu_busy_percent": "63",
            f"{device}/mem_info_vram_used": str(3 << 30),
            f"{device}/current_link_width": "8",
            f"{device}/max_link_width": "16",
            f"{device}/max_link_speed": "16.0 GT/s PCIe",
            f"{device}/hwmon/hwmon3/power1_cap": "203000000",
            f"{device}/hwmon/hwmon3/power1_cap_min": "0",
            f"{device}/hwmon/hwmon3/power1_cap_max": "233000000",
        },
    )


def laptop(root: Path) -> Path:
    """A laptop on battery with named power modes and integrated graphics."""
    return put(
        root,
        processors(2)
        | {
            "sys/firmware/acpi/platform_profile": "balanced",
            "sys/firmware/acpi/platform_profile_choices": "low-power balanced performance",
            "sys/class/power_supply/BAT0/type": "Battery",
            "sys/class/power_supply/BAT0/status": "Discharging",
            "sys/class/drm/card0/gt_RPn_freq_mhz": "300",
            "sys/class/drm/card0/gt_RP0_freq_mhz": "1300",
            "sys/class/drm/card0/gt_max_freq_mhz": "1300",
            "sys/class/drm/card0/gt_cur_freq_mhz": "350",
            "sys/class/dmi/id/board_vendor": "Calder",
            "sys/class/dmi/id/board_name": "C8 board",
            "sys/class/dmi/id/bios_version": "1.07",
            "sys/class/thermal/thermal_zone0/type": "acpitz",
            "sys/class/thermal/thermal_zone0/temp": "44500",
        },
    )


def server(root: Path) -> Path:
    """A server with two packages, memory error counters, and a record of a crash."""
    files = processors(4, online=False)
    for package in range(2):
        zone = f"sys/class/powercap/package-rapl:{package}"
        files |= {
            f"{zone}/name": f"package-{package}",
            f"{zone}/energy_uj": str(5_000_000 * (package + 1)),
            f"{zone}/max_energy_range_uj": "65532610987",
            f"{zone}/constraint_0_name": "long_term",
            f"{zone}/constraint_0_power_limit_uw": str(150_000_000 + 15_000_000 * package),
            f"{zone}/constraint_0_max_power_uw": "200000000",
            f"sys/devices/system/edac/mc/mc{package}/ce_count": str(3 * package),
            f"sys/devices/system/edac/mc/mc{package}/ue_count": "0",
        }
    return put(
        root,
        files
        | {
            "sys/fs/pstore/dmesg-efi-1": "<0>[  812.2] Kernel panic - not syncing: Fatal machine check\n<4>[  812.3] CPU 3"
        },
    )
