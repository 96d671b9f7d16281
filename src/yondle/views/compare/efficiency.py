"""What every setting costs: score per watt, energy per unit of work, heat, noise, and which settings no other beats."""

from __future__ import annotations

import math
from collections.abc import Hashable
from dataclasses import dataclass, replace

import numpy as np

from yondle.analysis.efficiency import (
    JOULES_PER_WH,
    Trade,
    fan_channel,
    joules_per_unit,
    power_channel,
    power_curve,
    unbeaten,
    work_unit,
)
from yondle.analysis.levels import Levels
from yondle.analysis.margins import Gain, GainWord, spread, turned_logs
from yondle.analysis.shapes import CurveReading, CurveShape
from yondle.analysis.stability import HOUR_S
from yondle.language.saying import in_sentence, later, say
from yondle.model.errors import KnownError
from yondle.model.knobs import Setup
from yondle.model.quantities import THIN, count, duration, number, quantity
from yondle.model.sensors import ROOM
from yondle.model.verdicts import Verdict
from yondle.model.workloads import Direction, Workload
from yondle.views.compare.columns import Books, title
from yondle.views.shared.gains import gain_words
from yondle.views.shared.leveled import SCORE, Of, levels_across
from yondle.views.shared.measured import Figure, Setting, changed_knobs, changed_words, like
from yondle.views.shared.showing import above_room_k, hottest_c, temperatures
from yondle.views.shared.snapshot import Snapshot

BATTERY = later("battery in Wh")
"""The condition under which the tuner tells what the battery holds."""
STABLE = (Verdict.HELD, Verdict.HELD_BACK)
"""What may be recommended: a power limit holds the clock back, which is what it is for."""
_SIZES = ((1e6, "MJ"), (1e3, "kJ"), (1.0, "J"), (1e-3, "mJ"))
_DIGITS_TOLD, _KNOBS_TOLD = 3, 2


@dataclass(frozen=True, slots=True)
class Cost:
    """One setting of one machine: its score, what it draws, and what follows.

    `gain` and `per_watt` are against the first machine's baseline (None without one); `watts` is the mean power of the
    passes with half its 95 % range; `joules` is the energy of one unit of work; `battery_units` and `battery_s` are what
    one charge does and how long it lasts; `hottest_c` is the hottest sensor and `above_room_k` how far above the room;
    `unbeaten` where no other setting of the same machine is better all round.
    """

    machine: str
    setup: str
    changed: tuple[str, ...]
    step: int
    verdict: Verdict
    score: float
    gain: Gain | None
    watts: float
    watts_margin: float
    per_watt: Gain | None
    joules: float | None
    battery_units: float | None
    battery_s: float | None
    hottest_c: float | None
    above_room_k: float | None
    fan: float | None
    unbeaten: bool
    passes: int
    recorded: bool = False


@dataclass(frozen=True, slots=True)
class CostView:
    """Every setting with figures and power; `best` is the place of the one with most score per watt.

    `alike` are the places of those that can't be told from it. `power` names the sensor, `work` the unit of work.
    """

    benchmark: Workload
    costs: tuple[Cost, ...]
    best: int | None
    alike: tuple[int, ...]
    power: str
    work: str
    battery_wh: float | None
    curve: CurveReading
    """How scores answer to power on the first machine, in W along its unbeaten settings."""
    sentence: str

    @property
    def frontier(self) -> tuple[Cost, ...]:
        """The settings that were stable and that no other of the same machine beats, by machine and rising power."""
        kept = [c for c in self.costs if c.unbeaten]
        return tuple(sorted(kept, key=lambda c: (c.machine, c.watts)))


def battery_of(conditions: dict[str, str | float]) -> float | None:
    """Read what the battery holds from what the tuner told; raises KnownError for what is no energy."""
    told = conditions.get(BATTERY)
    if told is None or str(told).strip() == "":
        return None
    try:
        held = float(str(told).replace(",", "."))
    except ValueError:
        held = math.nan
    if not 0.0 < held < math.inf:
        raise KnownError(
            say("'{told}' is no energy.", told=told),
            say("Give the condition '{battery}' as a number of Wh, such as 480.", battery=BATTERY),
        )
    return held


def efficiency(books: Books, benchmark: Workload, battery_wh: float | None = None) -> CostView:
    """Work out what every setting of the first logbook and of others costs in one benchmark."""
    own = books[0][0]
    levels, step = _levels(books, benchmark), own.baseline_step
    base = _key(own, step.step.setup) if step is not None else None
    tried: list[_Tried] = []
    best_of: list[bool] = []
    for book, settings in books:
        made = [made for s in settings if (made := _tried(book, s, benchmark)) is not None]
        held = [t for t in made if _stable(t.setting)]
        frontier = unbeaten([t.trade for t in held], benchmark.metric.direction)
        kept = [t for t, first in zip(held, frontier, strict=True) if first]
        best_of += [any(t is k for k in kept) for t in made]
        tried += made
    costs = tuple(_cost(t, benchmark, levels, base, battery_wh, first) for t, first in zip(tried, best_of, strict=True))
    place, alike = _best(tried, benchmark, levels[1])
    power = power_channel(own.declaration)
    name = power.name if power is not None else ""
    own_best = [t.trade for t, kept in zip(tried, best_of, strict=True) if kept and t.book is own]
    curve = power_curve(own_best, benchmark.metric.direction)
    view = CostView(benchmark, costs, place, alike, name, work_unit(benchmark.metric), battery_wh, curve, "")
    return replace(view, sentence=_sentence(view))


def joules_words(joules: float, work: str) -> str:
    """Write an energy per unit of work in a size that can be read."""
    size, unit = next(((s, u) for s, u in _SIZES if joules >= s), _SIZES[-1])
    value = joules / size
    digits = max(0, _DIGITS_TOLD - 1 - math.floor(math.log10(value))) if value > 0.0 else 0
    return f"{number(value, digits)}{THIN}{unit}/{work}"


def cost_words(cost: Cost, view: CostView) -> tuple[tuple[str, str], ...]:
    """Write what one setting costs, line by line."""
    unit = view.benchmark.metric.unit
    margin = f" ± {number(cost.watts_margin, 1)}" if math.isfinite(cost.watts_margin) else ""
    lines = [
        (say("score"), f"{quantity(cost.score, unit, view.benchmark.metric.digits)}{_also(gain_words(cost.gain))}"),
        (say("power"), f"{number(cost.watts, 1)}{margin}{THIN}W"),
        (say("score per watt"), gain_words(cost.per_watt)),
        (say("energy"), joules_words(cost.joules, view.work) if cost.joules is not None else ""),
        (say("one charge"), _charge(cost, view)),
        (say("hottest sensor"), quantity(cost.hottest_c, "°C", 1) if cost.hottest_c is not None else ""),
        (say("score per degree above the room"), _per_degree(cost, view)),
        (say("fan"), quantity(cost.fan, "rpm") if cost.fan is not None else ""),
    ]
    return tuple((name, words) for name, words in lines if words)


def _also(words: str) -> str:
    return f" · {words}" if words else ""


def _charge(cost: Cost, view: CostView) -> str:
    if cost.battery_s is None:
        return ""
    done = f", {number(cost.battery_units)} {view.work}s" if cost.battery_units is not None and view.work else ""
    if cost.battery_s < HOUR_S:
        return f"{duration(cost.battery_s)}{done}"
    share = number(100.0 * HOUR_S / cost.battery_s, 1)
    return say(
        "{battery_s}{done}; an hour takes {share}\u202f% of it",
        battery_s=duration(cost.battery_s),
        done=done,
        share=share,
    )


def _per_degree(cost: Cost, view: CostView) -> str:
    if not cost.above_room_k:
        return ""
    metric = view.benchmark.metric
    score, unit = (cost.score, metric.unit) if metric.direction is Direction.HIGHER else (3600.0 / cost.score, "runs/h")
    return quantity(score / cost.above_room_k, f"{unit}/K", 2)


@dataclass(frozen=True, slots=True)
class _Tried:
    """A setting of a machine with the passes of one benchmark whose power was read."""

    book: Snapshot
    setting: Setting
    figures: tuple[Figure, ...]
    trade: Trade


def _tried(book: Snapshot, setting: Setting, benchmark: Workload) -> _Tried | None:
    power, fan = power_channel(book.declaration), fan_channel(book.declaration)
    own = like(book.declaration, benchmark)
    if power is None or own is None:
        return None
    figures = tuple(f for f in setting.figures.get(own.id, ()) if f.measured.mean.get(power.id, 0.0) > 0.0)
    if not figures:
        return None
    turns = [f.measured.mean[fan.id] for f in figures if fan is not None and fan.id in f.measured.mean]
    trade = Trade([f.score for f in figures], [f.measured.mean[power.id] for f in figures], turns)
    return _Tried(book, setting, figures, trade)


def _levels(books: Books, benchmark: Workload) -> tuple[Levels, Levels]:
    """Give the levels of score, and of score for each watt, by logbook and setup."""
    power = power_channel(books[0][0].declaration)
    of = (SCORE, Of(per_watt=power.id if power is not None else ""))
    score, rate = (levels_across([b for b, _ in books], benchmark, each) for each in of)
    return score, rate


def _key(book: Snapshot, setup: Setup) -> Hashable:
    return book.path, setup


def _cost(
    tried: _Tried,
    benchmark: Workload,
    levels: tuple[Levels, Levels],
    base: Hashable,
    battery_wh: float | None,
    first: bool,
) -> Cost:
    metric, trade, setting = benchmark.metric, tried.trade, tried.setting
    score, watts = spread(list(trade.scores)), spread(list(trade.watts))
    assert score is not None
    assert watts is not None
    joules = joules_per_unit(score.mean, watts.mean, metric)
    here, (scores, rates) = _key(tried.book, setting.setup), levels
    heat, room = temperatures(tried.book.declaration), tried.book.declaration.playing(ROOM)
    hot = [c for f in tried.figures if (c := hottest_c(f, heat)) is not None]
    above = [k for f in tried.figures if (k := above_room_k(f, heat, room)) is not None]
    return Cost(
        machine=title(tried.book),
        setup=changed_words(tried.book.declaration, setting.setup) or say("everything at stock"),
        changed=tuple(changed_knobs(tried.book.declaration, setting.setup)),
        step=setting.steps[-1],
        verdict=setting.verdict,
        score=score.mean,
        gain=scores.gain(here, base),
        watts=watts.mean,
        watts_margin=(watts.high - watts.low) / 2.0,
        per_watt=rates.gain(here, base),
        joules=joules,
        battery_units=battery_wh * JOULES_PER_WH / joules if battery_wh is not None and joules else None,
        battery_s=battery_wh * JOULES_PER_WH / watts.mean if battery_wh is not None else None,
        hottest_c=max(hot, default=None),
        above_room_k=float(np.mean(above)) if above else None,
        fan=sum(trade.fan) / len(trade.fan) if trade.fan else None,
        unbeaten=first,
        passes=len(tried.figures),
        recorded=setting.recorded,
    )


def _stable(setting: Setting) -> bool:
    """Tell whether a setting may be called best: it was stable, or is only told of, and nothing was told against it."""
    return setting.verdict in STABLE or (setting.recorded and setting.verdict is Verdict.UNPROVEN)


def _best(tried: list[_Tried], benchmark: Workload, rates: Levels) -> tuple[int | None, tuple[int, ...]]:
    """Find the stable setting with most score per watt, and those whose passes can't be told from it."""
    held = [i for i, t in enumerate(tried) if _stable(t.setting)]
    if not held:
        return None, ()
    keys = [_key(t.book, t.setting.setup) for t in tried]
    best = max(held, key=lambda i: _per_watt(tried[i].trade, benchmark.metric.direction))
    told = {i: rates.gain(keys[best], keys[i], len(held) - 1) for i in held if i != best}
    return best, tuple(i for i, each in told.items() if each is not None and each.word is not GainWord.GAIN)


def _per_watt(trade: Trade, direction: Direction) -> float:
    """Give the mean log of what was done for each watt."""
    logs = turned_logs(list(trade.scores), direction) - np.log(trade.watts)
    return float(logs.mean())


def _sentence(view: CostView) -> str:
    if not view.costs:
        return say(
            "No pass of {benchmark} has its power read: it takes a power sensor or a meter.",
            benchmark=view.benchmark.name,
        )
    if view.best is None:
        return say("Nothing that held has {benchmark} with its power read.", benchmark=view.benchmark.name)
    best = view.costs[view.best]
    several = len({c.machine for c in view.costs}) > 1
    where = f"{best.machine}, {shortened(best)}" if several else shortened(best)
    parts = [
        say(
            "Most {benchmark} per watt: {where}{against}.",
            benchmark=view.benchmark.name,
            where=where,
            against=_against(best),
        )
    ]
    if view.alike:
        parts.append(
            say("{other_settings} can't be told from it.", other_settings=count(len(view.alike), "other setting"))
        )
    knee, plateau = view.curve.knee, view.curve.plateau
    if plateau is not None:
        most = number(100 * plateau.most, 1)
        parts.append(
            say("Past {at}\u202fW more power brings at most {most}\u202f%.", at=number(plateau.above, 1), most=most)
        )
    elif knee is not None and view.curve.shape is CurveShape.KNEE and 0.0 <= knee.after < knee.before:
        within = say("{low} to {high}", low=number(knee.low, 1), high=number(knee.high, 1))
        parts.append(say("More power pays less past {at}\u202fW ({within}).", at=number(knee.at, 1), within=within))
    if best.joules is not None:
        parts.append(
            say(
                "It takes {joules} by {power}.",
                joules=joules_words(best.joules, view.work),
                power=in_sentence(view.power),
            )
        )
    if best.battery_s is not None and view.battery_wh is not None:
        parts.append(
            say(
                "One charge of {battery_wh}: {charge}.",
                battery_wh=quantity(view.battery_wh, "Wh"),
                charge=_charge(best, view),
            )
        )
    return " ".join(parts)


def shortened(cost: Cost) -> str:
    """Name the first knobs of a setting that aren't at stock, and how many more there are."""
    if len(cost.changed) <= _KNOBS_TOLD + 1:
        return cost.setup
    first, more = ", ".join(cost.changed[:_KNOBS_TOLD]), len(cost.changed) - _KNOBS_TOLD
    return say("{knobs} and {more} more knobs", knobs=first, more=more)


def _against(best: Cost) -> str:
    words = gain_words(best.per_watt)
    return say(", {words} over the baseline", words=words) if words else ""
