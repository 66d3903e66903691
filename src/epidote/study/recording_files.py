"""The recordings of a study: one audio file each, kept as it came and checked by its digest when it is read."""

from __future__ import annotations

import hashlib
import os
import sqlite3
from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import TYPE_CHECKING, Any

from epidote.study.folder import RECORDINGS, StudyFolder, require_plain
from epidote.study.models import StudyError
from epidote.study.rows import acquisition_from_row

if TYPE_CHECKING:
    from epidote.core.analysis.delay.clock_offset import ClockOffset
    from epidote.core.signals.recording import Recording
    from epidote.core.signals.signal import Signal

_MOST_FLAC_CHANNELS = 8  # of the format
_MOST_FLAC_RATE = 655350  # Hz, of the format


@dataclass(frozen=True)
class Acquired:
    """What was recorded.

    clocks: of the recorders that played or recorded by themselves, at ``rate`` Hz; none for recordings of this
    computer.
    """

    recordings: tuple[Recording, ...]
    clocks: tuple[ClockOffset, ...]
    rate: float


class RecordingFiles:
    """The files in recordings/ of a study's folder."""

    def __init__(self, folder: StudyFolder, *, read_only: bool) -> None:
        self._folder, self._read_only = folder, read_only

    def write(self, signal: Signal) -> tuple[str, str]:
        """Write one recording, whole and synced; return its file name and digest.

        FLAC where 24 bits hold every sample exactly, else 32-bit float.
        """
        from epidote.audio.files.sound_file import encode, is_24_bit

        fits_flac = (
            signal.channels <= _MOST_FLAC_CHANNELS
            and float(signal.rate).is_integer()
            and signal.rate <= _MOST_FLAC_RATE
            and is_24_bit(signal.samples)
        )
        if fits_flac:
            content, suffix = encode(signal.samples, signal.rate, "FLAC", "24"), "flac"
        else:
            content, suffix = encode(signal.samples, signal.rate, "WAV", "32f"), "wav"
        name = f"{datetime.now(UTC):%Y%m%d-%H%M%S}-{os.urandom(4).hex()}.{suffix}"
        self._folder.write(RECORDINGS, name, content)
        return name, hashlib.sha256(content).hexdigest()

    def acquired(self, rows: Iterable[sqlite3.Row]) -> Acquired:
        """Return the recordings of a run by their rows, in order, each with what is known of how it was made.

        Of recordings of a marked file the recorder's clock is found again. Raises StudyError when a file is missing or
        changed.
        """
        return acquired_from((self._read(row["file"], row["sha256"]), row) for row in rows)

    def _read(self, name: str, digest: str) -> bytes:
        """Return a recording's bytes, taken out of the bin again where it lies there.

        Raises StudyError when it is missing or changed.
        """
        if not self._folder.has(RECORDINGS, require_plain(name)) and not self._read_only:
            self._folder.move_back(RECORDINGS, name)
        if self._folder.has(RECORDINGS, name):
            content = self._folder.read(RECORDINGS, name)
        else:
            content = b""
        return checked_content(name, content, digest)


def checked_content(name: str, content: bytes, digest: str) -> bytes:
    """Return a recording's bytes. Raises StudyError when they are not those that were kept."""
    if hashlib.sha256(content).hexdigest() != digest:
        raise StudyError(
            f"The recording {name} is missing or was changed outside Epidote. The run's results are unchanged;"
            " restore the file from a backup."
        )
    return content


def acquired_from(files: Iterable[tuple[bytes, sqlite3.Row | Mapping[str, Any]]]) -> Acquired:
    """Return recordings from the bytes of their files and their rows. Raises StudyError, UnusableInputError."""
    from epidote.audio.files.sound_file import decode_kept
    from epidote.core.analysis.delay.clock_offset import to_player_clock
    from epidote.core.signals.recording import Recording, Section
    from epidote.core.stimuli.marked_sequence import MarkedSequence

    result: list[Recording] = []
    clocks: list[ClockOffset] = []
    rate = 0.0
    for content, row in files:
        signal = decode_kept(content)
        stimulus, faults = acquisition_from_row(row)
        if isinstance(stimulus, MarkedSequence):
            parts, clock = to_player_clock(signal, stimulus)
            result += parts
            clocks.append(clock)
            rate = signal.rate
        elif isinstance(stimulus, tuple):
            result.append(Section(signal, *stimulus).cut())
        else:
            result.append(Recording(signal, stimulus, faults))
    return Acquired(tuple(result), tuple(clocks), rate)
