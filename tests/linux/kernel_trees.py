"""Machines and cards as today's kernels print them: one a format, with the file and line of the kernel that prints it.

Lines are those of Debian's linux-source-6.1, or linux-source-6.12 where that is said. Every value is made up.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

from tests.linux.trees import put

CPU, CARD = "sys/devices/system/cpu", "sys/class/drm/card0"
DEVICE, PM = f"{CARD}/device", "drivers/gpu/drm/amd/pm"


@dataclass(frozen=True)
class Machine:
    """A stand-in: what prints it, its files, what is offered with the value found, and what is left out with the reason."""

    of: str
    files: dict[str, str]
    offered: dict[str, str]
    left_out: dict[str, str] = field(default_factory=dict)

    def at(self, root: Path) -> Path:
        """Write its files below a root."""
        return put(root, self.files)


def policies(most: dict[int, int], **more: str) -> dict[str, str]:
    """Policies of the frequency driver with their highest clocks in kHz, and what else each shows."""
    return {
        f"{CPU}/cpufreq/policy{cpu}/{name}": text
        for cpu, high in most.items()
        for name, text in {
            "cpuinfo_min_freq": "400000", "cpuinfo_max_freq": str(high), "scaling_min_freq": "400000",
            "scaling_max_freq": str(high), **more,
        }.items()
    }  # fmt: skip


def package(way: str, limits: dict[str, tuple[int, int, int]]) -> dict[str, str]:
    """A package's limiter: by the name of each constraint its limit and its maximum in µW, and its window in µs."""
    zone = f"sys/class/powercap/{way}:0"
    files = {f"{zone}/name": "package-0", f"{zone}/energy_uj": "1000000", f"{zone}/max_energy_range_uj": "262143328850"}
    for i, (name, (now, most, window)) in enumerate(limits.items()):
        files |= {
            f"{zone}/constraint_{i}_name": name,
            f"{zone}/constraint_{i}_power_limit_uw": str(now),
            f"{zone}/constraint_{i}_max_power_uw": str(most),
        }
        if window:
            files[f"{zone}/constraint_{i}_time_window_us"] = str(window)
    return files


def table(text: str, level: str = "auto") -> dict[str, str]:
    """A card with a table of clocks and voltages, at a performance level."""
    return {f"{DEVICE}/pp_od_clk_voltage": text, f"{DEVICE}/power_dpm_force_performance_level": level}


LEVELS = """OD_SCLK:
0:        300MHz        750mV
1:        600MHz        769mV
7:       1366MHz       1150mV
OD_MCLK:
0:        300MHz        750mV
2:       2000MHz        950mV
OD_RANGE:
SCLK:     300MHz       2000MHz
MCLK:     300MHz       2250MHz
VDDC:     750mV        1200mV"""
CURVE = """OD_SCLK:
0: 800Mhz
1: 1950Mhz
OD_MCLK:
1: 875MHz
OD_VDDC_CURVE:
0: 800MHz 711mV
1: 1375MHz 794mV
2: 1950MHz 1140mV
OD_RANGE:
SCLK:     800Mhz       2150Mhz
MCLK:     625Mhz        950Mhz
VDDC_CURVE_SCLK[0]:     800Mhz       2150Mhz
VDDC_CURVE_VOLT[0]:     750mV        1200mV
VDDC_CURVE_SCLK[1]:     800Mhz       2150Mhz
VDDC_CURVE_VOLT[1]:     750mV        1200mV
VDDC_CURVE_SCLK[2]:     800Mhz       2150Mhz
VDDC_CURVE_VOLT[2]:     750mV        1200mV"""
OFFSET = """OD_SCLK:
0: 500Mhz
1: 2474Mhz
OD_MCLK:
0: 97Mhz
1: 1000MHz
OD_VDDGFX_OFFSET:
{now}
OD_RANGE:
SCLK:     500Mhz       3000Mhz
MCLK:     674Mhz       1200Mhz{more}"""
ENDS = "OD_SCLK{colon}\n0:       200Mhz\n1:      2000Mhz\n{cclk}OD_RANGE{colon}\nSCLK:        200Mhz       2200Mhz\n"
CLOCKS = {"core_clock_most": "5 083.398 MHz", "core_clock_least": "400 MHz"}
CARD_CLOCKS = {"graphics_level": "auto", "graphics_clock": "2 474 MHz", "graphics_clock_lowest": "500 MHz"}
PROFILES = """PROFILE_INDEX(NAME) CLOCK_TYPE(NAME) FPS MinFreqType
 0 BOOTUP_DEFAULT*:
                    0(       GFXCLK)       0       5
 1 3D_FULL_SCREEN :
                    0(       GFXCLK)       0       5
 5        COMPUTE :
                    0(       GFXCLK)       0       5
 6         CUSTOM :
                    0(       GFXCLK)       0       5"""
I915 = {"RPn": "300", "RP0": "1300", "max": "1300", "min": "300", "cur": "350", "act": "0"}

MACHINES = {
    "cores of two kinds, listed": Machine(
        "drivers/cpufreq/cpufreq.c:711",
        policies({0: 5200000, 1: 5000000, 16: 3900000, 17: 3900000})
        | {"sys/devices/cpu_core/cpus": "0-15", "sys/devices/cpu_atom/cpus": "16-23"},
        {
            "core_clock_most_kind_1_of_2": "5 200 MHz", "core_clock_least_kind_1_of_2": "400 MHz",
            "core_clock_most_kind_2_of_2": "3 900 MHz", "core_clock_least_kind_2_of_2": "400 MHz",
        },
    ),
    "cores of three capacities": Machine(
        "drivers/base/arch_topology.c (cpu_capacity)",
        policies({0: 1800000, 4: 2400000, 7: 2900000})
        | {f"{CPU}/cpu{cpu}/cpu_capacity": text for cpu, text in ((0, "350"), (4, "800"), (7, "1024"))},
        {f"core_clock_{end}_kind_{i}_of_3": text for i, top in ((1, "2 900 MHz"), (2, "2 400 MHz"), (3, "1 800 MHz"))
         for end, text in (("most", top), ("least", "400 MHz"))},
    ),
    "cores sorted by their maker, no whole MHz": Machine(
        "drivers/cpufreq/amd-pstate.c (amd_get_max_freq)", policies({0: 5083398, 1: 5025000, 2: 4950000}), CLOCKS
    ),
    "an energy preference that is a number": Machine(
        "drivers/cpufreq/intel_pstate.c:869",
        policies({0: 4800000}, energy_performance_preference="131",
                 energy_performance_available_preferences="default performance balance_performance power"),
        {"core_clock_most": "4 800 MHz", "core_clock_least": "400 MHz", "energy_preference": "131"},
    ),
    "a governor alone": Machine(
        "drivers/cpufreq/cpufreq.c:832",
        policies({0: 4800000}, scaling_governor="schedutil", scaling_available_governors="schedutil"),
        {"core_clock_most": "4 800 MHz", "core_clock_least": "400 MHz"},
        {"governor": "one choice"},
    ),
    "boost by policy": Machine(
        "linux-source-6.12 drivers/cpufreq/cpufreq.c:632",
        policies({0: 4800000, 1: 4800000}, boost="1"),
        {"core_clock_most": "4 800 MHz", "core_clock_least": "400 MHz", "boost": "on"},
    ),
    "limits that are none": Machine(
        "drivers/powercap/intel_rapl_common.c:327",
        package("intel-rapl", {"long_term": (4095875000, 125000000, 0), "short_term": (4095875000, 0, 0)}),
        {"power_limit_long": "4 095.875 W", "power_limit_short": "4 095.875 W"},
    ),
    "a limit between two watts, with its window": Machine(
        "drivers/powercap/intel_rapl_common.c:445",
        package("intel-rapl", {"long_term": (17875000, 28000000, 27983872), "short_term": (25000000, 0, 2440)}),
        {"power_limit_long": "17.875 W", "power_window_long": "28 s", "power_limit_short": "25 W",
         "power_window_short": "0.00244 s"},
    ),
    "two limiters of one package": Machine(
        "drivers/thermal/intel/int340x_thermal/processor_thermal_rapl.c:105",
        package("intel-rapl", {"long_term": (60000000, 45000000, 0)})
        | package("intel-rapl-mmio", {"long_term": (35000000, 45000000, 0)}),
        {"power_limit_long": "60 W", "power_limit_long_mapped": "35 W"},
    ),
    "a limit of peaks": Machine(
        "drivers/powercap/intel_rapl_common.c:101",
        package("intel-rapl", {"long_term": (45000000, 45000000, 0), "peak_power": (120000000, 0, 0)}),
        {"power_limit_long": "45 W", "power_limit_peak": "120 W"},
    ),
    "a fan at rest": Machine(
        "drivers/hwmon/nct6775-core.c:2659",
        {"sys/class/hwmon/hwmon0/name": "board", "sys/class/hwmon/hwmon0/pwm1": "0",
         "sys/class/hwmon/hwmon0/pwm1_enable": "5"},
        {"fan_board_1": "0 %"},
    ),
    "a fan whose control can't be given back": Machine(
        "drivers/hwmon/nct6775-core.c:2608",
        {"sys/class/hwmon/hwmon0/name": "board", "sys/class/hwmon/hwmon0/pwm1": "90"},
        {},
        {"fan_board_1": "could not be put back"},
    ),
    "a power mode that is none of those to choose": Machine(
        "drivers/acpi/platform_profile.c:105",
        {"sys/firmware/acpi/platform_profile": "custom",
         "sys/firmware/acpi/platform_profile_choices": "low-power balanced performance"},
        {},
        {"power_mode": "could not be put back"},
    ),
    "second threads off at start": Machine(
        "kernel/cpu.c:2585",
        {f"{CPU}/smt/control": "off"} | {f"{CPU}/cpu{i}/online": "01"[i < 4] for i in range(1, 8)}
        | {f"{CPU}/cpu0/topology/thread_siblings_list": "0"},
        {"threads_per_core": "off", "processors_on_line": "4"},
    ),
    "no second threads": Machine(
        "kernel/cpu.c:2590", {f"{CPU}/smt/control": "notimplemented"}, {}, {"threads_per_core": "the processor has none"}
    ),
    "levels with a voltage each": Machine(
        f"{PM}/powerplay/hwmgr/smu7_hwmgr.c:5147", table(LEVELS, "manual"),
        {"graphics_level": "manual", "graphics_clock": "1 366 MHz", "graphics_voltage": "1 150 mV",
         "graphics_memory_clock": "2 000 MHz", "graphics_memory_voltage": "950 mV"},
    ),
    "levels with a voltage each, units in mixed case": Machine(
        f"{PM}/powerplay/hwmgr/vega10_hwmgr.c:4962", table(LEVELS.replace("MHz        7", "Mhz        7")),
        {"graphics_level": "auto", "graphics_clock": "1 366 MHz", "graphics_voltage": "1 150 mV",
         "graphics_memory_clock": "2 000 MHz", "graphics_memory_voltage": "950 mV"},
    ),
    "two ends and a curve": Machine(
        f"{PM}/swsmu/smu11/navi10_ppt.c:1361", table(CURVE),
        {"graphics_level": "auto", "graphics_clock": "1 950 MHz", "graphics_clock_lowest": "800 MHz",
         "graphics_memory_clock": "875 MHz", "graphics_curve_voltage_1": "711 mV", "graphics_curve_voltage_2": "794 mV",
         "graphics_curve_voltage_3": "1 140 mV"},
    ),
    "a curve without ranges": Machine(
        f"{PM}/powerplay/hwmgr/vega20_hwmgr.c:3514", table(CURVE.split("VDDC_CURVE_SCLK[0]")[0]),
        {"graphics_level": "auto", "graphics_clock": "1 950 MHz", "graphics_clock_lowest": "800 MHz",
         "graphics_memory_clock": "875 MHz"},
        {f"graphics_curve_voltage_{i}": "no range" for i in (1, 2, 3)},
    ),
    "an offset without a range": Machine(
        f"{PM}/swsmu/smu11/sienna_cichlid_ppt.c:1392", table(OFFSET.format(now="0mV", more="")),
        {**CARD_CLOCKS, "graphics_memory_clock": "1 000 MHz", "graphics_voltage_offset": "0 mV"},
    ),
    "an offset with a range in small letters": Machine(
        f"linux-source-6.12 {PM}/swsmu/smu13/smu_v13_0_0_ppt.c:1536",
        table(OFFSET.format(now="-40mV", more="\nVDDGFX_OFFSET:    -450mv          0mv")),
        {**CARD_CLOCKS, "graphics_memory_clock": "1 000 MHz", "graphics_voltage_offset": "−40 mV"},
    ),
    "integrated, headings without a colon, at level manual": Machine(
        f"{PM}/swsmu/smu12/renoir_ppt.c:531", table(ENDS.format(colon="", cclk=""), "manual"),
        {"graphics_level": "manual", "graphics_clock": "2 000 MHz", "graphics_clock_lowest": "200 MHz"},
    ),
    "integrated, at level auto: an empty table": Machine(
        f"{PM}/swsmu/smu12/renoir_ppt.c:530", table("\n"), {"graphics_level": "auto"},
        {"graphics_clock": "only at level manual"},
    ),
    "integrated, always shown": Machine(
        f"{PM}/swsmu/smu13/smu_v13_0_5_ppt.c:877", table(ENDS.format(colon=":", cclk="")),
        {"graphics_level": "auto", "graphics_clock": "2 000 MHz", "graphics_clock_lowest": "200 MHz"},
    ),
    "integrated, with the clocks of a core": Machine(
        f"{PM}/swsmu/smu11/vangogh_ppt.c:606",
        table(ENDS.format(colon=":", cclk="CCLK_RANGE in Core0:\n0:      1400Mhz\n1:      3500Mhz\n"), "manual"),
        {"graphics_level": "manual", "graphics_clock": "2 000 MHz", "graphics_clock_lowest": "200 MHz"},
    ),
    "a table of what is now": Machine(
        f"{PM}/swsmu/smu11/cyan_skillfish_ppt.c:295",
        table("OD_SCLK:\n0: 1500Mhz *\nOD_VDDC:\n0: 900mV *\nOD_RANGE:\nSCLK:    1000Mhz       2000Mhz\nVDDC:     700mV  "
              "      1129mV"),
        {"graphics_level": "auto"},
        {"graphics_clock": "shows what is, not what is set"},
    ),
    "a card's own fan control": Machine(
        f"linux-source-6.12 {PM}/swsmu/smu13/smu_v13_0_0_ppt.c:1396",
        {
            f"{DEVICE}/gpu_od/fan_ctrl/fan_curve":
                "OD_FAN_CURVE:\n0: 0C 0%\n1: 60C 40%\nOD_RANGE:\nFAN_CURVE(hotspot temp): 25C 100C\n"
                "FAN_CURVE(fan speed): 15% 100%",
            f"{DEVICE}/gpu_od/fan_ctrl/fan_minimum_pwm": "FAN_MINIMUM_PWM:\n23\nOD_RANGE:\nMINIMUM_PWM: 23 100",
            f"{DEVICE}/gpu_od/fan_ctrl/fan_target_temperature":
                "FAN_TARGET_TEMPERATURE:\n95\nOD_RANGE:\nTARGET_TEMPERATURE: 25 110",
            f"{DEVICE}/gpu_od/fan_ctrl/acoustic_limit_rpm_threshold":
                "OD_ACOUSTIC_LIMIT:\n3200\nOD_RANGE:\nACOUSTIC_LIMIT: 500 3200",
            f"{DEVICE}/gpu_od/fan_ctrl/acoustic_target_rpm_threshold":
                "OD_ACOUSTIC_TARGET:\n1450\nOD_RANGE:\nACOUSTIC_TARGET: 500 3200",
        },
        {"graphics_fan_curve_2": "40 %", "graphics_fan_minimum": "23 %", "graphics_fan_target": "95 °C",
         "graphics_fan_limit": "3 200 rpm", "graphics_fan_goal": "1 450 rpm"},
        {"graphics_fan_curve_1": "no range"},
    ),
    "profiles at level manual": Machine(
        f"{PM}/swsmu/smu11/navi10_ppt.c (navi10_get_power_profile_mode)",
        {f"{DEVICE}/pp_power_profile_mode": PROFILES, f"{DEVICE}/power_dpm_force_performance_level": "manual"},
        {"graphics_level": "manual", "graphics_profile": "bootup default"},
    ),
    "profiles at level auto": Machine(
        f"{PM}/swsmu/smu11/navi10_ppt.c (navi10_set_power_profile_mode)",
        {f"{DEVICE}/pp_power_profile_mode": PROFILES, f"{DEVICE}/power_dpm_force_performance_level": "auto"},
        {"graphics_level": "auto"},
        {"graphics_profile": "only at level manual"},
    ),
    "a level for profiling": Machine(
        f"{PM}/amdgpu_pm.c:297", {f"{DEVICE}/power_dpm_force_performance_level": "profile_peak"},
        {"graphics_level": "profile_peak"},
    ),
    "a card's power, from nothing on": Machine(
        f"{PM}/amdgpu_pm.c:3279",
        {f"{DEVICE}/hwmon/hwmon3/power1_cap{end}": text
         for end, text in (("", "203000000"), ("_min", "0"), ("_max", "233000000"))},
        {"graphics_power_limit": "203 W"},
    ),
    "the other driver's power": Machine(
        "linux-source-6.12 drivers/gpu/drm/i915/i915_hwmon.c:284",
        {f"{DEVICE}/hwmon/hwmon3/power1_max": "190000000", f"{DEVICE}/hwmon/hwmon3/power1_rated_max": "190000000"},
        {"graphics_power_limit": "190 W"},
    ),
    "clocks in the card's folder": Machine(
        "drivers/gpu/drm/i915/i915_sysfs.c", {f"{CARD}/gt_{name}_freq_mhz": text for name, text in I915.items()},
        {"graphics_clock_most": "1 300 MHz", "graphics_clock_least": "300 MHz"},
    ),
    "clocks by part": Machine(
        "drivers/gpu/drm/i915/gt/intel_gt_sysfs_pm.c",
        {f"{CARD}/gt/gt0/rps_{name}_freq_mhz": text for name, text in I915.items()},
        {"graphics_clock_most": "1 300 MHz", "graphics_clock_least": "300 MHz"},
    ),
    "clocks by tile": Machine(
        "linux-source-6.12 drivers/gpu/drm/xe/xe_gt_freq.c:201",
        {f"{DEVICE}/tile0/gt0/freq0/{name}_freq": text
         for name, text in (("rpn", "300"), ("rp0", "2400"), ("max", "2400"), ("min", "300"), ("cur", "600"), ("act", "0"))},
        {"graphics_clock_most": "2 400 MHz", "graphics_clock_least": "300 MHz"},
    ),
}  # fmt: skip
