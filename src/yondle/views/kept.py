"""Read models kept until the steps or the settings in force change, for a face that shows them again and again."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import TYPE_CHECKING, Any, TypeVar

from yondle.model.knobs import Knob
from yondle.model.workloads import Workload
from yondle.views.shared.measured import Settings, settings_of
from yondle.views.shared.pieces import Pieces, at_once
from yondle.views.shared.snapshot import Snapshot
from yondle.views.tune.proposal import ProposalView, proposal_view
from yondle.views.tune.rulers import Holding, RulerView, holding, ruler_marks, rulers
from yondle.views.tune.trail import Trail, TrailRows

if TYPE_CHECKING:
    from yondle.views.scaling.curves import ScalingView
    from yondle.views.scaling.sensitivities import Sensitivities
    from yondle.views.shared.showing import Measure
    from yondle.views.tune.charting import ChartView

Made = TypeVar("Made")


class ViewCache:
    """The read models of a logbook as it is; each is worked out again only when the snapshot's version or its key has changed.

    Those that need large libraries are loaded when they are first asked for.
    """

    def __init__(self, latest: Callable[[], Snapshot]) -> None:
        self._latest = latest
        self._trail = Trail()
        self._kept: dict[str, tuple[object, Any]] = {}

    def trail(self, benchmark: Workload | None, running: int | None) -> TrailRows:
        """Give the trail's rows."""
        return self._trail.rows(self._latest(), benchmark, running)

    def rulers(self) -> list[RulerView]:
        """Give one ruler per knob."""
        return rulers(self._latest(), self._keep("marks", (), lambda: ruler_marks(self._latest())))

    def holding(self, knob: Knob | None) -> Holding | None:
        """Give how every value of a knob would hold the check as it stands."""
        if knob is None:
            return None
        check = self._latest().check()
        return self._keep("holding", (knob, check), lambda: holding(self._latest(), knob, check))

    def chart(self, knob: Knob | None, benchmark: Workload) -> ChartView | None:
        """Give the chart of a benchmark against a knob."""
        if knob is None:
            return None
        from yondle.views.tune.charting import chart

        return self._keep("chart", (knob, benchmark), lambda: chart(self._latest(), knob, benchmark))

    def proposal(self, held: Holding | None) -> ProposalView | None:
        """Give the proposal in words, with how the knob in play would hold."""
        return proposal_view(self._latest(), self._latest().check(), held)

    @property
    def settings(self) -> Settings:
        """What was measured at every setting."""
        return self._keep("settings", (), lambda: settings_of(self._latest()))

    def scaling(self, knob: Knob, measure: Measure, group: int) -> ScalingView:
        """Give the curves of a knob; those of every knob looked at are kept."""
        return at_once(self.scaling_in_pieces(knob, measure, group))

    def scaling_in_pieces(self, knob: Knob, measure: Measure, group: int) -> Pieces[ScalingView]:
        """Give them with pauses."""
        from yondle.views.scaling.curves import scaling_in_pieces

        name = f"scaling {knob.id} {measure} {group}"
        make = partial(scaling_in_pieces, self._latest(), self.settings, knob, measure, group)
        return self._keep_in_pieces(name, (knob,), make)

    @property
    def sensitivities(self) -> Sensitivities:
        """Which benchmark answers to which knob."""
        return at_once(self.sensitivities_in_pieces())

    def sensitivities_in_pieces(self) -> Pieces[Sensitivities]:
        """Give them with pauses."""
        from yondle.views.scaling.sensitivities import sensitivities_in_pieces

        make = partial(sensitivities_in_pieces, self._latest(), self.settings)
        return self._keep_in_pieces("sensitivities", (), make)

    def _keep(self, name: str, key: tuple[object, ...], make: Callable[[], Made]) -> Made:
        whole = (self._latest().version, *key)
        kept = self._kept.get(name)
        if kept is None or kept[0] != whole:
            kept = self._kept[name] = (whole, make())
        made: Made = kept[1]
        return made

    def _keep_in_pieces(self, name: str, key: tuple[object, ...], make: Callable[[], Pieces[Made]]) -> Pieces[Made]:
        whole = (self._latest().version, *key)
        kept = self._kept.get(name)
        if kept is None or kept[0] != whole:
            kept = (whole, (yield from make()))
            self._kept[name] = kept
        made: Made = kept[1]
        return made
