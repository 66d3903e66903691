"""A button with a menu that fills a form: presets that ship with a procedure, one's own, the reference row's."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from functools import partial
from typing import Any

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QInputDialog, QMenu, QToolButton

from epidote.core.errors import EpidoteError, in_window
from epidote.desktop.widgets.plain import button_text, plain_tip
from epidote.study.preset_library import PresetLibrary


class PresetButton(QToolButton):
    """chosen: settings by name, of which the form takes those it has. failed: a sentence for the user.

    values: gives what the form has now, to be kept as a preset.
    """

    chosen = Signal(dict)
    failed = Signal(str)

    def __init__(self, values: Callable[[], Mapping[str, Any]], library: PresetLibrary | None = None) -> None:
        super().__init__()
        self._values, self._library = values, library or PresetLibrary()
        self._procedure: Any = None
        self._reference: Mapping[str, Any] | None = None
        self.setText("Presets")
        self.setToolTip("Fill in the settings of a preset or of the reference row, or save these as a preset")
        self.setProperty("menu", True)
        self.setPopupMode(QToolButton.ToolButtonPopupMode.InstantPopup)
        self.menu_of_presets = QMenu(self)
        self.menu_of_presets.setToolTipsVisible(True)
        self.menu_of_presets.aboutToShow.connect(self.fill)
        self.setMenu(self.menu_of_presets)

    def show_procedure(self, procedure: Any, reference: Mapping[str, Any] | None) -> None:
        """Offer what fits a procedure. reference: the settings of the reference row's run, None without one."""
        self._procedure, self._reference = procedure, reference

    def fill(self) -> None:
        """Make the menu."""
        menu, own = self.menu_of_presets, self._own()
        menu.clear()
        if self._procedure is None:
            return
        defaults = self._procedure.Settings().model_dump(mode="json")
        menu.addAction("Defaults", partial(self.chosen.emit, defaults))
        as_reference = menu.addAction("As the reference row", self._as_reference)
        as_reference.setEnabled(self._reference is not None)
        if self._procedure.presets:
            menu.addSection("Shipped")
        for preset in self._procedure.presets:
            action = menu.addAction(
                button_text(preset.name), partial(self.chosen.emit, {**defaults, **preset.settings})
            )
            action.setToolTip(plain_tip(preset.why))
        if own:
            menu.addSection("Own")
        for name, settings in own.items():
            menu.addAction(button_text(name), partial(self.chosen.emit, {**defaults, **settings}))
        menu.addSeparator()
        menu.addAction("Save as preset…", self.save)
        if own:
            gone = menu.addMenu("Delete preset")
            for name in own:
                gone.addAction(button_text(name), partial(self._delete, name))

    def _as_reference(self) -> None:
        if self._reference is not None:
            self.chosen.emit(dict(self._reference))

    def _own(self) -> dict[str, dict[str, Any]]:
        if self._procedure is None:
            return {}
        try:
            return self._library.presets(self._procedure.key)
        except EpidoteError as error:
            self.failed.emit(in_window(error))
            return {}

    def save(self, name: str | None = None) -> None:
        """Keep what the form has under a name, which is asked for when none is given."""
        if name is None:
            name, go = QInputDialog.getText(self, "Save as preset", "Name of the preset")
            if not go:
                return
        if not name.strip():
            self.failed.emit("A preset needs a name. Nothing was saved.")
            return
        try:
            self._library.keep(self._procedure.key, name, self._values())
        except (EpidoteError, OSError) as error:
            self.failed.emit(f"The preset could not be saved: {error}")

    def _delete(self, name: str) -> None:
        try:
            self._library.delete(self._procedure.key, name)
        except (EpidoteError, OSError) as error:
            self.failed.emit(f"The preset could not be deleted: {error}")
