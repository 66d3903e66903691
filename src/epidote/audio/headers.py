"""How much sound a file's header announces, for each format that says so: a file that holds less was cut off.

Layouts of the chunks: RIFF/WAVE and RF64 (EBU Tech 3306), AIFF and AIFF-C, Sony Wave64, CAF and Sun AU, all from memory; the tests write
files of each with a general library and cut them.
"""

from __future__ import annotations

import struct
from collections.abc import Callable
from dataclasses import dataclass
from typing import BinaryIO

_UNKNOWN_32, _STREAMED = 0xFFFFFFFF, 0xFFFFFFF0
_W64_RIFF = b"riff\x2e\x91\xcf\x11\xa5\xd6\x28\xdb\x04\xc1\x00\x00"
_W64_DATA = b"data\xf3\xac\xd3\x11\x8c\xd1\x00\xc0\x4f\x8e\xdb\x8a"
_MOST_CHUNKS = 10_000


@dataclass(frozen=True)
class Announced:
    """Bytes of sound that the header says, and that the file holds."""

    said: int
    held: int

    @property
    def share(self) -> float:
        return self.held / self.said if self.said else 1.0

    @property
    def cut_off(self) -> bool:
        return self.held < self.said


def announced(file: BinaryIO, size: int) -> Announced | None:
    """What a file's header says; None where it does not say, or the format is none of these. ``size``: the file's, in bytes."""
    file.seek(0)
    head = file.read(16)
    readers: tuple[tuple[bytes, Callable[[BinaryIO, int], Announced | None]], ...] = (
        (b"RIFF", _riff), (b"RF64", _riff), (b"BW64", _riff), (b"FORM", _aiff), (_W64_RIFF, _wave64), (b"caff", _caf), (b".snd", _au),
    )  # fmt: skip
    for mark, read in readers:
        if head.startswith(mark):
            try:
                return read(file, size)
            except struct.error:
                return None
    return None


def _riff(file: BinaryIO, size: int) -> Announced | None:
    position, long_size = 12, 0
    for _ in range(_MOST_CHUNKS):
        if position + 8 > size:
            return None
        file.seek(position)
        name, length = struct.unpack("<4sI", file.read(8))
        if name == b"ds64":
            long_size = struct.unpack("<8xQ", file.read(16))[0]
        if name == b"data":
            said = long_size if length == _UNKNOWN_32 and long_size else length
            if said == 0 or (said >= _STREAMED and not long_size):  # streaming writers leave the length at 0 or all ones
                return None
            return Announced(said, size - position - 8)
        position += 8 + length + length % 2
    return None


def _aiff(file: BinaryIO, size: int) -> Announced | None:
    position = 12
    for _ in range(_MOST_CHUNKS):
        if position + 8 > size:
            return None
        file.seek(position)
        name, length = struct.unpack(">4sI", file.read(8))
        if name == b"SSND":
            return Announced(max(0, length - 8), max(0, size - position - 16)) if length else None
        position += 8 + length + length % 2
    return None


def _wave64(file: BinaryIO, size: int) -> Announced | None:
    position = 40
    for _ in range(_MOST_CHUNKS):
        if position + 24 > size:
            return None
        file.seek(position)
        name, length = struct.unpack("<16sQ", file.read(24))
        if name == _W64_DATA:
            return Announced(max(0, length - 24), size - position - 24)
        if length < 24:
            return None
        position += length + (-length) % 8
    return None


def _caf(file: BinaryIO, size: int) -> Announced | None:
    position = 8
    for _ in range(_MOST_CHUNKS):
        if position + 12 > size:
            return None
        file.seek(position)
        name, length = struct.unpack(">4sq", file.read(12))
        if name == b"data":
            return Announced(max(0, length - 4), max(0, size - position - 16)) if length > 0 else None
        if length < 0:
            return None
        position += 12 + length
    return None


def _au(file: BinaryIO, size: int) -> Announced | None:
    file.seek(4)
    offset, length = struct.unpack(">II", file.read(8))
    return None if length == _UNKNOWN_32 else Announced(length, max(0, size - offset))
