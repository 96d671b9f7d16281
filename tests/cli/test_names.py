"""What knobs, sensors and benchmarks are called: by id or by name, and what is said where it is neither."""

from __future__ import annotations

import json
from pathlib import Path

import pytest
from tests.cli.conftest import Said

from yondle.app.session.opening import open_logbook
from yondle.cli import rig_commands
from yondle.planning.plan_files import read_plan

PLAN = """
format = "yondle-plan 1"
name = "by name"
passes = 2
[[do]]
kind = "sweep"
knob = "Core clock"
from = 4300
to = 4350
[[do]]
kind = "ladder"
knob = "Memory rate"
to = 6000
by = 200
relief."went down" = { knob = "Memory voltage", by = 0.01 }
[[do]]
kind = "steps"
steps = [{ "Power mode" = "Quiet", "fan level" = 60 }]
[[do]]
kind = "edge"
knob = "Core clock"
loads = ["Mixed load", "mixed_load"]
along = "Core voltage"
at = [1.2, 1.25]
[[do]]
kind = "proof"
loads = ["Memory check"]
hours = 1.0
"""


def test_commands_take_names_as_well_as_ids(yondle: Said, book: Path) -> None:
    at = str(book)
    assert yondle("step", at, "Core clock=4300", "-n", "2")[0] == 0
    assert yondle("step", at, "core-clock=4325", "-n", "2")[0] == 0
    assert yondle("limit", at, "Core clock=4900")[0] == 0
    assert yondle("limit", at, "Package power=120")[0] == 0
    assert yondle("benchmarks", at, "--use", "Stacking, star match")[0] == 0
    assert "Star match over baseline" in " ".join(yondle("status", at, "--benchmark", "Star match")[1].split())
    for asked in (("scaling", at, "Core clock"), ("target", at, "Stacking", "300"), ("limits", at)):
        code, out, err = yondle(*asked)
        assert code == 0, (asked, out, err)
    session = open_logbook(book)
    try:
        assert session.declaration.own_range(session.declaration.knob("core_clock"))[1] == 4900.0
        limits = {limit.channel: limit.most for limit in session.declaration.limits}
        assert limits["package_power"] == 120.0
        assert [b.id for b in session.declaration.benchmarks if b.id in session.declaration.chosen] == [
            "stacking",
            "star_match",
        ]
    finally:
        session.close()


def test_a_plan_may_name_what_it_changes(book: Path, tmp_path: Path) -> None:
    by_name, by_id = tmp_path / "names.toml", tmp_path / "ids.toml"
    by_name.write_text(PLAN)
    ids = PLAN
    for name, id_ in (
        ("Core clock", "core_clock"), ("Memory rate", "memory_rate"), ("Memory voltage", "memory_voltage"),
        ("Power mode", "power_mode"), ("fan level", "fan_level"), ("Mixed load", "mixed_load"), ("Core voltage", "core_voltage"),
        ("Memory check", "memory_check"),
    ):  # fmt: skip
        ids = ids.replace(f'"{name}"', f'"{id_}"')
    by_id.write_text(ids)
    session = open_logbook(book)
    try:
        assert read_plan(by_name, session.declaration)[0] == read_plan(by_id, session.declaration)[0]
    finally:
        session.close()


@pytest.mark.parametrize(
    ("asked", "says"),
    [
        (("step", "corclock=4300"), "Did you mean core_clock?"),
        (("step", "core_clock=4,300"), "'4,300' could be read in two ways. Write 4300 or 4.300."),
        (("limit", "pakage_power=100"), "Did you mean package_power?"),
        (("scaling", "memry rate"), "Did you mean memory_rate?"),
        (("target", "staking", "100"), "Did you mean stacking?"),
        (("benchmarks", "--use", "Stackng"), "Did you mean stacking?"),
        (("edge", "core_voltag"), "Did you mean core_voltage"),
        (("step", "flux=1"), "It has: core_clock, "),
    ],
)
def test_a_slip_is_told_with_what_may_have_been_meant(
    yondle: Said, book: Path, asked: tuple[str, ...], says: str
) -> None:
    command, *rest = asked
    before = json.loads(yondle("status", str(book), "--json")[1])
    code, _, err = yondle(command, str(book), *rest)
    assert code == 2
    assert says in " ".join(err.split())
    assert json.loads(yondle("status", str(book), "--json")[1]) == before


def test_choices_are_their_words_and_never_numbers_they_are_not(yondle: Said, book: Path) -> None:
    at = str(book)
    assert yondle("step", at, "power mode=full", "-n", "2")[0] == 0
    step = json.loads(yondle("step", at, "memory_channels=1", "-n", "2", "--json")[1])
    assert step["setup"]["power_mode"] == "Full"
    assert step["setup"]["memory_channels"] == 1.0
    assert step["changes"] == [{"knob": "memory_channels", "old": 2.0, "new": 1.0}]
    status = json.loads(yondle("status", at, "--json")[1])
    assert (status["in_force"]["power_mode"], status["in_force"]["link_width"]) == ("Full", "x16")
    code, out, _ = yondle("scaling", at, "memory channels", "--measure", "in proportion", "--json")
    assert code == 0
    stacking = next(c for c in json.loads(out)["curves"] if c["benchmark"] == "stacking")
    shares = [point["shown"] for point in stacking["points"]]
    assert shares[0] == pytest.approx(100.0, abs=1e-6)
    assert 45.0 < shares[1] < 65.0, "twice the channels for about the same score"
    code, _, err = yondle("scaling", at, "power_mode", "--measure", "in proportion")
    assert code == 2
    assert "nothing to show as 'in proportion'" in err
    assert yondle("scaling", at, "power_mode")[0] == 0


def test_a_sensors_limit_says_which_degrees_are_meant_where_others_are_shown(
    yondle: Said, book: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """A stop at 190 °C would stop nothing."""
    at, sensor = str(book), "processor_temperature"

    def most() -> float | None:
        session = open_logbook(book)
        try:
            return next((x.most for x in session.declaration.limits if x.channel == sensor), None)
        finally:
            session.close()

    assert yondle("limit", at, f"{sensor}=86")[0] == 0
    assert most() == 86.0
    monkeypatch.setattr(rig_commands, "FAHRENHEIT", True)
    code, _, told = yondle("limit", at, f"{sensor}=190")
    assert code == 2
    assert "190 could be °C or °F" in told.replace("'", "")
    assert most() == 86.0
    assert yondle("limit", at, f"{sensor}=194F")[0] == 0
    assert most() == pytest.approx(90.0)
    assert yondle("limit", at, f"{sensor}=88 °C")[0] == 0
    assert most() == 88.0
    assert yondle("limit", at, "package_power=120")[0] == 0, "watts are watts"
    assert yondle("limit", at, f"{sensor}=none")[0] == 0
    assert most() is None
