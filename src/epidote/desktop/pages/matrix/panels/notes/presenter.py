"""The panel of notes and pictures: of the unit, the row or the run that is chosen."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from epidote.desktop.state import edits
from epidote.study.models import Entry, Owner

if TYPE_CHECKING:
    from epidote.desktop.pages.matrix.panels.host import PanelHost
    from epidote.desktop.pages.matrix.panels.notes.panel import NotesPanel
    from epidote.desktop.pages.matrix.selection import MatrixSelection


class NotesPresenter:
    """Keeps what people write down and photograph."""

    def __init__(self, selection: MatrixSelection, host: PanelHost) -> None:
        self._selection, self._session, self._host = selection, selection.session, host
        self.panel: NotesPanel | None = None
        self._owner = "unit"

    def make(self) -> NotesPanel:
        from epidote.desktop.pages.matrix.panels.notes.panel import NotesPanel

        panel = NotesPanel(self._host.theme)
        panel.owner_chosen.connect(self._choose_owner)
        panel.written.connect(self._write_note)
        panel.pictures_added.connect(self._add_pictures)
        panel.captioned.connect(self._caption)
        panel.deleted.connect(lambda key, name: edits.delete_entry(self._session, key, name))
        panel.small_wanted.connect(self._read_small)
        panel.large_wanted.connect(self._read_large)
        self._session.leaving.connect(panel.finish_edit)
        self._session.opened.connect(panel.forget)
        self.panel = panel
        return panel

    def _read_small(self, pictures: list[Entry]) -> None:
        """Small drawings of pictures, read off the interface's thread."""
        from epidote.desktop.pages.matrix.panels.notes.panel import SMALL
        from epidote.desktop.widgets.images import read_picture

        panel = self.panel
        if panel is not None:
            self._session.ask(
                lambda study: {e.file: read_picture(study.entries.read(e), SMALL) for e in pictures}, panel.show_small
            )

    def _read_large(self, picture: Entry, caption: str) -> None:
        from epidote.desktop.widgets.images import read_picture

        panel, room = self.panel, self._host.widget.window().size() * 0.9
        if panel is not None:
            self._session.ask(
                lambda study: read_picture(study.entries.read(picture), room),
                lambda image: panel.show_large(image, caption),
            )

    def _choose_owner(self, owner: str) -> None:
        self._owner = owner
        self._host.refresh()

    def _owners(self) -> dict[str, tuple[str, Owner]]:
        """Return what notes can belong to just now: (words, owner) by key."""
        row = self._selection.current_row()
        owners: dict[str, tuple[str, Owner]] = {}
        if row is not None and row.unit is not None:
            owners["unit"] = (row.unit.name, Owner(unit=row.unit.id))
        if row is not None and not row.is_claims:
            owners["row"] = ("Row", Owner(subject=row.id))
        run = self._selection.current_run()
        if run is not None:
            owners["run"] = (f"Run {run.id}", Owner(run=run.id))
        return owners

    def show(self) -> None:
        panel, overview, owners = self.panel, self._session.overview, self._owners()
        assert panel is not None
        if overview is None or self._session.study is None:
            return
        if self._owner in owners:
            current = self._owner
        else:
            current = next(iter(owners), "")
        if not current:
            panel.show_owner([], "", "Select a row to see its notes.", "", [], writable=False)
            return
        owner = owners[current][1]
        note = next((e for e in overview.of_kind("note") if e.owner == owner), None)
        row = self._selection.current_row()
        if note is not None:
            text = str(note.data.get("text", ""))
        elif current == "unit" and row is not None and row.unit is not None:
            text = row.unit.notes
        else:
            text = ""
        pictures = [e for e in overview.of_kind("picture") if e.owner == owner]
        about = ""
        run = self._selection.current_run()
        if current == "run" and run is not None:
            about = ", ".join(
                w
                for w in (
                    f"{run.made.astimezone():%d %b %Y %H:%M}",
                    f"operator {run.person}" if run.person else "",
                    f"firmware {run.firmware}" if run.firmware else "",
                    run.device,
                )
                if w
            )
        panel.show_owner(
            [(k, w) for k, (w, _) in owners.items()], current, about, text, pictures, writable=self._session.writable
        )

    def _current_owner(self) -> Owner | None:
        owners = self._owners()
        if self._owner in owners:
            return owners[self._owner][1]
        return next((o for _, o in owners.values()), None)

    def _write_note(self, text: str) -> None:
        overview, owner = self._session.overview, self._current_owner()
        if overview is None or owner is None:
            return
        note = next((e for e in overview.of_kind("note") if e.owner == owner), None)
        if note is not None:
            edits.change_entry(self._session, note.id, note.data, {"text": text}, "Edit note")
        elif text.strip():
            edits.add_entry(self._session, "note", {"text": text}, "Add note", owner)

    def _add_pictures(self, files: list[Path] | list[tuple[str, bytes]]) -> None:
        owner = self._current_owner()
        if owner is not None and files:
            edits.add_pictures(self._session, files, owner)

    def _caption(self, key: int, caption: str) -> None:
        overview = self._session.overview
        if overview:
            entry = next((e for e in overview.of_kind("picture") if e.id == key), None)
        else:
            entry = None
        if entry is not None:
            edits.change_entry(self._session, key, entry.data, {**entry.data, "caption": caption}, "Edit caption")
