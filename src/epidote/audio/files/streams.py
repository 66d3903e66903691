"""Sound files read stretch by stretch: what is hours long is never held whole."""

from __future__ import annotations

import os
import threading
from collections import OrderedDict
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import soundfile
from numpy.typing import NDArray

from epidote.audio.files.containers import Decoded, decoded
from epidote.audio.files.headers import announced
from epidote.core.errors import UnusableInputError
from epidote.core.signals.signal import Samples, Signal

_OWN = (
    ".wav",
    ".flac",
    ".aif",
    ".aiff",
    ".w64",
    ".rf64",
    ".caf",
    ".au",
    ".snd",
)  # a broken one of these is broken, not something else
_AT_ONCE = 2**15  # frames of all channels that are read at a time
_KEPT = 2**24  # samples that are kept: 24-bit ones whole, in 64 MB


class TrackStream:
    """One track of a file: its name, rate in Hz, frames and channels, in FS; safe to read from several threads."""

    def __init__(
        self, name: str, rate: float, frames: int, channels: int, read: Callable[[int, int], Samples], *, late: int = 0
    ) -> None:
        self.name, self.rate, self.channels = name, rate, channels
        self.frames = frames + late
        self._read, self._late = read, late
        self._alone = threading.Lock()
        self._kept: OrderedDict[int, NDArray[np.float32]] = OrderedDict()

    def read(self, first: int, frames: int) -> Samples:
        """(frames, channels) from ``first`` on, with zeros where there is nothing."""
        out = np.zeros((frames, self.channels))
        low, high = max(0, first, self._late), min(self.frames, first + frames)
        if high > low:
            with self._alone:
                got = self._read(low - self._late, high - low)
            out[low - first : low - first + got.shape[0]] = got
        return out

    def block(self, number: int) -> NDArray[np.float32]:
        """Block ``number`` of _AT_ONCE frames (frames, channels), kept for a while: the other channels are wanted
        next.
        """
        with self._alone:
            if number in self._kept:
                self._kept.move_to_end(number)
                return self._kept[number]
        first = number * _AT_ONCE
        got = self.read(first, min(_AT_ONCE, self.frames - first)).astype(np.float32)
        with self._alone:
            self._kept[number] = got
            while len(self._kept) * _AT_ONCE * self.channels > _KEPT:
                self._kept.popitem(last=False)
        return got

    def channel(self, number: int) -> ChannelStream:
        """One channel (from 1)."""
        return ChannelStream(self, number)

    def signal(self) -> Signal:
        """All of it in memory. Raises UnusableInputError when that is more than a quarter of the machine's."""
        size, machine = 8 * self.frames * self.channels, os.sysconf("SC_PAGE_SIZE") * os.sysconf("SC_PHYS_PAGES")
        if size > machine / 4:
            raise UnusableInputError(
                f"This recording ({self.frames / self.rate / 60:.0f} min, {self.channels} channels) is too long to load"
                " at once on this computer. Nothing was computed; select a section (--from, --to), or compare its"
                " channels with “paths”, which reads in blocks."
            )
        return Signal(self.read(0, self.frames), self.rate)


@dataclass(frozen=True)
class ChannelStream:
    """One channel of a track, as a way that is read stretch by stretch; to 24 bit."""

    track: TrackStream
    number: int

    @property
    def rate(self) -> float:
        return self.track.rate

    @property
    def frames(self) -> int:
        return self.track.frames

    def read(self, first: int, frames: int) -> Samples:
        out = np.zeros(frames)
        low, high = max(0, first), min(self.frames, first + frames)
        for block in range(low // _AT_ONCE, -(-high // _AT_ONCE)):
            begin = block * _AT_ONCE
            start, end = max(low, begin), min(high, begin + _AT_ONCE)
            if end > start:
                out[start - first : end - first] = self.track.block(block)[start - begin : end - begin, self.number - 1]
        return out


class SoundStream:
    """A sound file or container that is open for reading: ``tracks``.

    Use it as a context: leaving it tells whether the file held still.
    """

    def __init__(self, path: Path, first: float = 0.0, last: float | None = None) -> None:
        """From ``first`` to ``last`` s. Raises UnusableInputError saying what is wrong with it."""
        self._path = path
        try:
            self._before = path.stat()
        except OSError as error:
            raise UnusableInputError(f"{path} cannot be read: {error.strerror}.") from error
        if path.is_dir():
            raise UnusableInputError(
                f"{path} is a folder, not an audio file. Nothing was computed; select an audio file."
            )
        if not path.is_file():
            raise UnusableInputError(f"{path} is not a file. Nothing was computed; select an audio file.")
        if self._before.st_size == 0:
            raise UnusableInputError(f"{path.name} is empty. Nothing was computed; make or copy the recording again.")
        if last is not None and last <= first:
            raise UnusableInputError(
                f"The section from {first:g} s to {last:g} s is empty. Nothing was computed; select a section inside"
                " the recording."
            )
        self._file: soundfile.SoundFile | None = None
        self._decoded: list[Decoded] = []
        try:
            _refuse_cut_off(path, self._before.st_size)  # first: some formats do not even open then
            self._file = soundfile.SoundFile(path)
            self.tracks = [self._whole_file(first, last)]
        except (soundfile.SoundFileError, OSError) as error:
            if path.suffix.lower() in _OWN:
                raise UnusableInputError(
                    f"{path.name} is not a readable audio file. Nothing was computed; use a WAV or FLAC file."
                ) from error
            self._decoded = decoded(path, first, last)
            self.tracks = [_track(one) for one in self._decoded]
        if self.tracks[0].frames == 0:
            beyond = ""
            if first:
                beyond = f" after {first:g} s"
            raise UnusableInputError(
                f"{path.name} contains no samples{beyond}. Nothing was computed; make the recording again."
            )

    def _whole_file(self, first: float, last: float | None) -> TrackStream:
        file = self._file
        assert file is not None
        rate = float(file.samplerate)
        low = min(round(first * rate), file.frames)
        if last is None:
            high = file.frames
        else:
            high = min(file.frames, max(low, round(last * rate)))

        def read(at: int, frames: int) -> Samples:
            try:
                file.seek(low + at)
                got = np.asarray(file.read(frames, dtype="float64", always_2d=True))
            except (soundfile.SoundFileError, RuntimeError, OSError) as error:
                raise UnusableInputError(
                    f"{self._path.name} is damaged {_at(low + at, rate)}. Nothing was computed; copy or export it"
                    " again."
                ) from error
            if got.shape[0] < frames:
                raise UnusableInputError(
                    f"{self._path.name} is truncated or damaged: it ends {_at(low + at + got.shape[0], rate)}. Nothing"
                    " was computed; copy or export it again."
                )
            return got

        return TrackStream("", rate, high - low, file.channels, read)

    def __enter__(self) -> SoundStream:
        return self

    def __exit__(self, *_: object) -> None:
        self.close()

    def require_still(self) -> None:
        """Raise UnusableInputError when somebody wrote to the file since it was opened."""
        after = self._path.stat()
        if (after.st_size, after.st_mtime_ns) != (self._before.st_size, self._before.st_mtime_ns):
            raise UnusableInputError(
                f"{self._path.name} changed while it was being read. Nothing was computed; wait until it is complete"
                " and try again."
            )

    def close(self) -> None:
        if self._file is not None:
            self._file.close()
        for one in self._decoded:
            one.file.close()


def _at(frame: int, rate: float) -> str:
    return f"at {frame / rate:.2f} s"


def _track(one: Decoded) -> TrackStream:
    def read(at: int, frames: int) -> Samples:
        one.file.seek(4 * at * one.channels)
        raw = np.frombuffer(one.file.read(4 * frames * one.channels), np.float32)
        return raw.reshape(-1, one.channels).astype(np.float64)

    return TrackStream(one.name, one.rate, one.frames, one.channels, read, late=round(one.late * one.rate))


def _refuse_cut_off(path: Path, size: int) -> None:
    """Refuse a file whose header announces more sound than there is, in any format whose header says so."""
    with path.open("rb") as file:
        stated = announced(file, size)
    if stated is not None and stated.cut_off:
        raise UnusableInputError(
            f"{path.name} is truncated: only {100 * stated.share:.0f} % of the audio is there. Nothing was computed;"
            " copy or export it again."
        )
