"""Sound files in and out: WAV and FLAC, read with every doubt, written so that nothing is half there."""

from __future__ import annotations

import io
import os
import struct
from pathlib import Path

import numpy as np
import soundfile

from epidote.core.analysis.clock import resampled
from epidote.core.errors import EpidoteError, UnusableInputError
from epidote.core.signal import Samples, Signal
from epidote.core.stimulus.noise import set_material_reader

SUBTYPES = {"16": "PCM_16", "24": "PCM_24", "32f": "FLOAT"}
_STEPS = {"16": 2.0**15, "24": 2.0**23}


class DiskError(EpidoteError):
    """The disk refused: full, read-only, gone."""


def read_sound(path: Path) -> Signal:
    """A sound file as a signal in FS. Raises UnusableInputError saying what is wrong with it."""
    try:
        size = path.stat().st_size
    except OSError as error:
        raise UnusableInputError(f"{path} cannot be read: {error.strerror}.") from error
    if path.is_dir():
        raise UnusableInputError(f"{path} is a folder, not a sound file.")
    if size == 0:
        raise UnusableInputError(f"{path.name} is empty. Nothing was computed; record or copy it again.")
    try:
        samples, rate = soundfile.read(path, dtype="float64", always_2d=True)
    except (soundfile.SoundFileError, OSError) as error:
        raise UnusableInputError(
            f"{path.name} is not a sound file that can be read, whatever its name says. Nothing was computed; give a WAV or FLAC file."
        ) from error
    _refuse_cut_off(path, size)
    if samples.shape[0] == 0:
        raise UnusableInputError(f"{path.name} holds no samples. Nothing was computed; record it again.")
    return Signal(samples, float(rate))


def read_material(path: str, rate: float) -> Signal:
    """A sound file brought to a rate, for playing. Raises UnusableInputError."""
    found = read_sound(Path(path).expanduser())
    if found.rate == rate:
        return found
    step = found.rate / rate
    frames = int(found.frames / step)
    return Signal(np.column_stack([resampled(found.channel(c), step, 0.0, frames) for c in range(1, found.channels + 1)]), rate)


set_material_reader(read_material)


def _refuse_cut_off(path: Path, size: int) -> None:
    """A WAV file whose header announces more data than there is."""
    with path.open("rb") as file:
        if file.read(4) != b"RIFF":
            return
        position = 12
        while position + 8 <= size:
            file.seek(position)
            name, length = struct.unpack("<4sI", file.read(8))
            if name == b"data":
                # streaming writers leave the length at 0 or all ones
                if 0 < length < 0xFFFFFFF0 and position + 8 + length > size:
                    share = 100 * (size - position - 8) / length
                    raise UnusableInputError(
                        f"{path.name} is cut off: it holds {share:.0f} % of the sound it announces. Nothing was computed; copy or export it again."
                    )
                return
            position += 8 + length + length % 2


def encode(samples: Samples, rate: float, kind: str, bits: str) -> bytes:
    """A sound file's bytes; kind WAV or FLAC, bits 16, 24 or 32f. Integers are rounded, so that 24-bit numbers come back exactly."""
    data: Samples = np.clip(np.round(samples * _STEPS[bits]), -_STEPS[bits], _STEPS[bits] - 1) / _STEPS[bits] if bits in _STEPS else samples
    buffer = io.BytesIO()
    soundfile.write(buffer, data, round(rate), format=kind, subtype=SUBTYPES[bits])
    return buffer.getvalue()


def write_whole(path: Path, content: bytes) -> None:
    """Write under a temporary name, sync, rename: the file is there whole or not at all. Raises DiskError."""
    temporary = path.with_name(path.name + ".part")
    try:
        with temporary.open("wb") as file:
            file.write(content)
            file.flush()
            os.fsync(file.fileno())
        temporary.replace(path)
        folder = os.open(path.parent, os.O_RDONLY)
        try:
            os.fsync(folder)
        finally:
            os.close(folder)
    except OSError as error:
        temporary.unlink(missing_ok=True)
        raise DiskError(
            f"{path.name} could not be written to {path.parent}: {error.strerror}. "
            "What was there before is untouched; make room (or choose another place) and do it again."
        ) from error


def is_24_bit(samples: Samples) -> bool:
    """Whether every sample is a whole 24-bit step within full scale, so that FLAC keeps it exactly."""
    steps = samples * _STEPS["24"]
    return bool(np.all(np.round(steps) == steps) and np.abs(samples).max(initial=0) <= 1)
