"""What the head of a column says: a name, a unit, and by its words what the column is for, in English and German."""

from __future__ import annotations

import re
from dataclasses import dataclass
from enum import StrEnum

from yondle.language.saying import named
from yondle.model.verdicts import Failure, Verdict
from yondle.model.workloads import Direction


class Role(StrEnum):
    """What a column is taken for."""

    SETTING = "knob"
    BENCHMARK = "benchmark's name"
    FIGURE = "figure"
    PART = "sub-score"
    SENSOR = "sensor"
    UNIT = "unit"
    BETTER = "which way is better"
    GROUP = "group"
    PRESET = "preset"
    PASSAGE = "passage"
    CONDITION = "condition"
    OUTCOME = "how it went"
    NOTE = "note"
    LEFT = "left out"


UNITS = (
    "MHz", "GHz", "MT/s", "GT/s", "mV", "V", "W", "mW", "A", "%", "°C", "°F", "K", "ns", "µs", "us", "ms", "s", "min", "h",
    "GB/s", "MB/s", "GiB/s", "MiB/s", "IOPS", "frames/s", "frames/min", "fps", "points", "pts", "dB(A)", "dBA", "dB", "J", "Wh",
    "rpm",    "kkeys/s", "Mkeys/s", "MFLOPS", "GFLOPS", "TFLOPS", "Ah", "mAh", "€", "$", "GB", "GiB", "MB", "MiB",
)  # fmt: skip
_KNOWN = {unit.casefold(): unit for unit in UNITS}
LOWER_UNITS = frozenset({"ns", "µs", "us", "ms", "s", "min", "h", "dB(A)", "dBA", "dB", "J", "Wh", "€", "$", "°C", "W"})
SETTING_UNITS = frozenset({"MHz", "GHz", "MT/s", "GT/s", "mV", "V"})
SENSORS = {"W": "power", "°C": "temperature", "dB(A)": "noise", "dBA": "noise", "dB": "noise"}
"""What the units of costs are sensors of."""

_BRACKETS = re.compile(r"^(.*?)\s*[\[(]([^\[\]()]*(?:\([^()]*\))?)[\])]\s*(.*)$")
_LIKE_A_UNIT = re.compile(r"[A-Za-z\u00b5\u00b0%\u20ac$]{1,10}/[A-Za-z\u00b5]{1,8}")
"""What stands in brackets behind a name and is so much of something per something is a unit, known or not."""
_RUN = re.compile(
    r"^(.*?)[\s_#(-]*\b(?:run|pass|try|lauf|durchlauf|durchgang|#)\s*\.?\s*(\d{1,3})\)?$|^(.*?)[\s_(-]*#(\d{1,3})\)?$",
    re.I,
)
_NUMBERED = re.compile(r"^(\d{1,2})\.?\s*(?:run|pass|try|lauf|durchlauf|durchgang)$", re.I)
_LOWER = re.compile(r"lower(?: is)?(?: better)?|smaller is better|niedriger|kleiner ist besser|\u2193", re.I)
_HIGHER = re.compile(r"higher(?: is)? better|larger is better|mehr ist besser|h\u00f6her ist besser|\u2191", re.I)


def _words(text: str) -> frozenset[str]:
    return frozenset(text.split())


_WORDS: dict[Role | str, frozenset[str]] = {
    Role.BENCHMARK: _words(
        "benchmark benchmarks test tests workload workloads program programme application app job jobs game games task tasks "
        "programm anwendung spiel spiele aufgabe titel messung"
    ),
    "value": _words(
        "score scores value values figure figures result results mean average avg median ergebnis ergebnisse wert werte "
        "mittel mittelwert durchschnitt punkte"
    ),
    Role.UNIT: _words("unit units einheit"),
    Role.BETTER: _words("better direction besser richtung"),
    Role.GROUP: _words("group kind category type class gruppe art kategorie"),
    Role.PRESET: _words("preset quality qualit\u00e4t voreinstellung detail details"),
    Role.PASSAGE: _words("passage scene map level szene abschnitt strecke file datei"),
    Role.NOTE: _words("note notes comment comments remark remarks notiz notizen anmerkung bemerkung kommentar"),
    Role.OUTCOME: _words(
        "outcome ausgang stable stability status held ok passed pass? verdict stabil stabilit\u00e4t h\u00e4lt gehalten bestanden"
    ),
    Role.CONDITION: _words(
        "driver treiber version firmware room ambient raum system kernel machine ger\u00e4t rechner device mode modus"
    ),
    "number": _words("no nr number nummer # step schritt row zeile id index"),
    "date": _words("date time day datum zeit tag when"),
    "gain": _words(
        "gain gains diff difference delta \u03b4 \u0394 change vs relative improvement uplift speedup gewinn unterschied "
        "zuwachs \u00e4nderung relativ"
    ),
    "spread": _words("stdev stddev deviation spread error margin \u03c3 sd cv range abweichung streuung fehler spanne"),
    "ends": _words("min minimum max maximum best worst lowest highest bester schlechtester"),
    "setting": _words(
        "clock voltage limit offset multiplier ratio timing timings cas cl trcd trp tras trfc cores threads workers fan cap "
        "tdp takt spannung grenze versatz kerne l\u00fcfter modules channels profile setting settings profil einstellung"
    ),
    "power": _words("power watts watt draw consumption leistung verbrauch leistungsaufnahme"),
    "temperature": _words("temperature temp temps temperatur hotspot"),
    "noise": _words("noise loudness lautst\u00e4rke ger\u00e4usch l\u00e4rm"),
    "battery": _words("battery akku batterie"),
    "price": _words("price cost preis kosten"),
}

_HELD = _words("held ok pass passed stable yes y true 1 \u2713 \u2714 good gehalten stabil ja bestanden gut")
_FAILED: tuple[tuple[Failure, str], ...] = (
    (
        Failure.NEVER_STARTED,
        r"no (?:boot|start|post)|(?:didn.?t|won.?t|doesn.?t|never) (?:boot|start|post)\w*|startet nicht",
    ),
    (Failure.FROZE, r"fr[eo]e?ze[ns]?|frozen?|hang|hung|locked up|eingefroren|h\u00e4ngt"),
    (Failure.RESTARTED, r"re-?boot(?:ed)?|re-?start(?:ed)?|neustart|neu gestartet|blue ?screen|panic"),
    (Failure.WRONG_RESULTS, r"errors?|wrong(?: results?)?|artifacts?|artefacts?|fehler|falsch|artefakte"),
    (Failure.PROGRAM_CRASHED, r"crash(?:ed)?|abst\u00fcrz\w*|absturz|abgest\u00fcrzt"),
    (Failure.CLOCK_NOT_HELD, r"throttl\w+|held back|gedrosselt"),
    (Failure.FAILED, r"fail(?:ed|s|ure)?|unstable|no|x|\u2717|\u2718|bad|instabil|nein|nicht stabil|false"),
)
EMPTY = frozenset(("", "-", "\u2013", "\u2014", "n/a", "na", "n.a.", "?", "/", "none", "k. a.", "k.a.", "."))


@dataclass(frozen=True, slots=True)
class Head:
    """The head of a column, taken apart: its name without the unit, and what its words say it is."""

    text: str
    name: str
    unit: str
    run: int | None
    direction: Direction | None

    def says(self, what: Role | str) -> bool:
        """Tell whether one of its words is one of those for something."""
        return bool(words_of(self.name) & _WORDS[what])

    @property
    def only(self) -> bool:
        """Tell whether it is nothing but a word for the figure itself, such as 'Score'."""
        words = words_of(self.name)
        return not words or words <= _WORDS["value"]


def head_of(text: str) -> Head:
    """Take a head apart."""
    direction = Direction.LOWER if _LOWER.search(text) else Direction.HIGHER if _HIGHER.search(text) else None
    bare = _HIGHER.sub("", _LOWER.sub("", text)) if direction is not None else text
    bare = re.sub(r"[\[(]\s*[,;]?\s*[\])]", "", bare).strip(" ,;:\u00b7")
    name, unit = bare, ""
    found = _BRACKETS.match(bare)
    inside = found[2].strip(" ,;") if found is not None else ""
    if found is not None and (unit_of(inside) or _LIKE_A_UNIT.fullmatch(inside)):
        name, unit = f"{found[1]} {found[3]}".strip(), unit_of(inside) or inside
    else:
        for separator in (", ", " in ", " / ", " "):
            before, _, last = bare.rpartition(separator)
            if before and unit_of(last.strip()):
                name, unit = before, unit_of(last.strip())
                break
    run = _run_of(name)
    return Head(
        text,
        run[0] if run is not None else name.strip(" ,;:\u00b7"),
        unit,
        run[1] if run is not None else None,
        direction,
    )


def _run_of(name: str) -> tuple[str, int] | None:
    if found := _NUMBERED.match(name.strip()):
        return "", int(found[1])
    if found := _RUN.match(name.strip()):
        return (found[1] or found[3] or "").strip(" ,;:\u00b7-"), int(found[2] or found[4])
    return None


def unit_of(text: str) -> str:
    """Give a unit that is known, as it is usually written; '' for what is none, or stands for something else."""
    return _KNOWN.get(text.casefold(), "")


def words_of(text: str) -> set[str]:
    """Give the words of a text, small."""
    return {word for word in re.split(r"[\s_/,;:()\[\].-]+", text.casefold()) if word}


def word_outcome(text: str) -> Failure | bool | None:
    """Read how it went: True for held, a way to fail, None for what says neither."""
    plain = text.strip().strip("!.()").casefold()
    exact = next((f for f in Failure if plain in (f.value, named(f).casefold())), None)
    if exact is not None:
        return exact
    if plain in _HELD or plain == named(Verdict.HELD).casefold():
        return True
    for failure, pattern in _FAILED:
        if re.fullmatch(pattern, plain) or (len(plain) > 3 and re.match(rf"(?:{pattern})\b", plain)):
            return failure
    return None


def says_lower(text: str) -> bool:
    """Tell whether words for which way is better say that less is."""
    return text.strip().casefold().startswith(("low", "less", "small", "nied", "wenig", "kl", "\u2193", "-"))


def group_of(text: str) -> str:
    """Give the group of benchmarks that a word names, by its value; '' for none."""
    plain = text.strip().casefold()
    for value, names in (
        ("processor", ("processor", "cpu", "prozessor", "compute")), ("memory", ("memory", "ram", "speicher")),
        ("graphics", ("graphics", "gpu", "grafik", "games", "game", "spiele")),
        ("storage", ("storage", "disk", "drive", "datentr\u00e4ger", "laufwerk", "ssd")),
        ("cooling", ("cooling", "k\u00fchlung")), ("machine", ("machine", "programs", "system", "real programs", "programme")),
    ):  # fmt: skip
        if plain in names:
            return value
    return ""


def same(one: str, other: str) -> bool:
    """Tell whether two names are the same but for how they are written."""
    return _plain(one) == _plain(other)


def within(short: str, long: str) -> bool:
    """Tell whether all the words of a name stand in another."""
    return bool(words_of(short)) and words_of(short) <= words_of(long)


def _plain(text: str) -> str:
    return re.sub(r"[\s_-]+", " ", text).strip().casefold()
