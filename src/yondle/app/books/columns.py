"""What can be compared side by side: steps, profiles, other logbooks, and figures typed in as a reference."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from pathlib import Path

from yondle.app.books.reading import read_book
from yondle.app.session.commands import Command, WhileTesting
from yondle.app.session.own import LONGEST_NAME
from yondle.app.session.session import Session
from yondle.app.system.folders import data_folder
from yondle.formats.documents import Compared, Prices, Reference, References
from yondle.language.saying import in_sentence, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.measured import NOTHING_MEASURED
from yondle.model.profiles import Profile
from yondle.model.steps import StepRecord
from yondle.model.verdicts import Verdict
from yondle.views.compare.columns import Books, Column, title
from yondle.views.shared.measured import (
    Figure,
    Setting,
    Settings,
    changed_words,
    setting_of,
    settings_of,
)
from yondle.views.shared.snapshot import Snapshot

STOCK, HERE, OF, PROFILE = "stock", "here", "#", "profile:"
"""Words for the baseline and the step in force, what stands between a file and what is meant in it, and before a profile."""
BOOK = ".yondle"
MOST_COLUMNS = 24


class _Writes(Command[None]):
    while_testing = WhileTesting.AT_NEXT_READING


@dataclass(frozen=True, slots=True)
class Offer:
    """Something that can be made a column: where it comes from, its address, and what it is called."""

    source: str
    address: str
    name: str


def offers(book: Snapshot, books: tuple[Snapshot, ...]) -> tuple[Offer, ...]:
    """List what can be compared: this logbook's steps and profiles, references, and those of other books read."""
    own = [
        Offer(say("This logbook"), address, _told(book, address, name))
        for address, name in _named(book.steps, book.baseline_step, book.position, book.profiles)
    ]
    typed = [Offer(say("References"), name, name) for name in _references(book)]
    others = [
        Offer(title(other), f"{other.path}{OF}{address}", _told(other, address, name))
        for other in books
        for address, name in _named(other.steps, other.baseline_step, other.position, other.profiles)
    ]
    return (*own, *typed, *others)


def books_nearby(book: Snapshot) -> tuple[Path, ...]:
    """List other logbooks beside this one and in the usual folder, newest first."""
    own = book.path.resolve()
    found = {p.resolve() for folder in {own.parent, data_folder().resolve()} for p in folder.glob("*.yondle")} - {own}
    return tuple(sorted(found, key=lambda p: (-p.stat().st_mtime, p.name)))


def compared(book: Snapshot) -> tuple[str, ...]:
    """List the addresses last compared; at first stock, every profile, and the step in force."""
    kept = book.kept.of(Compared).root
    if kept:
        return tuple(kept)
    base, here = book.baseline_step, book.position
    profiles = [p for p in book.profiles if p.step is not None]
    first = [STOCK] if base is not None else []
    named = [_address_of(p) for p in profiles]
    told = {p.step for p in profiles} | ({base.step.number} if base is not None else set())
    return (*first, *named, *([HERE] if here is not None and here.step.number not in told else []))


@dataclass(frozen=True)
class CompareThese(_Writes):
    """Keep what is compared; raises KnownError for too many."""

    addresses: tuple[str, ...]

    def do(self, session: Session) -> None:
        """Keep it."""
        if len(self.addresses) > MOST_COLUMNS:
            raise KnownError(
                say("{addresses} columns can't be told apart.", addresses=len(self.addresses)),
                say("Choose {most_columns} at most.", most_columns=MOST_COLUMNS),
            )
        session.keep(Compared(list(self.addresses)))


class Shelf:
    """The logbooks at hand: the open one, and others as they stood when they were first asked for."""

    def __init__(self, latest: Callable[[], Snapshot]) -> None:
        self._latest = latest
        self._read: dict[Path, Snapshot] = {}
        self._measured: dict[Path, Settings] = {}

    @property
    def books(self) -> tuple[Snapshot, ...]:
        """The other logbooks read so far."""
        return tuple(self._read.values())

    def book(self, path: Path) -> Snapshot:
        """Read another logbook, once; raises KnownError for one that can't be read."""
        if path not in self._read:
            self._read[path] = read_book(path)
        return self._read[path]

    def with_settings(self, own: Settings, addresses: tuple[str, ...]) -> Books:
        """Give the open logbook and those that some of the addresses lie in, with what was measured in each."""
        wanted = {Path(file) for file, _ in map(self._parted, addresses) if file}
        others = [book for path, book in self._read.items() if path in wanted]
        for book in others:
            if book.path not in self._measured:
                self._measured[book.path] = settings_of(book)
        return [(self._latest(), own), *((book, self._measured[book.path]) for book in others)]

    def read_again(self) -> None:
        """Forget what other books said, so that they are read anew."""
        self._read.clear()
        self._measured.clear()

    def columns(self, addresses: tuple[str, ...]) -> tuple[tuple[Column, ...], tuple[KnownError, ...]]:
        """Give the columns of addresses, and why some of them can't be had any more."""
        found, missing = [], []
        for address in addresses:
            try:
                found.append(self.column(address))
            except KnownError as error:
                missing.append(error)
        return tuple(found), tuple(missing)

    def _parted(self, address: str) -> tuple[str, str]:
        """Part an address into another logbook, empty for the open one, and what is meant of it.

        Names may hold anything: what is a name here is no file with something of it.
        """
        if address.startswith(PROFILE):
            return "", address
        file, of, what = address.partition(BOOK + OF)
        if of:
            return file + BOOK, what
        if address.endswith(BOOK):
            return address, STOCK
        names = {kept.name.casefold() for kept in self._latest().profiles}
        if address.casefold() in names or address in _references(self._latest()):
            return "", address
        file, of, what = address.rpartition(OF)
        return (file, what) if of else ("", address)

    def column(self, address: str) -> Column:
        """Give one column: 'stock', 'here', a step's number, a profile ('profile:' before its name
        where that means something else), a reference, or 'other.yondle#stock' and so on.

        Raises KnownError for what is not there.
        """
        book = self._latest()
        file, what = self._parted(address)
        if file:
            other = self.book(Path(file))
            record, name = _found(what, other.steps, other.baseline_step, other.position, other.profiles)
            return _column(address, f"{title(other)} · {name}", other, record)
        if what in (references := _references(book)):
            return _reference(book, what, references[what])
        record, name = _found(what, book.steps, book.baseline_step, book.position, book.profiles)
        return _column(address, name, book, record)


@dataclass(frozen=True)
class AddReference(_Writes):
    """Keep scores from elsewhere to compare with, in the unit of a benchmark; more under the same name join them.

    Raises KnownError for a name that means something else already, and for what can't be a score.
    """

    name: str
    benchmark: str
    scores: tuple[float, ...]
    note: str = ""

    def do(self, session: Session) -> None:
        """Keep them."""
        book = session.snapshot
        workload, clean = book.declaration.workload(self.benchmark), self.name.strip()
        taken = {n.casefold() for _, n in _named([], None, None, book.profiles)} | {STOCK, HERE}
        if not clean or len(clean) > LONGEST_NAME or OF in clean or clean.isdigit() or clean.casefold() in taken:
            raise KnownError(
                say("'{clean}' can't be a reference's name.", clean=clean),
                say(
                    "Give 1 to {longest_name} characters without '{of}', no number, and no profile's name.",
                    longest_name=LONGEST_NAME,
                    of=OF,
                ),
            )
        if not self.scores or not all(0.0 < s < float("inf") for s in self.scores):
            raise KnownError(
                say("A reference needs scores above 0."), say("Give them in {unit}.", unit=workload.metric.unit)
            )
        kept = _references(book)
        before = kept.get(clean, Reference(scores={}, note=""))
        scores = {**before.scores, workload.id: [*before.scores.get(workload.id, []), *self.scores]}
        entry = Reference(scores=scores, note=self.note.strip() or before.note)
        session.keep(References({**kept, clean: entry}))


@dataclass(frozen=True)
class KeepPrice(_Writes):
    """Keep what a column costs, in whatever money; None takes it away. Raises KnownError for what is no price."""

    address: str
    price: float | None

    def do(self, session: Session) -> None:
        """Keep it."""
        if self.price is not None and not 0.0 <= self.price < float("inf"):
            raise KnownError(say("{price:g} is no price.", price=self.price), say("Give an amount of money from 0 up."))
        kept = prices(session.snapshot)
        kept.pop(self.address, None)
        session.keep(Prices(kept if self.price is None else {**kept, self.address: self.price}))


@dataclass(frozen=True)
class DropReference(_Writes):
    """Forget a reference; raises KnownError where there is none of that name."""

    name: str

    def do(self, session: Session) -> None:
        """Forget it."""
        kept = _references(session.snapshot)
        if self.name not in kept:
            raise KnownError(
                say("There is no reference '{name}'.", name=self.name),
                say("There are: {kept}.", kept=", ".join(kept) or say("none yet")),
            )
        session.keep(References({name: entry for name, entry in kept.items() if name != self.name}))


def prices(book: Snapshot) -> dict[str, float]:
    """Give what columns cost, by their addresses."""
    return dict(book.kept.of(Prices).root)


def _references(book: Snapshot) -> dict[str, Reference]:
    return book.kept.of(References).root


def _reference(book: Snapshot, name: str, kept: Reference) -> Column:
    figures = {w: tuple(Figure(float(s), 0.0, NOTHING_MEASURED) for s in scores) for w, scores in kept.scores.items()}
    setting = Setting(Setup.of({}), figures, (), Verdict.UNPROVEN, None, frozenset())
    return Column(name, name, "", kept.note or say("typed in"), book.declaration, setting, None, None)


def _named(
    steps: Sequence[StepRecord], base: StepRecord | None, here: StepRecord | None, profiles: tuple[Profile, ...]
) -> list[tuple[str, str]]:
    """Give address and name of everything in a logbook that has figures."""
    fixed = [(STOCK, say("Stock"))] if base is not None else []
    fixed += [(HERE, say("In force (step {number})", number=here.step.number))] if here is not None else []
    kept = [(_address_of(p), p.name) for p in profiles if p.step is not None]
    tested = [r.step.number for r in reversed(steps) if r.attempts or r.added]
    return [*fixed, *kept, *((str(n), say("Step {n}", n=n)) for n in tested)]


def _address_of(profile: Profile) -> str:
    """Give a profile's address: its name, with a word before it where that means something else."""
    return f"{PROFILE}{profile.name}" if _means_else(profile.name) else profile.name


def _means_else(name: str) -> bool:
    """Tell whether a name would be taken for stock, for what is in force, for a step, or for another logbook."""
    return name.casefold() in (STOCK, HERE) or name.isdigit() or OF in name or name.startswith(PROFILE) or BOOK in name


def _told(book: Snapshot, address: str, name: str) -> str:
    """Name a step with what it changed."""
    if not address.isdigit():
        return name
    step, knob = book.step(int(address)).step, book.declaration.knob
    words = ", ".join(f"{in_sentence(knob(c.knob).name)} {knob(c.knob).text(c.new)}" for c in step.changes)
    return f"{name} · {words or step.kind}"


def _found(
    what: str,
    steps: Sequence[StepRecord],
    base: StepRecord | None,
    here: StepRecord | None,
    profiles: tuple[Profile, ...],
) -> tuple[StepRecord, str]:
    by_number = {str(r.step.number): r for r in steps}
    if what == STOCK and base is not None:
        return base, say("Stock")
    if what == HERE and here is not None:
        return here, say("In force (step {number})", number=here.step.number)
    if what in by_number:
        return by_number[what], say("Step {what}", what=what)
    wanted = what.removeprefix(PROFILE).casefold()
    profile = next((p for p in profiles if p.name.casefold() == wanted), None)
    reserved = what.casefold() in (STOCK, HERE) or what.isdigit()
    meant = profile is not None and (what.startswith(PROFILE) or not reserved)
    if profile is not None and meant and str(profile.step) in by_number:
        return by_number[str(profile.step)], profile.name
    known = ", ".join(address for address, _ in _named(steps, base, here, profiles)[:12]) or say("nothing measured yet")
    raise KnownError(say("There is no '{what}' to compare.", what=what), say("There is: {known}.", known=known))


def _column(address: str, name: str, book: Snapshot, record: StepRecord) -> Column:
    setting = setting_of(record.step.setup, [record])
    declaration = book.declaration
    words = changed_words(declaration, setting.setup) or say("everything at stock")
    return Column(address, name, declaration.info.name, words, declaration, setting, book, record)
