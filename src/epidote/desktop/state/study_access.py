"""The open study as the run queue needs it."""

from __future__ import annotations

from typing import TYPE_CHECKING, Protocol

from PySide6.QtCore import SignalInstance

if TYPE_CHECKING:
    from epidote.desktop.state.live_audio import LiveAudio
    from epidote.study.store import Study


class StudyAccess(Protocol):
    """study: the open one. live: what listens to the device. said, failed: sentences for the user."""

    study: Study | None
    live: LiveAudio

    @property
    def writable(self) -> bool: ...

    @property
    def said(self) -> SignalInstance: ...

    @property
    def failed(self) -> SignalInstance: ...

    def refresh(self) -> None:
        """Read the overview again."""
