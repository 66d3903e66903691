"""The panel of claims: a unit's published figures, their verdicts, and the measurements that would show them."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from epidote.desktop.state import edits
from epidote.desktop.state.run_queue import RunRequest
from epidote.study.models import Owner

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.panels.claims.panel import ClaimsPanel
    from epidote.desktop.pages.matrix.panels.host import PanelHost
    from epidote.desktop.pages.matrix.selection import MatrixSelection
    from epidote.study.models import Unit


class ClaimsPresenter:
    """Keeps a unit's published figures, and has them judged."""

    def __init__(self, selection: MatrixSelection, host: PanelHost) -> None:
        self._selection, self._session, self._host = selection, selection.session, host
        self.panel: ClaimsPanel | None = None

    def make(self) -> ClaimsPanel:
        from epidote.desktop.pages.matrix.panels.claims.panel import ClaimsPanel

        panel = ClaimsPanel(self._host.theme)
        panel.added.connect(self._add_claims)
        panel.deleted.connect(lambda key, name: edits.delete_entry(self._session, key, f"claim “{name}”"))
        panel.measure_wanted.connect(self.measure_claim)
        self._session.opened.connect(panel.typed.clear)
        self.panel = panel
        return panel

    def import_csv(self) -> None:
        """Ask for a file of published figures, and add them to the current row's unit."""
        if self.panel is not None:
            self.panel.import_csv()

    def _unit(self) -> Unit | None:
        row = self._selection.current_row()
        if row is not None:
            return row.unit
        return None

    def show(self) -> None:
        overview, unit = self._session.overview, self._unit()
        assert self.panel is not None
        if overview is not None:
            own = [e for e in overview.of_kind("claim") if unit is not None and e.owner.unit == unit.id]
            self.panel.show_unit(unit, own, self._session.verdicts, writable=self._session.writable)

    def _add_claims(self, claims: list[dict[str, Any]]) -> None:
        unit = self._unit()
        if unit is not None and claims:
            if len(claims) == 1:
                words = f"Add claim “{claims[0].get('text', '')}”"
            else:
                words = f"Add {len(claims)} claims"
            edits.add_entries(self._session, "claim", claims, words, Owner(unit=unit.id))

    def judge(self) -> None:
        """Hold the claims against the runs again, and show it."""

        def done() -> None:
            self._selection.model.judged()
            if self._host.tab == "claims" and self.panel is not None:
                self.show()

        self._session.judge_claims(done)

    def measure_claim(self, entry_id: int) -> None:
        """Offer the measurement that would show a claim: its procedure with its own conditions, on the unit's row
        that fits best.
        """
        verdict, overview, unit = self._session.verdicts.get(entry_id), self._session.overview, self._unit()
        if verdict is None or verdict.proposal is None or overview is None or unit is None:
            return
        rows = [s for s in overview.subjects if s.unit is not None and s.unit.id == unit.id]
        if not rows:
            return
        load = verdict.claim.load_ohms
        row = next(
            (s for s in rows if load is not None and s.conditions.get("load", "").startswith(f"{load:g}")), rows[0]
        )
        offer = verdict.proposal

        def ask(study: Any) -> tuple[int, dict[str, Any]]:
            from epidote.core.procedures.registry import procedure
            from epidote.core.settings import make_settings
            from epidote.measurement.request import add_column

            proc = procedure(offer.procedure)
            base = next((dict(c.settings) for c in study.overview().columns if c.procedure == offer.procedure), {})
            made = make_settings(proc.Settings, {**base, **offer.settings})
            return add_column(study, offer.procedure, made).id, made.model_dump(mode="json")

        def done(measurement: tuple[int, dict[str, Any]]) -> None:
            self._session.refresh()
            self._session.runs.measure([RunRequest((row.id, measurement[0]), measurement[1])])

        self._session.ask(ask, done)
