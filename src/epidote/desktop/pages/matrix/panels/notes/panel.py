"""Notes and pictures of a unit, a row or a run: written here, added by file, drag or paste, captioned, large on
demand.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QSize, Qt, Signal
from PySide6.QtGui import (
    QDragEnterEvent,
    QDropEvent,
    QGuiApplication,
    QIcon,
    QImage,
    QKeySequence,
    QPixmap,
    QShortcut,
)
from PySide6.QtWidgets import (
    QDialog,
    QHBoxLayout,
    QLineEdit,
    QListWidget,
    QListWidgetItem,
    QPlainTextEdit,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from epidote.desktop.theme import Theme
from epidote.desktop.widgets.images import png_of
from epidote.desktop.widgets.plain import Label, plain_tip
from epidote.desktop.widgets.segmented_buttons import SegmentedButtons
from epidote.study.annotations import PICTURES

if TYPE_CHECKING:
    from PySide6.QtGui import QFocusEvent

    from epidote.study.models import Entry

SMALL = QSize(104, 78)


class NoteEdit(QPlainTextEdit):
    """Tells when it is left, and what is typed then."""

    left = Signal(str)

    def focusOutEvent(self, event: QFocusEvent) -> None:
        super().focusOutEvent(event)
        self.left.emit(self.toPlainText())


class NotesPanel(QWidget):
    """The note and the pictures of a unit, a row or a run."""

    owner_chosen = Signal(str)
    written = Signal(str)
    pictures_added = Signal(list)  # paths, or (name, bytes)
    captioned = Signal(int, str)
    deleted = Signal(int, str)
    small_wanted = Signal(list)  # entries of pictures whose small drawings are not there yet
    large_wanted = Signal(object, str)  # path, caption

    def __init__(self, theme: Theme) -> None:
        super().__init__()
        self.theme = theme
        self._pictures: list[Entry] = []
        self._small: dict[str, QImage] = {}  # by the name of the stored file
        self._text = ""
        self.setAcceptDrops(True)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(16, 6, 16, 10)
        layout.setSpacing(6)
        self.owner = SegmentedButtons()
        self.owner.chosen.connect(lambda on: self.owner_chosen.emit(on[0]))
        top = QHBoxLayout()
        top.addWidget(self.owner)
        top.addStretch(1)
        layout.addLayout(top)
        self.about = Label()
        self.about.setWordWrap(True)
        self.about.setProperty("quiet", True)
        layout.addWidget(self.about)
        self.text = NoteEdit()
        self.text.setAccessibleName("Note")
        self.text.setPlaceholderText("Observations, changes, test setup")
        self.text.left.connect(self.finish_note)
        layout.addWidget(self.text, 2)
        self.list = QListWidget()
        self.list.setAccessibleName("Pictures")
        self.list.setViewMode(QListWidget.ViewMode.IconMode)
        self.list.setIconSize(SMALL)
        self.list.setMovement(QListWidget.Movement.Static)
        self.list.setResizeMode(QListWidget.ResizeMode.Adjust)
        self.list.setWordWrap(True)
        self.list.setSpacing(4)
        self.list.itemActivated.connect(lambda item: self.enlarge(self.list.row(item)))
        self.list.currentRowChanged.connect(self._picture_chosen)
        layout.addWidget(self.list, 3)
        self.caption = QLineEdit()
        self.caption.setAccessibleName("Caption")
        self.caption.setPlaceholderText("Caption of the selected picture")
        self.caption.editingFinished.connect(self._captioned)
        layout.addWidget(self.caption)
        buttons = QHBoxLayout()
        self.add, self.paste, self.large, self.delete = (
            QPushButton(t) for t in ("Add pictures…", "Paste", "Enlarge", "Delete")
        )
        self.add.clicked.connect(lambda _: self.choose())
        self.paste.clicked.connect(lambda _: self.paste_clipboard())
        self.large.clicked.connect(lambda _: self.enlarge(self.list.currentRow()))
        self.delete.clicked.connect(lambda _: self._delete())
        QShortcut(
            QKeySequence.StandardKey.Paste, self.list, self.paste_clipboard, context=Qt.ShortcutContext.WidgetShortcut
        )
        for button in (self.add, self.paste, self.large, self.delete):
            buttons.addWidget(button)
        buttons.addStretch(1)
        layout.addLayout(buttons)

    def show_owner(
        self,
        owners: list[tuple[str, str]],
        current: str,
        about: str,
        text: str,
        pictures: list[Entry],
        *,
        writable: bool,
    ) -> None:
        """owners: (key, words) of what is chosen: unit, row, run."""
        self.owner.set_options(owners, [current])
        self.about.setText(about)
        self.about.setVisible(bool(about))
        if text != self._text or not self.text.hasFocus():
            self._text = text
            if self.text.toPlainText() != text:
                self.text.setPlainText(text)
        self.text.setReadOnly(not writable)
        row = self.list.currentRow()
        if [(e.id, dict(e.data)) for e in self._pictures] != [(e.id, dict(e.data)) for e in pictures]:
            self._pictures = pictures
            self.list.clear()
            for entry in pictures:
                small = self._small.get(entry.file)
                icon = QIcon(QPixmap.fromImage(small) if small is not None else _blank(self.theme))
                item = QListWidgetItem(icon, str(entry.data.get("caption") or entry.data.get("name", "")))
                item.setToolTip(
                    plain_tip(
                        f"{entry.data.get('name', '')},"
                        f" {entry.made.astimezone():%d %b %Y %H:%M}{f', {entry.person}' if entry.person else ''}"
                    )
                )
                self.list.addItem(item)
            missing = [entry for entry in pictures if entry.file not in self._small]
            if missing:
                self.small_wanted.emit(missing)
            if pictures:
                self.list.setCurrentRow(min(max(row, 0), len(pictures) - 1))
        for widget in (self.add, self.paste, self.caption, self.delete):
            widget.setEnabled(writable and bool(owners))
        self._picture_chosen(self.list.currentRow())

    def forget(self) -> None:
        """Another study is open: its pictures may have the same names."""
        self._pictures, self._small, self._text = [], {}, ""
        self.list.clear()
        self.text.clear()

    def finish_edit(self) -> None:
        """Save the note and the caption as they are, though the focus is still on them."""
        self.finish_note(self.text.toPlainText())
        self._captioned()

    def finish_note(self, text: str) -> None:
        if text != self._text and not self.text.isReadOnly():
            self._text = text
            self.written.emit(text)

    def _picture_chosen(self, row: int) -> None:
        there = 0 <= row < len(self._pictures)
        self.caption.setText(str(self._pictures[row].data.get("caption", "")) if there else "")
        self.large.setEnabled(there)
        self.caption.setVisible(there)
        self.delete.setVisible(there)

    def _captioned(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._pictures) and self.caption.text() != str(self._pictures[row].data.get("caption", "")):
            self.captioned.emit(self._pictures[row].id, self.caption.text())

    def _delete(self) -> None:
        row = self.list.currentRow()
        if 0 <= row < len(self._pictures):
            entry = self._pictures[row]
            self.deleted.emit(entry.id, str(entry.data.get("name", "a picture")))

    # -- adding ------------------------------------------------------------------------------------

    def choose(self) -> None:
        from PySide6.QtWidgets import QFileDialog

        kinds = f"Pictures ({' '.join('*' + s for s in PICTURES)})"
        names, _ = QFileDialog.getOpenFileNames(self, "Add pictures", str(Path.home()), kinds)
        if names:
            self.pictures_added.emit([Path(n) for n in names])

    def paste_clipboard(self) -> None:
        """Add a picture, or picture files, from the clipboard."""
        data = QGuiApplication.clipboard().mimeData()
        if data is None or not self.add.isEnabled():
            return
        if data.hasUrls():
            self.pictures_added.emit([Path(u.toLocalFile()) for u in data.urls() if u.isLocalFile()])
        elif data.hasImage():
            image = QGuiApplication.clipboard().image()
            self.pictures_added.emit([("pasted.png", png_of(image))])

    def dragEnterEvent(self, event: QDragEnterEvent) -> None:
        if self.add.isEnabled() and (event.mimeData().hasUrls() or event.mimeData().hasImage()):
            event.acceptProposedAction()

    def dropEvent(self, event: QDropEvent) -> None:
        data = event.mimeData()
        if data.hasUrls():
            self.pictures_added.emit([Path(u.toLocalFile()) for u in data.urls() if u.isLocalFile()])
        elif data.hasImage():
            self.pictures_added.emit([("dropped.png", png_of(QImage(data.imageData())))])
        event.acceptProposedAction()

    def show_small(self, images: dict[str, QImage]) -> None:
        """Small drawings that were read meanwhile."""
        self._small.update(images)
        for row, entry in enumerate(self._pictures):
            item = self.list.item(row)
            if entry.file in images and item is not None:
                item.setIcon(QIcon(QPixmap.fromImage(images[entry.file])))

    def enlarge(self, row: int) -> None:
        """Show the picture as large as the window allows."""
        if 0 <= row < len(self._pictures):
            entry = self._pictures[row]
            self.large_wanted.emit(entry, str(entry.data.get("caption") or entry.data.get("name", "")))

    def show_large(self, image: QImage, caption: str) -> None:
        dialog = QDialog(self.window())
        dialog.setWindowTitle(caption)
        dialog.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        layout = QVBoxLayout(dialog)
        picture = Label()
        picture.setAccessibleName("Picture")
        if image.isNull():
            picture.setText(
                "This picture is missing from the study's attachments folder or cannot be displayed. Its entry is"
                " unchanged; restore the file or delete the entry."
            )
        else:
            picture.setPixmap(QPixmap.fromImage(image))
        layout.addWidget(picture)
        words = Label(caption)
        words.setWordWrap(True)
        layout.addWidget(words)
        dialog.open()


def _blank(theme: Theme) -> QPixmap:
    """Return what stands there until the picture is read."""
    blank = QPixmap(SMALL)
    blank.fill(theme.colour("faint_line"))
    return blank
