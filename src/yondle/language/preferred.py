"""The language that is preferred on this machine, from the file of preferences: nothing is said before."""

from __future__ import annotations

import tomllib
from collections.abc import Mapping

from platformdirs import user_config_path

VARIABLE = "YONDLE_LANGUAGE"


def with_preferred(environment: Mapping[str, str]) -> Mapping[str, str]:
    """Give the environment with the preferred language in it, where it asks for none itself and one is preferred."""
    if VARIABLE in environment:
        return environment
    try:
        text = (user_config_path("yondle", appauthor=False) / "preferences.toml").read_text("utf-8")
        language = tomllib.loads(text).get("language", "")
    except (OSError, ValueError):
        return environment
    return {**environment, VARIABLE: language} if isinstance(language, str) and language else environment
