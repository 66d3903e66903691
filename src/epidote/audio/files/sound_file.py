"""Sound files in and out: WAV, FLAC, AIFF, Ogg and what containers hold, read with every doubt.

Written so that nothing is half there.
"""

from __future__ import annotations

import errno
import io
import os
import stat
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import numpy as np
import soundfile

from epidote.audio.files.containers import DiskError
from epidote.audio.files.streams import SoundStream
from epidote.audio.resampling import signal_for_playing
from epidote.core.errors import UnusableInputError
from epidote.core.quantities.column_text import decoded
from epidote.core.signals.signal import Samples, Signal
from epidote.core.stimuli.equaliser import set_text_reader
from epidote.core.stimuli.noise import set_material_reader

SUBTYPES = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}
_MOST_TEXT = 10_000_000  # bytes
_STEPS = {"16": 2.0**15, "24": 2.0**23}


@dataclass(frozen=True)
class Track:
    """One audio track: its name (title or language, else its number) and its signal."""

    name: str
    signal: Signal


def read_sound(path: Path) -> Signal:
    """Return a sound file as a signal in FS; of a container, its first track.

    Raises UnusableInputError saying what is wrong with it.
    """
    return read_tracks(path)[0].signal


def read_tracks(path: Path, first: float = 0.0, last: float | None = None) -> list[Track]:
    """Every track of a sound file or container from ``first`` to ``last`` s (a sound file has one), in FS.

    Raises UnusableInputError.
    """
    with SoundStream(path, first, last) as stream:
        tracks = [Track(t.name, t.signal()) for t in stream.tracks]
        stream.require_still()
    return tracks


def read_material(path: str, rate: float) -> Signal:
    """Return a sound file brought to a rate, for playing. Raises UnusableInputError."""
    return signal_for_playing(read_sound(Path(path).expanduser()), rate)


def read_text(path: str) -> str:
    """Return a text file, such as a curve of an equaliser. Raises UnusableInputError."""
    return decoded(read_bounded(Path(path).expanduser(), _MOST_TEXT, "a curve"))


set_material_reader(read_material)
set_text_reader(read_text)


def encode(samples: Samples, rate: float, kind: str, bits: str) -> bytes:
    """Return a sound file's bytes; kind WAV or FLAC, bits 16, 24 or 32f.

    Integers are rounded, so that 24-bit numbers come back exactly.
    """
    data: Samples
    if bits in _STEPS:
        data = np.clip(np.round(samples * _STEPS[bits]), -_STEPS[bits], _STEPS[bits] - 1) / _STEPS[bits]
    else:
        data = samples
    buffer = io.BytesIO()
    soundfile.write(buffer, data, round(rate), format=kind, subtype=SUBTYPES[bits])
    return buffer.getvalue()


def write_whole(path: Path, content: bytes) -> None:
    """Write under a temporary name, sync, rename: the file is there whole or not at all. Raises DiskError.

    What stands under the temporary name already, such as a link, is removed and never written through.
    """
    part = part_of(path)
    try:
        with new_part(path) as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        part.replace(path)
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as error:
        part.unlink(missing_ok=True)
        raise disk_error(path.name, path.parent, error) from error


def read_bounded(path: Path, most: int, what: str) -> bytes:
    """Return a file from outside, whole: a regular file of at most ``most`` bytes.

    ``what``: what it is to be. Raises UnusableInputError.
    """
    try:
        descriptor = os.open(path, os.O_RDONLY | os.O_NONBLOCK | os.O_CLOEXEC)  # a FIFO must not make it wait
        with os.fdopen(descriptor, "rb") as file:
            status = os.fstat(file.fileno())
            if not stat.S_ISREG(status.st_mode):
                raise UnusableInputError(f"{path} is not a file. Nothing was read; select {what}.")
            if status.st_size > most:
                raise UnusableInputError(
                    f"{path.name} has {status.st_size / 1e6:.0f} MB; {what} has at most {most / 1e6:.0f} MB. Nothing"
                    " was read; use a smaller file."
                )
            return file.read(most)
    except OSError as error:
        raise UnusableInputError(
            f"{path} cannot be read: {error.strerror}. Nothing was read; select {what}."
        ) from error


def part_of(path: Path) -> Path:
    """Return the temporary name under which a file is written. Raises DiskError for a path that names no file."""
    if not path.name:
        raise DiskError(f"“{path}” is not a file name. Nothing was written; enter a name.")
    return path.with_name(path.name + ".part")


def new_part(path: Path) -> IO[bytes]:
    """Return a new file under the temporary name of ``path``, open for reading and writing. Raises OSError."""
    temporary = part_of(path)
    temporary.unlink(missing_ok=True)  # of a process that was killed; of a link only the link itself
    return os.fdopen(
        os.open(temporary, os.O_RDWR | os.O_CREAT | os.O_EXCL | os.O_NOFOLLOW | os.O_CLOEXEC, 0o666), "w+b"
    )


def disk_error(name: str, folder: Path, error: OSError) -> DiskError:
    """Return what the disk refused, in words."""
    if error.errno == errno.ENOSPC:
        return DiskError(
            f"The disk is full: {name} could not be written to {folder}. Any existing file is unchanged; free some"
            " space and try again."
        )
    return DiskError(
        f"{name} could not be written to {folder}: {error.strerror}. Any existing file is unchanged; free some space or"
        " choose another folder, then try again."
    )


def decode_kept(content: bytes) -> Signal:
    """Return the signal of a WAV or FLAC file's bytes, as ``encode`` made them. Raises UnusableInputError."""
    try:
        samples, rate = soundfile.read(io.BytesIO(content), dtype="float64", always_2d=True)
    except (soundfile.SoundFileError, OSError) as error:
        raise UnusableInputError(
            "The recording cannot be decoded. The run's results are unchanged; restore the file from a backup."
        ) from error
    return Signal(np.asarray(samples), float(rate))


def is_24_bit(samples: Samples) -> bool:
    """Whether every sample is a whole 24-bit step within full scale, so that FLAC keeps it exactly."""
    steps = samples * _STEPS["24"]
    return bool(np.all(np.round(steps) == steps) and np.abs(samples).max(initial=0) <= 1)
