"""What a logbook keeps beside its steps: one typed document a subject, with its default and its rule for two made one.

A document is kept under `NAME` as the JSON value its model writes. Reading one that isn't what it should be is damage, told
when it is read. `merged` and `renumbered` say what becomes of it when two logbooks are made into a third: by default the first
one's stands, and no step is named in it.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from typing import Annotated, Any, ClassVar, Generic, Self, TypeVar

from pydantic import AfterValidator, BaseModel, ConfigDict, Field, RootModel, ValidationError

from yondle.formats.knob_table import DescribedKnob
from yondle.language.saying import named, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup, Subsystem
from yondle.model.workloads import Direction

LARGEST = 1e100
Numbering = Callable[[int], int | None]
"""Gives the new number of a step; None for one that is gone."""


def _sized(value: float) -> float:
    if not abs(value) <= LARGEST:
        raise ValueError(say("must be a finite number"))
    return value


Figure = Annotated[float, Field(strict=True), AfterValidator(_sized)]


class Document(BaseModel):
    """What all documents share. `OF_THE_RIG` marks what is known of the first logbook's rig alone."""

    NAME: ClassVar[str]
    OF_THE_RIG: ClassVar[bool] = False

    def renumbered(self, steps: Numbering, attempts: Numbering) -> Self:
        """Give it with steps and tests in their new numbers."""
        return self

    def merged(self, other: Self) -> Self:
        """Make it and that of another logbook one; raises KnownError where both can't stand."""
        return self


T = TypeVar("T")


class RootDocument(Document, RootModel[T], Generic[T]):
    """A document that is one value; what it may hold is put together when the first is read, not when the program starts."""

    model_config = ConfigDict(frozen=True, strict=True, defer_build=True)


_LOOSE = ConfigDict(frozen=True, strict=True, defer_build=True, extra="allow")


class FieldsDocument(Document):
    """A document of named fields; fields it doesn't know, which a later Yondle may write, are kept."""

    model_config = _LOOSE


class _Part(BaseModel):
    model_config = _LOOSE


# -- the tuner's own --------------------------------------------------------------------------------------------------


class OwnRanges(RootDocument[dict[str, tuple[Figure, Figure]]]):
    """The lowest and highest value the tuner stands for, by knob."""

    model_config = ConfigDict(strict=False)
    NAME = "ranges"
    root: dict[str, tuple[Figure, Figure]] = {}

    def merged(self, other: Self) -> Self:
        """Ranges of both, a knob's by the first that has one."""
        return type(self)({**other.root, **self.root})


class OwnLimits(RootDocument[dict[str, Figure | None]]):
    """The reading above which a test is stopped, by channel; None takes the rig's own limit away."""

    NAME = "limits"
    root: dict[str, Figure | None] = {}

    def merged(self, other: Self) -> Self:
        """Limits of both, a channel's by the first that has one."""
        return type(self)({**other.root, **self.root})


class HowTested(FieldsDocument):
    """How steps are tested: score passes, seconds of a load (0 leaves it out), and what rounds start below; None as is usual."""

    NAME = "how tested"
    passes: int | None = None
    load_s: dict[str, Figure] = {}
    start_below: Figure | None = None


class Conditions(RootDocument[dict[str, str]]):
    """What the tuner told about the rig that it can't find out by itself."""

    NAME = "conditions"
    root: dict[str, str] = {}

    def merged(self, other: Self) -> Self:
        """What was told in both, the first's where they differ."""
        return type(self)({**other.root, **self.root})


class ChosenBenchmarks(RootDocument[list[str]]):
    """The benchmarks that are run, by id; none chosen means the rig's own choice."""

    NAME = "chosen benchmarks"
    root: list[str] = []


class TypedWorkload(_Part):
    """A benchmark whose figures come from elsewhere."""

    id: str
    name: str
    unit: str
    direction: Annotated[Direction, Field(strict=False)]
    digits: Annotated[int, Field(ge=0, le=9)]
    group: Annotated[Subsystem, Field(strict=False)] | None = None
    """The part it is of, where that was told."""
    load: bool = False
    """Whether it yields no figure, and is a load that a machine elsewhere was tested with."""


class TypedWorkloads(RootDocument[list[TypedWorkload]]):
    """The benchmarks whose figures are typed in or imported."""

    NAME = "typed workloads"
    root: list[TypedWorkload] = []

    def merged(self, other: Self) -> Self:
        """Both lists; raises KnownError for one name with two units or directions, whose figures don't go together."""
        mine = {kept.name.casefold(): kept for kept in self.root}
        for theirs in other.root:
            same = mine.get(theirs.name.casefold())
            if same is not None and (same.unit, same.direction) != (theirs.unit, theirs.direction):
                raise KnownError(
                    say(
                        "{benchmark} is kept in {one} in one logbook and in {other} in the other.",
                        benchmark=same.name,
                        one=f"{same.unit or say('no unit')}, {named(same.direction)}",
                        other=f"{theirs.unit or say('no unit')}, {named(theirs.direction)}",
                    ),
                    say("Their figures don't go together; keep them apart and compare them side by side."),
                )
        told = other.as_in(self)
        new = [kept for kept in other.root if kept.name.casefold() not in mine]
        return type(self)([*self.root, *(kept.model_copy(update={"id": told[kept.id]}) for kept in new)])

    def as_in(self, first: Self) -> dict[str, str]:
        """Give the id of each benchmark here where another logbook's stand, too: theirs of the same name, or a free one."""
        theirs = {kept.name.casefold(): kept.id for kept in first.root}
        taken, told = set(theirs.values()), dict[str, str]()
        for kept in self.root:
            id_ = theirs.get(kept.name.casefold(), kept.id)
            while kept.name.casefold() not in theirs and id_ in taken:
                id_ += "_2"
            taken.add(id_)
            told[kept.id] = id_
        return told


# -- comparing and reporting ------------------------------------------------------------------------------------------


class Compared(RootDocument[list[str]]):
    """The columns last compared, by address; a step's is its number."""

    NAME = "compared"
    root: list[str] = []

    def renumbered(self, steps: Numbering, attempts: Numbering) -> Self:
        """Steps in their new numbers; those that are gone are left out."""
        return type(self)([new for each in self.root if (new := _address(each, steps)) is not None])


class Reference(_Part):
    """Scores from elsewhere to compare with, by benchmark, with a note."""

    scores: dict[str, list[Figure]]
    note: str


class References(RootDocument[dict[str, Reference]]):
    """References by name."""

    NAME = "references"
    root: dict[str, Reference] = {}

    def merged(self, other: Self) -> Self:
        """Those of both, the first's where a name stands in both."""
        return type(self)({**other.root, **self.root})


class Prices(RootDocument[dict[str, Figure]]):
    """What columns cost, by their addresses, in whatever money."""

    NAME = "prices"
    root: dict[str, Figure] = {}

    def renumbered(self, steps: Numbering, attempts: Numbering) -> Self:
        """Steps in their new numbers; those that are gone are left out."""
        named_ = {new: price for each, price in self.root.items() if (new := _address(each, steps)) is not None}
        return type(self)(named_)

    def merged(self, other: Self) -> Self:
        """Those of both, the first's where an address stands in both."""
        return type(self)({**other.root, **self.root})


class ReportQuestion(RootDocument[str]):
    """The question the report answers; empty without one."""

    NAME = "question"
    root: str = ""

    def merged(self, other: Self) -> Self:
        """The first's, or the other's where it has none."""
        return self if self.root else other


class ReportSections(RootDocument[list[str]]):
    """The sections of the report in their order; none means all of them."""

    NAME = "report sections"
    root: list[str] = []


class WantedGoal(RootDocument[str]):
    """The goal that is climbed toward, as the text of a plan of that kind; empty until one was chosen."""

    NAME = "goal"
    root: str = ""

    def merged(self, other: Self) -> Self:
        """The first's, or the other's where it has none."""
        return self if self.root else other


class UnfoldedGroups(RootDocument[list[str]]):
    """The groups of knobs whose rulers are shown; none kept means those that are of use at first."""

    NAME = "unfolded groups"
    root: list[str] = []


class Mappings(RootDocument[dict[str, dict[str, Any]]]):
    """What the columns of tables meant, by their headings, oldest first."""

    NAME = "mappings"
    root: dict[str, dict[str, Any]] = {}

    def merged(self, other: Self) -> Self:
        """Those of both, the first's where a heading stands in both."""
        return type(self)({**other.root, **self.root})


# -- the real machine -------------------------------------------------------------------------------------------------


class OwnWorkloads(RootDocument[list[str]]):
    """The user's own workloads, each as the text of its file."""

    NAME = "own workloads"
    root: list[str] = []

    def merged(self, other: Self) -> Self:
        """Those of both; one that stands in both stands once."""
        return type(self)(list(dict.fromkeys((*self.root, *other.root))))


class OwnThings(RootDocument[list[str]]):
    """Files of the tuner's own knobs and sensors, each as its text."""

    NAME = "own knobs and sensors"
    root: list[str] = []

    def merged(self, other: Self) -> Self:
        """Those of both; one that stands in both stands once."""
        return type(self)(list(dict.fromkeys((*self.root, *other.root))))


class KnobsElsewhere(RootDocument[dict[str, DescribedKnob]]):
    """The knobs of a machine that runs no Yondle, as its tuner described them, by their ids."""

    model_config = ConfigDict(strict=False)
    NAME = "knobs elsewhere"
    OF_THE_RIG = True
    root: dict[str, DescribedKnob] = {}


class SensorsElsewhere(RootDocument[list[str]]):
    """The sensors that figures of a machine elsewhere were told with, by their ids."""

    NAME = "sensors elsewhere"
    OF_THE_RIG = True
    root: list[str] = []


class KeptMeter(_Part):
    """A meter outside the machine, as the tuner described it."""

    name: str
    address: str
    unit: str
    ask: str = ""
    field: int = 1
    factor: Figure = 1.0
    baud: int = 115_200
    follows: str = ""


class KeptMeters(RootDocument[list[KeptMeter]]):
    """The meters outside the machine."""

    NAME = "meters"
    root: list[KeptMeter] = []

    def merged(self, other: Self) -> Self:
        """Those of both, the first's where a name stands in both."""
        mine = {meter.name for meter in self.root}
        return type(self)([*self.root, *(meter for meter in other.root if meter.name not in mine)])


class RunSettings(FieldsDocument):
    """How workloads are run: niceness, memory in MiB (0 for half), where files are written, and on which processors."""

    NAME = "workload settings"
    nice: int = 0
    memory_mib: int = 0
    folder: str = ""
    processors: list[int] = []


class FoundStock(RootDocument[dict[str, Figure]]):
    """What every knob stood at when Yondle first saw it."""

    NAME = "stock"
    root: dict[str, Figure] = {}

    def merged(self, other: Self) -> Self:
        """What was found in both, the first's where they differ."""
        return type(self)({**other.root, **self.root})


class OthersAtMost(RootDocument[Figure | None]):
    """How much of the machine other programs may use, in %; None means the usual."""

    NAME = "others at most"
    root: Figure | None = None


class KeptDeclaration(RootDocument[dict[str, Any]]):
    """What the real machine was like when its logbook was last opened, for those who read it elsewhere."""

    NAME = "declaration"
    root: dict[str, Any] = {}


# -- what is kept in force over restarts --------------------------------------------------------------------------------


class Lived(_Part):
    """What a profile kept in force lived through from one start, or change of the power source, to the next.

    `boot` and `number` name it, `began` is when it was set, in ISO 8601; `failures` is 1 where the machine went down or a fault
    was logged, and `why` says which. `throttled` counts times.
    """

    boot: str
    number: int
    step: int
    name: str
    source: str
    began: str
    awake_s: Figure
    load_s: Figure
    errors: Figure
    throttled: Figure
    failures: int
    why: str
    open: bool


class KeptOverRestarts(FieldsDocument):
    """By what name the service that keeps profiles knows this logbook, and what they have lived through, oldest first."""

    NAME = "kept over restarts"
    id: str = ""
    lived: list[Lived] = []

    def renumbered(self, steps: Numbering, attempts: Numbering) -> Self:
        """The steps in their new numbers; what a step that is gone lived through is gone with it."""
        moved = ((lived, steps(lived.step)) for lived in self.lived)
        kept = [lived.model_copy(update={"step": step}) for lived, step in moved if step is not None]
        return self.model_copy(update={"lived": kept})

    def merged(self, other: Self) -> Self:
        """What both lived through; the name is the first's, whose steps keep their numbers."""
        known = {(lived.boot, lived.number) for lived in self.lived}
        more = [lived for lived in other.lived if (lived.boot, lived.number) not in known]
        return self.model_copy(update={"lived": sorted([*self.lived, *more], key=lambda lived: lived.began)})


# -- where the rig is -------------------------------------------------------------------------------------------------


class RigPosition(RootDocument[int | None]):
    """The step whose settings are in force; None before the baseline, and where the rig is at none."""

    NAME = "position"
    OF_THE_RIG = True
    root: int | None = None

    def renumbered(self, steps: Numbering, attempts: Numbering) -> Self:
        """The step in its new number."""
        return type(self)(steps(self.root) if self.root is not None else None)


class Heading(FieldsDocument):
    """Where the rig is being brought outside a test."""

    NAME = "heading"
    OF_THE_RIG = True
    setup: dict[str, Figure]
    position: int | None

    @property
    def towards(self) -> Setup:
        """The settings it is being brought to."""
        return Setup.of(self.setup)

    def renumbered(self, steps: Numbering, attempts: Numbering) -> Self:
        """The step in its new number."""
        return self.model_copy(update={"position": steps(self.position) if self.position is not None else None})


class Entry(FieldsDocument):
    """What is being entered by hand: the values, the settings they make, since which boot, and whether they put the rig back."""

    NAME = "entry"
    OF_THE_RIG = True
    attempt: int
    values: dict[str, Figure]
    setup: dict[str, Figure]
    putting_back: bool
    boot_id: str

    def renumbered(self, steps: Numbering, attempts: Numbering) -> Self:
        """The test in its new number."""
        return self.model_copy(update={"attempt": attempts(self.attempt) or 0})


class BenchAcross(FieldsDocument):
    """By what name the agent on a bench knows this logbook, and the command that makes the bench start again, if there is one."""

    NAME = "bench"
    OF_THE_RIG = True
    session: str = ""
    restart: list[str] = []


class ClockAhead(FieldsDocument):
    """By how many seconds the clock of a real machine runs ahead, and the boot that holds for."""

    NAME = "clock"
    OF_THE_RIG = True
    boot: str
    ahead_s: Figure


DOCUMENTS: tuple[type[Document], ...] = (
    OwnRanges, OwnLimits, Conditions, ChosenBenchmarks, TypedWorkloads, Compared, References, Prices, ReportQuestion,
    ReportSections, UnfoldedGroups, Mappings, OwnWorkloads, KeptMeters, RunSettings, HowTested, FoundStock, OthersAtMost,
    KeptDeclaration, KeptOverRestarts, RigPosition, Heading, Entry, BenchAcross, ClockAhead,
)  # fmt: skip
"""Every document there is."""

AnyDocument = TypeVar("AnyDocument", bound=Document)


class Documents:
    """The documents of a logbook as they stood at one moment; each is read when it is first asked for.

    `texts` are the JSON values by name; `damaged` makes the error for one that can't be read.
    """

    def __init__(self, texts: Mapping[str, str], damaged: Callable[[str], KnownError]) -> None:
        self._texts = dict(texts)
        self._damaged = damaged
        self._read: dict[type[Document], Any] = {}

    def find(self, kind: type[AnyDocument]) -> AnyDocument | None:
        """Give a document, None where none was kept; raises KnownError for a damaged one."""
        name = kind.NAME
        text = self._texts.get(name)
        if text is None or text == "null":
            return None
        if kind not in self._read:
            try:
                self._read[kind] = document_of(kind, json.loads(text, parse_constant=_no_number))
            except (ValueError, TypeError, RecursionError) as error:
                raise self._damaged(say("'{name}' in it can't be read ({error})", name=name, error=error)) from error
        found: AnyDocument = self._read[kind]
        return found

    def of(self, kind: type[AnyDocument]) -> AnyDocument:
        """Give a document, as it is before anything was kept where nothing was; raises KnownError for a damaged one."""
        found = self.find(kind)
        return found if found is not None else kind()


def document_of(kind: type[AnyDocument], value: Any) -> AnyDocument:
    """Read a document from its JSON value; raises ValueError, in one line, for what it can't be."""
    try:
        return kind.model_validate(value)
    except ValidationError as error:
        raise ValueError(error.errors()[0]["msg"]) from error


def value_of(document: Document) -> Any:
    """Give the JSON value a document is kept as."""
    return document.model_dump(mode="json")


def _address(address: str, steps: Numbering) -> str | None:
    """Give the new address of a column; those of other logbooks stay."""
    if not address.isdigit():
        return address
    number = steps(int(address))
    return str(number) if number is not None else None


def _no_number(name: str) -> float:
    raise ValueError(say("{name} is no number", name=name))
