from __future__ import annotations

from pathlib import Path

import pytest
from tests.conftest import HERON

from yondle.app.machine.machines import choose_rig
from yondle.formats.toml_files import LARGEST_FILE
from yondle.model.errors import KnownError
from yondle.rigs.simulated.rigfile import parse_rig_file


@pytest.mark.parametrize(
    ("before", "after", "says"),
    [
        ("cores = 8", 'cores = "many"', "chip.cores"),
        ("cores = 8", "cores = 8\ncolour = 3", "chip.colour: unknown key"),
        ("cores = 8", "", "chip.cores: missing"),
        ("stock = 4200", "stock = 4210", "must lie on the grid"),
        ("high = 5200", "high = 3000", "high must be above low"),
        ('load = "steady"', 'load = "dancing"', "names no load of this file: dancing"),
        ("evening_c = 9.5", "evening_c = nan", "finite number"),
        ('format = "yondle-rig 1"', 'format = "yondle-rig 9"', "format"),
        ("starts_at = 2026-10-17T20:30:00+01:00", "starts_at = 2026-10-17T20:30:00", "UTC offset"),
        ("[chip]", "[chip", "no valid TOML"),
    ],
)
def test_a_faulty_rig_file_is_refused_with_the_place_and_the_reason(before: str, after: str, says: str) -> None:
    assert before in HERON
    with pytest.raises(KnownError, match=r".+") as refusal:
        parse_rig_file(HERON.replace(before, after, 1), "heron.toml")
    assert says in str(refusal.value)
    assert "heron.toml" in str(refusal.value)


def test_a_rig_file_is_found_by_name_by_path_or_not_at_all(tmp_path: Path) -> None:
    mine = tmp_path / "mine.toml"
    mine.write_text(HERON.replace('name = "Heron"', 'name = "Mine"'))
    assert choose_rig(str(mine)).name == "Mine"
    assert choose_rig("heron").name == "Heron"
    with pytest.raises(KnownError, match="There is no rig"):
        choose_rig(str(tmp_path / "nothing.toml"))
    (tmp_path / "large.toml").write_text("#" * (LARGEST_FILE + 1))
    with pytest.raises(KnownError, match="too large"):
        choose_rig(str(tmp_path / "large.toml"))
    (tmp_path / "binary.toml").write_bytes(b"\xff\xfe\x00")
    with pytest.raises(KnownError, match="no text file"):
        choose_rig(str(tmp_path / "binary.toml"))


def test_choices_of_a_knob_the_model_computes_with_are_refused(tmp_path: Path) -> None:
    mine = tmp_path / "mine.toml"
    clock = '[knobs.core_clock]\nchoices = ["slow", "fast"]\nstock = 0\n'
    mine.write_text('like = "heron"\nwithout = ["knobs.core_clock"]\n' + clock)
    with pytest.raises(KnownError, match=r"core_clock choices.*Give low, high, step and stock") as refusal:
        choose_rig(str(mine))
    assert "numbers the model computes with" in str(refusal.value)


def test_a_sensor_the_model_has_not_got_is_named(tmp_path: Path) -> None:
    mine = tmp_path / "mine.toml"
    mine.write_text(HERON + "\n[sensors.mood]\n")
    with pytest.raises(KnownError, match="mood"):
        choose_rig(str(mine))
