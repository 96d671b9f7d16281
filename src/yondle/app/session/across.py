"""A bench across the room: how it is reached, and what may restart it, looked at and chosen by the tuner."""

from __future__ import annotations

from dataclasses import dataclass

from yondle.app.machine.allowing import allow
from yondle.app.machine.restarting import RestartCommand, restart_command
from yondle.app.session.commands import Command
from yondle.app.session.session import Session
from yondle.formats.documents import BenchAcross
from yondle.language.saying import say
from yondle.model.errors import KnownError
from yondle.model.quantities import duration
from yondle.rigs.bench.rig import BenchRig
from yondle.views.shared.snapshot import Snapshot


@dataclass(frozen=True, slots=True)
class BenchTold:
    """How a bench is reached: its address, why it is away (nothing while it is there), and the two clocks.

    `delay_ms` is half the way of the quickest exchange and as uncertain is what is told of its clock; `date_apart_s` is how far
    its date is ahead of ours. `restart` is the command that makes it start again, `watchdog` why its own may not do so,
    `missing` why what only root may set isn't offered there.
    """

    address: str
    away: str
    delay_ms: float | None
    date_apart_s: float | None
    restart: str
    watchdog: str
    missing: str = ""

    def lines(self) -> tuple[str, ...]:
        """In words."""
        told = [self.away or say("{address} is there.", address=self.address)]
        if self.delay_ms is not None:
            told.append(
                say("A message takes {delay:.1f} ms to reach it; samples are dated that exactly.", delay=self.delay_ms)
            )
        if self.date_apart_s is not None and abs(self.date_apart_s) >= 2.0:
            apart = duration(abs(self.date_apart_s))
            told.append(
                say("Its date is {apart} ahead of the one here, by which the record goes.", apart=apart)
                if self.date_apart_s > 0
                else say("Its date is {apart} behind the one here, by which the record goes.", apart=apart)
            )
        if self.missing:
            told.append(say("What only root may set isn't offered: {why}.", why=self.missing))
        if self.restart:
            told.append(say("Where it stays away in a night it is restarted with:  {command}", command=self.restart))
        else:
            told.append(say("No command restarts it where it stays away."))
        if not self.away:
            told.append(
                say("Its watchdog can't restart it: {why}", why=self.watchdog)
                if self.watchdog
                else say("Its watchdog may restart it where it freezes in a night.")
            )
        return tuple(told)


@dataclass(frozen=True)
class LookAtBench(Command[BenchTold]):
    """Look how a bench is reached; raises KnownError for a machine that is none."""

    def do(self, session: Session) -> BenchTold:
        """Look."""
        bench = _bench_of(session)
        related = bench.contact.related if not bench.away else None
        return BenchTold(
            session.declaration.info.place,
            bench.away_words if bench.away else "",
            related.within_s * 1000.0 if related is not None else None,
            related.date_apart_s if related is not None else None,
            restart_words(session.snapshot),
            "" if bench.away else bench.can_be_guarded(),
            "" if bench.away else bench.contact.missing,
        )


@dataclass(frozen=True)
class RestartWith(Command[None]):
    """Keep the command that makes the bench start again, and allow it on this computer; without words there is none any more."""

    command: str

    def do(self, session: Session) -> None:
        """Keep it; raises KnownError for none, and for a machine that is no bench."""
        _bench_of(session)
        kept = session.snapshot.kept.of(BenchAcross)
        if self.command:
            made = restart_command(self.command)
            allow(made)
            session.keep(kept.model_copy(update={"restart": list(made.words)}))
        else:
            session.keep(kept.model_copy(update={"restart": []}))


def restart_words(now: Snapshot) -> str:
    """Give the command that restarts the bench as it would be typed; nothing where there is none."""
    words = now.kept.of(BenchAcross).restart
    return str(RestartCommand(tuple(words))) if words else ""


def _bench_of(session: Session) -> BenchRig:
    bench = session.machine.bench
    if bench is None:
        raise KnownError(
            say("{rig} isn't across the room.", rig=session.declaration.info.name),
            say("Start a logbook with --rig ssh://user@host for one that is."),
        )
    return bench
