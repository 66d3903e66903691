"""Audio tracks of what other programs write: compressed files and video containers, decoded by PyAV (FFmpeg's
libraries).
"""

from __future__ import annotations

import tempfile
from dataclasses import dataclass
from pathlib import Path
from typing import IO

import numpy as np

from epidote.core.errors import EpidoteError, UnusableInputError

_AUDIBLE = 1e-3  # s by which tracks of one file may begin apart without it being meant


class DiskError(EpidoteError):
    """The disk refused: full, read-only, gone."""


@dataclass(frozen=True)
class Decoded:
    """One track of a container, decoded into a file without a name: 32-bit floats, frame after frame.

    late: s after the first track.
    """

    name: str
    file: IO[bytes]
    rate: float
    channels: int
    late: float

    @property
    def frames(self) -> int:
        self.file.seek(0, 2)
        return self.file.tell() // (4 * self.channels)


def decoded(path: Path, first: float = 0.0, last: float | None = None) -> list[Decoded]:
    """Every audio track of a file from ``first`` to ``last`` s, silence before one that begins later than the others.

    Raises UnusableInputError for a file that cannot be decoded, or holds no audio; DiskError.
    """
    import av

    try:
        with av.open(str(path)) as container:
            streams = list(container.streams.audio)
            if not streams:
                kinds = ", ".join(sorted({s.type for s in container.streams})) or "nothing"
                raise UnusableInputError(f"{path.name} contains no audio, only {kinds}. Nothing was computed.")
            names = [
                str(s.metadata.get("title") or s.metadata.get("language") or f"track {n}")
                for n, s in enumerate(streams, start=1)
            ]
        tracks = [_decoded(path, name, number, first, last) for number, name in enumerate(names)]
    except av.FFmpegError as error:
        raise UnusableInputError(
            f"{path.name} cannot be decoded: {error.strerror or error}. Nothing was computed; use an audio or video"
            " file."
        ) from error
    except OSError as error:
        raise DiskError(
            f"{path.name} could not be decoded into {tempfile.gettempdir()}: {error.strerror}. Nothing was computed;"
            " free some space there."
        ) from error
    begin = min(t.late for t in tracks)
    for track in tracks:
        if track.frames == 0:
            raise UnusableInputError(f"{path.name}, {track.name}, contains no samples. Nothing was computed.")
    offsets = [t.late - begin for t in tracks]
    return [
        Decoded(t.name, t.file, t.rate, t.channels, late if late > _AUDIBLE else 0.0)
        for t, late in zip(tracks, offsets, strict=True)
    ]


def _decoded(path: Path, name: str, number: int, first: float, last: float | None) -> Decoded:
    """One track within ``first`` to ``last`` s; late: the time of its first frame."""
    import av

    file = tempfile.TemporaryFile()  # noqa: SIM115
    with av.open(str(path)) as container:  # opened anew: going back in an open one may lose its first frames
        stream = container.streams.audio[number]
        rate, channels = float(stream.rate), stream.layout.nb_channels
        to_floats = av.AudioResampler(format="flt", layout=stream.layout, rate=stream.rate)
        start: float | None = None
        at: float | None = None  # counted on from the first frame: containers round their times to milliseconds
        for frame in container.decode(stream):
            if at is None:
                at = float(frame.time or 0.0)
            begin, at = at, at + frame.samples / rate
            if last is not None and begin >= last:
                break
            if at <= first:
                continue
            part = np.concatenate([f.to_ndarray().reshape(-1, channels) for f in to_floats.resample(frame)])
            low = max(0, round((first - begin) * rate))
            if last is None:
                high = part.shape[0]
            else:
                high = min(part.shape[0], round((last - begin) * rate))
            if start is None:
                start = begin + low / rate
            file.write(part[low:high].tobytes())
    return Decoded(name, file, rate, channels, start or 0.0)
