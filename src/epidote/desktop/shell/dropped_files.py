"""Files dropped on the window: studies are opened, zipped ones unpacked, recordings analysed, curves imported."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PySide6.QtCore import QMimeData

from epidote.study.store import DATABASE, SUFFIX

if TYPE_CHECKING:
    from epidote.desktop.shell.file_actions import FileActions
    from epidote.desktop.state.session import Session

_AUDIO = {
    *(".wav", ".flac", ".aif", ".aiff", ".ogg", ".mp3", ".m4a", ".mka", ".opus", ".w64", ".caf"),
    *(".mkv", ".mp4", ".mov", ".webm"),
}
_CURVES = {".txt", ".csv", ".tsv", ".frd"}


@dataclass(frozen=True)
class _Kind:
    """What becomes of files: ``words`` while they are dragged over the window, ``fits`` tells which, ``take`` acts."""

    words: str
    fits: Callable[[Path], bool]
    take: Callable[[list[Path], Session, FileActions], None]


def _is_study(path: Path) -> bool:
    return path.suffix == SUFFIX or (path / DATABASE).is_file()


_KINDS = (
    _Kind("Drop to open the study", _is_study, lambda paths, session, _: session.open_path(paths[0])),
    _Kind(
        "Drop to import the study from the ZIP archive",
        lambda path: path.suffix.lower() == ".zip",
        lambda paths, _, files: files.open_zip(paths[0]),
    ),
    _Kind(
        "Drop to analyse the recording",
        lambda path: path.suffix.lower() in _AUDIO,
        lambda paths, _, files: files.analyse(paths),
    ),
    _Kind(
        "Drop to import the curve into the current row",
        lambda path: path.suffix.lower() in _CURVES,
        lambda paths, _, files: files.take_curve(paths[0]),
    ),
)


def paths_of(dropped: QMimeData) -> list[Path]:
    """Return the local files among what was dropped."""
    return [Path(url.toLocalFile()) for url in dropped.urls() if url.isLocalFile()]


def _kind_of(paths: list[Path]) -> _Kind | None:
    if not paths:
        return None
    return next((kind for kind in _KINDS if all(kind.fits(path) for path in paths)), None)


def offer(dropped: QMimeData) -> str:
    """Return what would become of the files; "" where nothing would, which refuses them."""
    kind = _kind_of(paths_of(dropped))
    if kind is None:
        return ""
    return kind.words


def take(dropped: QMimeData, session: Session, files: FileActions) -> None:
    """Carry out what ``offer`` said."""
    paths = paths_of(dropped)
    kind = _kind_of(paths)
    if kind is not None:
        kind.take(paths, session, files)
