"""Whether the rig is ready for a baseline: what the machine can check by itself, with what to do where it isn't."""

from __future__ import annotations

import shutil
from dataclasses import dataclass

from yondle.app.session.commands import Command
from yondle.app.session.requests import heeded
from yondle.app.session.session import Session
from yondle.language.saying import in_sentence, named, say
from yondle.model.quantities import number, quantity
from yondle.model.sensors import IN_USE, OTHERS_USE

LOOKED_AT_S = 1.0
FEWEST_FREE_BYTES = 200 * 1024 * 1024


@dataclass(frozen=True, slots=True)
class ReadyItem:
    """One thing to be ready: its name, whether it is, how it stands in words, and what to do where it isn't."""

    name: str
    ready: bool
    words: str
    remedy: str = ""


@dataclass(frozen=True, slots=True)
class Readiness:
    """What there is to be ready, and whether a stop was asked for while that was checked."""

    items: tuple[ReadyItem, ...]
    stopped: bool


@dataclass(frozen=True)
class CheckReady(Command[Readiness]):
    """Check everything that can be checked on this rig; takes a second."""

    tests = runs = True

    def do(self, session: Session) -> Readiness:
        """Give what there is to be ready."""
        session.look()
        items = (
            _background(session),
            _temperature(session),
            _power(session),
            _governor(session),
            _disk(session),
            _restart(session),
        )
        return Readiness(tuple(item for item in items if item is not None), heeded(session))


def not_ready(items: tuple[ReadyItem, ...]) -> tuple[str, ...]:
    """Give in words what is not ready, as it is recorded when the tuner goes on knowingly."""
    return tuple(f"{in_sentence(item.name)}: {item.words}" for item in items if not item.ready)


def _reading(session: Session, channel_id: str) -> float | None:
    channels = [c.id for c in session.declaration.channels]
    if channel_id not in channels:
        return None
    return session.machine.rig.sample()[channels.index(channel_id)]


def _background(session: Session) -> ReadyItem | None:
    channel = session.declaration.playing(OTHERS_USE, IN_USE)
    if channel is None:
        return None
    session.machine.rig.sample()
    session.machine.clock.wait(LOOKED_AT_S)
    use = _reading(session, channel.id)
    if use is None:
        return ReadyItem(say("Background load"), False, say("can't be read"), say("Look what else is running."))
    words = say("{use} % of the machine is in use", use=number(use, 1))
    return ReadyItem(
        say("Background load"),
        use <= session.declaration.others_at_most,
        words,
        say("Close what isn't needed, then check again."),
    )


def _temperature(session: Session) -> ReadyItem | None:
    declaration = session.declaration
    if not declaration.settle_channel or declaration.settle_below is None:
        return None
    channel = declaration.channel(declaration.settle_channel)
    now = _reading(session, channel.id)
    if now is None:
        return ReadyItem(
            say("Temperatures"),
            False,
            say("{channel} gives no reading", channel=channel.name),
            say("Check again in a moment."),
        )
    settled = now <= declaration.settle_below
    limit = quantity(declaration.settle_below, channel.unit)
    at = quantity(now, channel.unit, channel.digits)
    words = (
        say("{channel} at {at}, below {limit}", channel=channel.name, at=at, limit=limit)
        if settled
        else say("{channel} at {at}, above {limit}", channel=channel.name, at=at, limit=limit)
    )
    return ReadyItem(say("Temperatures"), settled, words, say("Let it cool; every round waits for it anyway."))


def _power(session: Session) -> ReadyItem | None:
    source = session.snapshot.conditions.get("power source")
    if source is None:
        return None
    on_battery = source == "battery"
    return ReadyItem(
        say("Power source"), not on_battery, named(str(source)), say("Plug it in: on battery the firmware holds back.")
    )


def _governor(session: Session) -> ReadyItem | None:
    governor = session.snapshot.conditions.get("governor")
    if governor is None:
        return None
    fixed = governor == "performance"
    return ReadyItem(
        say("Governor"), fixed, str(governor), say("Set 'performance', so that the clock doesn't wander by itself.")
    )


def _disk(session: Session) -> ReadyItem:
    free = shutil.disk_usage(session.logbook.path.parent).free
    words = say("{free} MiB free for the logbook", free=number(free / 1024**2))
    return ReadyItem(say("Free disk"), free >= FEWEST_FREE_BYTES, words, say("Make room; a night writes some ten MiB."))


def _restart(session: Session) -> ReadyItem:
    pending = session.machine.rig.pending()
    waits = session.waits.now is not None
    named = ", ".join(session.declaration.knob(k).name for k in pending) or say("values to be entered")
    words = say("waiting for one: {named}", named=named) if pending or waits else say("none pending")
    return ReadyItem(
        say("Restart"), not (pending or waits), words, say("Restart first, or go back to where the rig stands.")
    )
