"""Guides, limits and claims on the Matrix page's graph: which are shown, and where they lie."""

from __future__ import annotations

import json
from typing import TYPE_CHECKING, Any

from epidote.desktop.state import edits
from epidote.study.annotations import valid

if TYPE_CHECKING:
    from epidote.core.comparison.graph_guides import GraphGuide
    from epidote.core.comparison.limits import Limit
    from epidote.desktop.pages.matrix.graph.chosen import Chosen
    from epidote.desktop.pages.matrix.graph.view_state import GraphViewState
    from epidote.desktop.pages.matrix.selection import MatrixSelection
    from epidote.desktop.plotting.figure import Figure, Line
    from epidote.study.models import Entry

_OFF = "lines off"


class GraphOverlays:
    """Guides, limits and claims of the graph."""

    def __init__(self, selection: MatrixSelection, view: GraphViewState) -> None:
        self._selection, self._view, self._session = selection, view, selection.session

    def of(
        self, figure: Figure, key: str, chosen: list[Chosen], channels: set[int]
    ) -> tuple[tuple[Line, ...], tuple[str, ...]]:
        """Every line that belongs on a figure of curves ``key`` and is not switched off; and what the runs do at their
        limits, in words.
        """
        from dataclasses import replace

        import numpy as np

        from epidote.core.quantities.units import in_percent

        percent = figure.y_unit == "%"
        if percent:
            y_unit = "dB"
        else:
            y_unit = figure.y_unit
        first = next(
            (
                c
                for one in sorted(chosen, key=lambda c: not c.is_reference)
                for c in one.curves
                if c.channel in channels
            ),
            None,
        )
        checks = self._held(key, chosen)
        failed = {name for name, passed, _ in checks if not passed}
        lines = [
            *self._guides(key, figure.x_unit, y_unit, first),
            *self._limits(key, figure, failed),
            *self._claims(key, figure.x_unit, y_unit, chosen),
        ]
        if percent:
            lines = [
                replace(
                    f,
                    y=None if f.y is None else in_percent(np.asarray(f.y)),
                    other=f.other if f.x is not None or f.other is None else in_percent(f.other),
                )
                for f in lines
            ]
        off = self.hidden()
        return tuple(f for f in lines if f.name not in off), tuple(words for _, _, words in checks)

    def _guides(self, key: str, x_unit: str, y_unit: str, first: Any) -> list[Line]:
        import numpy as np

        from epidote.core.analysis.spectral.hearing_threshold import FREQUENCIES, THRESHOLD_DB_SPL
        from epidote.core.results.curve_features import curve_at
        from epidote.core.results.kinds import CurveRole, curve_kind
        from epidote.desktop.plotting.figure import Line

        lines = []
        for _, guide in self.guides():
            if guide.y_unit == "dB re 1 kHz":
                if first is not None and guide.fits(key, x_unit, guide.y_unit):
                    base = curve_at(first, 1000.0)
                else:
                    base = None
                if base is not None:
                    lines.append(Line(guide.name, "guide", None, np.array([base + guide.low]), words=guide.words))
            elif guide.fits(key, x_unit, y_unit):
                value = np.array([guide.low])
                lines.append(
                    Line(
                        guide.name,
                        "guide",
                        value if guide.x_unit else None,
                        value if guide.y_unit else None,
                        guide.high,
                        words=guide.words,
                    )
                )
        if y_unit == "dB SPL" and curve_kind(key).role is CurveRole.SPECTRUM:
            lines.append(
                Line(
                    "Threshold of hearing",
                    "guide",
                    FREQUENCIES,
                    THRESHOLD_DB_SPL,
                    words="Threshold of hearing for pure tones, listeners with normal hearing (ISO 226:2003, T_f)",
                )
            )
        return lines

    def _held(self, key: str, chosen: list[Chosen]) -> list[tuple[str, bool, str]]:
        """(limit, passed, words) of the chosen curves, and of their runs' readings, at every limit; what failed
        first.
        """
        from epidote.core.comparison.limits import check_curve, check_reading
        from epidote.core.wording.differences import limit_check_words
        from epidote.desktop.pages.matrix.graph.chosen import short_names

        names = short_names([c.subject for c in chosen])
        checks = []
        for _, limit in self.limits():
            for one in chosen:
                if limit.of_a_reading:
                    results = [check_reading(limit, r) for r in one.run.readings]
                elif limit.key == key:
                    results = [check_curve(limit, c) for c in one.curves]
                else:
                    results = []
                checks += [
                    (h.passed, h.margin, limit.name, f"{names[one.subject.id]}: {limit_check_words(h)}")
                    for h in results
                    if h is not None
                ]
        return [(name, passed, words) for passed, _, name, words in sorted(checks)]

    def _limits(self, key: str, figure: Figure, failed: set[str]) -> list[Line]:
        import numpy as np

        from epidote.desktop.plotting.figure import Line

        lines = []
        for _, limit in self.limits():
            if (limit.key, limit.x_unit) != (key, figure.x_unit):
                continue
            for kind, corners in (("upper", limit.upper), ("lower", limit.lower)):
                if corners:
                    x, y = np.array([c[0] for c in corners]), np.array([c[1] for c in corners])
                    lines.append(Line(limit.name, kind, None if x.size == 1 else x, y, None, limit.name in failed))
        return lines

    def _claims(self, key: str, x_unit: str, y_unit: str, chosen: list[Chosen]) -> list[Line]:
        import numpy as np

        from epidote.core.claims.claim import Claim
        from epidote.core.comparison.claims.graph_lines import claim_lines
        from epidote.core.results.curve_features import curve_at
        from epidote.desktop.plotting.figure import Line

        overview = self._session.overview
        rows = {one.subject.unit.id: one for one in reversed(chosen) if one.subject.unit is not None}
        lines = []
        for entry, claim in valid(overview.of_kind("claim"), Claim) if overview else ():
            one = rows.get(entry.owner.unit or 0)
            if one is None:
                continue
            curve = next(iter(one.curves), None)
            if curve is not None and claim.claimed.deviation:
                base = curve_at(curve, 1000.0)
            else:
                base = None
            for x, y in claim_lines(claim, key, x_unit, y_unit, base):
                name = f"{one.subject.name}: {claim.figure}"
                lines.append(
                    Line(
                        name,
                        "claim",
                        None if x is None else np.array(x),
                        None if y is None else np.array(y),
                        colour=one.subject.colour,
                    )
                )
        return lines

    def guides(self) -> list[tuple[Entry | None, GraphGuide]]:
        """Those of the study, then the shipped ones whose name it does not use itself."""
        from epidote.core.comparison.graph_guides import SHIPPED, GraphGuide

        overview = self._session.overview
        own: list[tuple[Entry | None, GraphGuide]]
        if overview:
            own = list(valid(overview.of_kind("guide"), GraphGuide))
        else:
            own = []
        names = {g.name for _, g in own}
        return own + [(None, g) for g in SHIPPED if g.name not in names]

    def limits(self) -> list[tuple[Entry, Limit]]:
        """Limits of the column in view."""
        from epidote.core.comparison.limits import Limit

        overview, column = self._session.overview, self._selection.current_column()
        if overview is None or column is None:
            return []
        limits = valid((e for e in overview.of_kind("limit") if e.owner.column in (None, column.id)), Limit)
        return [(e, limit) for e, limit in limits if limit.procedure == column.procedure]

    def hidden(self) -> set[str]:
        from epidote.core.comparison.graph_guides import FORMER_NAMES

        return {FORMER_NAMES.get(name, name) for name in json.loads(self._session.setting(_OFF) or "[]")}

    def toggle(self, name: str) -> None:
        """Show or hide the lines of that name."""
        before = self.hidden()
        edits.set_setting(
            self._session,
            f"Show or hide “{name}”",
            _OFF,
            json.dumps(sorted(before)),
            json.dumps(sorted(before ^ {name})),
        )
