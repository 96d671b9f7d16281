"""What the power source asks for."""

from __future__ import annotations

from yondle.language.saying import say
from yondle.model.profiles import Purpose
from yondle.views.shared.snapshot import Snapshot


def power_hint(book: Snapshot) -> str:
    """Say which profile suits the present power source, where another one is in force; empty when there is nothing to say."""
    on_battery = "battery" in str(book.conditions.get("power source", book.conditions.get("power", "")))
    if not on_battery:
        return ""
    for purpose in (Purpose.BATTERY, Purpose.QUIET):
        for kept in book.profiles:
            if kept.purpose is purpose:
                return "" if kept.setup == book.in_force else say("On battery use '{kept}'.", kept=kept.name)
    return ""
