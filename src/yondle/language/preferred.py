"""What is preferred on this machine of how things are said, from the file of preferences: nothing is said before."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping

from platformdirs import user_config_path

VARIABLE, TEMPERATURES = "YONDLE_LANGUAGE", "YONDLE_TEMPERATURES"


def with_preferred(environment: Mapping[str, str]) -> Mapping[str, str]:
    """Give the environment with the preferred language in it, where it asks for none itself and one is preferred."""
    language = "" if VARIABLE in environment else _preferred("language")
    return {**environment, VARIABLE: language} if language else environment


def in_fahrenheit(environment: Mapping[str, str]) -> bool:
    """Tell whether temperatures are to be shown in °F, as the environment asks ('F' or 'C'), else as is preferred."""
    wanted = environment.get(TEMPERATURES) or _preferred("temperatures")
    return wanted.strip().removeprefix("°").upper() == "F"


def _preferred(name: str) -> str:
    try:
        text = (user_config_path("yondle", appauthor=False) / "preferences.toml").read_text("utf-8")
        found = tomllib.loads(text).get(name, "")
    except (OSError, ValueError):
        return ""
    return found if isinstance(found, str) else ""
