"""Cards that only their maker's library reaches: what is offered, read, set and put back, with a stand-in for the library."""

from __future__ import annotations

import json
import os
import subprocess
import sys
from pathlib import Path

import pytest
from tests.linux.maker_library import BY_HAND, OWN_CURVE, Binding, Card
from tests.linux.trees import put

from yondle.model.sensors import Quantity
from yondle.rigs.linux.files import Tree
from yondle.rigs.linux.knobs import left_out_words, offered
from yondle.rigs.linux.probes import find_probes
from yondle.rigs.linux.root.helper import maker
from yondle.rigs.linux.root.helper.server import Server

OTHER = "_0000_41_00_0"


@pytest.fixture
def binding(monkeypatch: pytest.MonkeyPatch) -> Binding:
    """Two cards, told in another order than that of their addresses; the second answers neither to fans nor to offsets."""
    silent = {"nvmlDeviceGetNumFans", "nvmlDeviceGetMemClkVfOffset", "nvmlDeviceGetPowerUsage"}
    shy = Card("00000000:41:00.0", silent=silent | {"nvmlDeviceGetCurrentClocksThrottleReasons"}, shuts_down=20)
    made = Binding(shy, Card(b"00000000:0A:00.0"))
    monkeypatch.setattr(maker, "load", lambda root: made)
    return made


def _machine(root: Path, bus: str = "0000:0a:00.0", vendor: str = "0x10de") -> Path:
    device = f"sys/devices/pci0000:00/{bus}"
    put(root, {f"{device}/vendor": vendor, f"{device}/boot_vga": "1"})
    card = root / "sys/class/drm/card1"
    card.mkdir(parents=True)
    (card / "device").symlink_to(root / device)
    return root


def test_what_the_library_takes_is_offered_by_bus_address_and_the_rest_told(tmp_path: Path, binding: Binding) -> None:
    here = offered(_machine(tmp_path))
    ranges = {name: (knob.low, knob.high, knob.stock) for name, knob in here.knobs.items()}
    assert ranges == {
        "graphics_power_limit": (5.0, 260.0, 220.0),
        "graphics_clock_offset": (-500.0, 1000.0, 0.0),
        "graphics_memory_clock_offset": (-2000.0, 3000.0, 35.0),
        "graphics_fan_level_1": (20.0, 100.0, 34.0),
        "graphics_fan_level_2": (20.0, 100.0, 50.0),
        f"graphics_power_limit{OTHER}": (5.0, 260.0, 220.0),
        f"graphics_clock_offset{OTHER}": (-500.0, 1000.0, 0.0),
    }
    assert here.knobs[f"graphics_clock_offset{OTHER}"].name == "Graphics clock offset of card 41:00.0"
    assert here.knobs["graphics_fan_level_2"].name == "Graphics fan, level 2"
    told = [left_out_words(left) for left in here.left_out]
    assert len(told) == 2
    assert all("nothing tells to what it is fixed" in words for words in told)


def test_what_is_set_reads_back_and_every_card_is_left_as_it_was_found(tmp_path: Path, binding: Binding) -> None:
    shy, card = binding.cards
    before = [json.dumps(vars(each), default=str) for each in binding.cards]
    server = Server(_machine(tmp_path), os.getuid())
    n = iter(range(1, 100))

    def ask(**request: object) -> dict[str, object]:
        return server.answer(json.dumps({"n": next(n), **request}).encode())

    for knob, value in (
        ("graphics_power_limit", 180.0), ("graphics_clock_offset", 150.0), ("graphics_memory_clock_offset", -500.0),
        ("graphics_fan_level_1", 80.0), ("graphics_fan_level_2", 65.0), (f"graphics_power_limit{OTHER}", 200.0),
    ):  # fmt: skip
        assert ask(do="set", knob=knob, value=value)["reads"] == value
    assert (card.limit_mw, card.offsets, shy.limit_mw) == (180_000, {"Gpc": 150, "Mem": -500}, 200_000)
    assert [fan["policy"] for fan in card.fans] == [BY_HAND, BY_HAND]
    assert "outside 5 to 260" in str(ask(do="set", knob="graphics_power_limit", value=2.0)["why"])
    binding.refuses = {"nvmlDeviceSetGpcClkVfOffset"}
    refused = ask(do="set", knob=f"graphics_clock_offset{OTHER}", value=50.0)
    assert refused["why"] == "it was refused: the library says: Not Supported"
    binding.refuses = set()
    assert ask(do="put_back")["left"] == []
    assert card.fans[0] == {"level": 41, "policy": OWN_CURVE}
    assert ask(do="read", knob="graphics_fan_level_1")["reads"] == 34.0
    card.fans[0]["level"] = 34
    assert [json.dumps(vars(each), default=str) for each in binding.cards] == before


def test_what_the_cards_tell_is_read_with_what_holds_them_back(tmp_path: Path, binding: Binding) -> None:
    probes = {probe.channel.id: probe for probe in find_probes(Tree(_machine(tmp_path)), lambda: 0.0)}
    read = {name: probe.read() for name, probe in probes.items() if "41" not in name}
    assert read == {
        "graphics_clock": 1830.0, "graphics_memory_clock": 7001.0, "graphics_in_use": 97.0, "graphics_memory_used": 3.0,
        "graphics_power": 219.4, "graphics_temperature": 71.0, "graphics_fan_1": 34.0, "graphics_fan_2": 50.0,
        "graphics_power_limit_reached": 1.0, "graphics_heat_limit_reached": 0.0,
    }  # fmt: skip
    assert (probes["graphics_temperature"].most, probes["graphics_temperature_41_00_0"].most) == (90.0, None)
    flag = probes["graphics_power_limit_reached"].channel
    assert (flag.quantity, flag.follows, flag.of) == (Quantity.FLAG, "graphics_power_limit", "graphics_power")
    binding.cards[1].reasons = 0x40
    assert (probes[flag.id].read(), probes["graphics_heat_limit_reached"].read()) == (0.0, 1.0)
    binding.cards[1].silent = {"nvmlDeviceGetClockInfo"}
    assert probes["graphics_clock"].read() is None
    assert "graphics_power_41_00_0" not in probes


def test_a_card_that_only_the_library_would_reach_says_what_is_missing(tmp_path: Path) -> None:
    (left,) = offered(_machine(tmp_path / "a")).left_out
    assert "Graphics power limit" in left_out_words(left)
    assert "install the library's Python binding 'pynvml'" in left_out_words(left)
    assert offered(_machine(tmp_path / "b", vendor="0x1af4")).left_out == ()
    shown = _machine(tmp_path / "c")
    put(shown, {"sys/devices/pci0000:00/0000:0a:00.0/hwmon/hwmon3/name": "other"})
    assert offered(shown).left_out == ()


@pytest.mark.parametrize("mode", [0o644, 0o666])
def test_root_loads_it_only_from_where_root_alone_could_have_put_it(tmp_path: Path, mode: int) -> None:
    stand_in = Path(__file__).with_name("maker_library.py").read_text("utf-8")
    (tmp_path / "pynvml.py").write_text(
        stand_in + "\n_it = Binding(Card('00000000:0A:00.0'))\nnvmlInit = lambda: None\n"
        "def __getattr__(name):\n    return getattr(_it, name)\n"
    )
    (tmp_path / "pynvml.py").chmod(mode)
    code = (
        "import sys; sys.path.insert(0, sys.argv[1])\nfrom pathlib import Path\n"
        "from yondle.rigs.linux.root.helper.maker import library_cards\n"
        "print([card.address for card in library_cards(Path('/'))])"
    )
    done = subprocess.run(
        [sys.executable, "-c", code, str(tmp_path)], capture_output=True, text=True, check=True, timeout=60
    )
    loaded = mode == 0o644 or os.geteuid() != 0
    assert done.stdout.strip() == ("['0000:0a:00.0']" if loaded else "[]")
