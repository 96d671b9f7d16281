"""What today's kernels print is offered, or the reason is told; what is set reads back, and all is put back as it was."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from tests.linux.kernel_trees import MACHINES, policies, table
from tests.linux.trees import put

from yondle.model.knobs import Knob
from yondle.rigs.linux.knobs import left_out_words, offered
from yondle.rigs.linux.root.helper import cards
from yondle.rigs.linux.root.helper.found import find, find_all
from yondle.rigs.linux.root.helper.interfaces import Why

LAST_COMMANDS: list[str] = []


def other_value(knob: Knob) -> float:
    """A value of the knob that isn't in force."""
    return next(value for value in knob.values() if value != knob.stock)


@pytest.mark.parametrize("name", MACHINES)
def test_what_is_there_is_offered_or_the_reason_is_told(name: str, tmp_path: Path) -> None:
    machine = MACHINES[name]
    here = offered(machine.at(tmp_path))
    found = {each: knob.text(knob.stock).replace("\u202f", " ") for each, knob in here.knobs.items()}
    assert found == machine.offered
    assert {left.knob: left.why.value for left in here.left_out} == machine.left_out
    assert all(knob.checked(knob.stock) == knob.stock for knob in here.knobs.values()), "what was found is a legal stop"
    for left in here.left_out:
        words = left_out_words(left)
        assert str(left.file) in words
        assert words.partition(":")[0] != left.knob, "it has a name"
        assert "{" not in words


@pytest.mark.parametrize("name", MACHINES)
def test_what_is_set_reads_back_and_is_put_back_as_it_was_found(
    name: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    root = MACHINES[name].at(tmp_path)
    monkeypatch.setattr(cards, "write", card_driver)
    here = offered(root)
    before = {path: plain(path) for path in root.rglob("*") if path.is_file()}
    for each, knob in here.knobs.items():
        value = other_value(knob)
        here.interfaces[each].set(value)
        assert here.interfaces[each].value() == value, each
    for each in reversed(list(here.knobs)):
        here.interfaces[each].put_back()
        assert here.interfaces[each].value() == here.knobs[each].stock, each
    assert {path: plain(path) for path in before} == before


def plain(file: Path) -> str:
    """What a file says, whatever its gaps are, and however units are written."""
    return " ".join(file.read_text().lower().split())


def card_driver(file: Path, text: str) -> None:
    """Takes commands as the driver of a card does: a row is changed at once, a reset gives the file as it was first seen."""
    first = FIRST.setdefault(file, file.read_text())
    LAST_COMMANDS.append(text)
    if text in ("c", "r"):
        file.write_text(first if text == "r" else file.read_text())
        return
    if file.name == "pp_power_profile_mode":
        lines = [line.replace("*:", " :") for line in file.read_text().splitlines()]
        chosen = next(i for i, line in enumerate(lines) if line.split()[:1] == [text] and line.endswith(" :"))
        lines[chosen] = lines[chosen].removesuffix(" :") + "*:"
        file.write_text("\n".join(lines))
        return
    words = text.split()
    headings = {"s": "OD_SCLK", "m": "OD_MCLK", "vc": "OD_VDDC_CURVE", "vo": "OD_VDDGFX_OFFSET"}
    lines, heading = file.read_text().splitlines(), headings.get(words[0], "")
    numbers = words[1:] if heading else words
    at = next((i for i, line in enumerate(lines) if line.rstrip(":") == heading), 0)
    single = heading == "OD_VDDGFX_OFFSET" or (not heading and len(words) == 1)
    row = at + 1 if single else next(i for i in range(at, len(lines)) if lines[i].startswith(f"{numbers[0]}:"))
    units = ("mV",) if heading == "OD_VDDGFX_OFFSET" else ("",) if single else ("Mhz", "mV") if heading else ("C", "%")
    said = " ".join(f"{value}{unit}" for value, unit in zip(numbers if single else numbers[1:], units, strict=False))
    lines[row] = said if single else f"{numbers[0]}: {said}"
    file.write_text("\n".join(lines))


FIRST: dict[Path, str] = {}


def test_a_cards_commands_are_those_of_its_generation(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    """drivers/gpu/drm/amd/pm/amdgpu_pm.c:651 and on: s, m with a level, vc with a point, vo; a row is said whole."""
    monkeypatch.setattr(cards, "write", card_driver)
    for name, knob, value, said in (
        ("levels with a voltage each", "graphics_voltage", 1050.0, "s 7 1366 1050"),
        ("levels with a voltage each", "graphics_memory_clock", 2100.0, "m 2 2100 950"),
        ("two ends and a curve", "graphics_clock", 2000.0, "s 1 2000"),
        ("two ends and a curve", "graphics_curve_voltage_3", 1100.0, "vc 2 1950 1100"),
        ("an offset with a range in small letters", "graphics_voltage_offset", -90.0, "vo -90"),
        ("a card's own fan control", "graphics_fan_curve_2", 55.0, "1 60 55"),
        ("a card's own fan control", "graphics_fan_target", 80.0, "80"),
    ):
        root = tmp_path / name / knob
        LAST_COMMANDS.clear()
        find(MACHINES[name].at(root))[knob].set(value)
        assert [said, "c"] == LAST_COMMANDS, knob


def test_cards_are_known_by_their_bus_address_whatever_number_they_got(tmp_path: Path) -> None:
    clocks = {}
    for boot, order in (("one", (0, 1)), ("two", (1, 0))):
        root = tmp_path / boot
        found = (("0000:03:00.0", 2000, "0"), ("0000:0a:00.0", 2200, "1"))
        for number, (address, clock, shows) in zip(order, found, strict=True):
            text = f"OD_SCLK:\n0: 500Mhz\n1: {clock}Mhz\nOD_RANGE:\nSCLK: 500Mhz 3000Mhz"
            put(
                root,
                {f"sys/devices/pci/{address}/pp_od_clk_voltage": text, f"sys/devices/pci/{address}/boot_vga": shows},
            )
            card = root / f"sys/class/drm/card{number}"
            card.mkdir(parents=True)
            (card / "device").symlink_to(root / f"sys/devices/pci/{address}")
        here = offered(root)
        clocks[boot] = {each: knob.stock for each, knob in here.knobs.items() if each.startswith("graphics_clock")}
        assert here.knobs["graphics_clock_0000_03_00_0"].name == "Graphics clock of card 03:00.0"
    assert clocks["one"] == clocks["two"]
    assert clocks["one"]["graphics_clock"] == 2200.0, "the one that shows the boot"


def test_cores_of_one_kind_take_what_each_of_them_can(tmp_path: Path) -> None:
    root = MACHINES["cores sorted by their maker, no whole MHz"].at(tmp_path)
    most = find(root)["core_clock_most"]
    files = sorted(root.rglob("scaling_max_freq"))
    most.set(5000.0)
    assert [file.read_text() for file in files] == ["5000000", "5000000", "4950000"]
    assert most.value() == 5000.0
    files[0].write_text("4000000")
    assert most.value() is None, "somebody else has set one of them"
    most.put_back()
    assert [file.read_text() for file in files] == ["5083398", "5025000", "4950000"]


def test_a_fan_that_its_own_control_turns_faster_is_still_as_it_was_found(tmp_path: Path) -> None:
    root = MACHINES["a fan at rest"].at(tmp_path)
    fan, level = find(root)["fan_board_1"], root / "sys/class/hwmon/hwmon0/pwm1"
    level.write_text("140")
    assert fan.value() == 0.0
    fan.set(60.0)
    assert fan.value() == 60.0
    level.write_text("140")
    assert fan.value() == 55.0, "under nobody's control but ours it has to be what was set"
    fan.put_back()
    assert (fan.value(), level.read_text()) == (0.0, "0")


def test_processors_that_second_threads_took_off_line_count_as_on(tmp_path: Path) -> None:
    cpu = "sys/devices/system/cpu"
    files = {f"{cpu}/smt/control": "on", f"{cpu}/cpu0/topology/thread_siblings_list": "0,2"}
    for i in (1, 2, 3):
        files |= {f"{cpu}/cpu{i}/online": "1", f"{cpu}/cpu{i}/topology/thread_siblings_list": f"{i % 2},{i % 2 + 2}"}
    online, root = find(put(tmp_path, files))["processors_on_line"], tmp_path / cpu
    assert (online.low, online.high, online.value()) == (1.0, 4.0, 4.0)
    (root / "smt/control").write_text("off")
    for i in (2, 3):
        (root / f"cpu{i}/online").write_text("0")
    assert online.value() == 4.0, "the switch took them, not this knob"
    online.set(1.0)
    assert [(root / f"cpu{i}/online").read_text() for i in (1, 2, 3)] == ["0", "0", "0"]
    assert online.value() == 3.0
    online.put_back()
    assert (root / "cpu1/online").read_text() == "1"


def test_what_cannot_be_read_or_differs_is_told(tmp_path: Path) -> None:
    root = put(tmp_path, policies({0: 4800000, 1: 4800000}, scaling_governor="powersave",
                                  scaling_available_governors="performance powersave"))  # fmt: skip
    (root / "sys/devices/system/cpu/cpufreq/policy1/scaling_governor").write_text("performance")
    (root / "sys/devices/system/cpu/cpufreq/policy1/scaling_max_freq").write_text("rubbish")
    (left,) = [each for each in find_all(root).left_out if each.knob == "governor"]
    assert left.why is Why.DIFFERS
    assert "core_clock_most" in find(root), "what isn't a number belongs to no clock"
    for text in ("", "1e400", "nan", "\x00\xff", "9" * 400, "-1"):
        (root / "sys/devices/system/cpu/cpufreq/policy1/scaling_max_freq").write_text(text)
        (root / "sys/devices/system/cpu/cpufreq/policy1/cpuinfo_max_freq").write_text(text)
        offered(root)
    upside_down = "OD_SCLK:\n0: 99999999999999999999Mhz\n1: -5Mhz\nOD_RANGE:\nSCLK: 500Mhz 300Mhz"
    for text in (upside_down, "OD_RANGE:", "OD_SCLK", "7:", "\n:\n"):
        put(root, table(text))
        assert "graphics_clock" not in offered(root).knobs


def test_each_format_is_named_by_the_file_of_the_kernel_that_prints_it() -> None:
    assert len(MACHINES) >= 25
    for machine in MACHINES.values():
        assert re.fullmatch(r"(linux-source-6\.12 )?(drivers|kernel)/[\w/-]+\.c(:\d+| \(\w+\))?", machine.of), (
            machine.of
        )
