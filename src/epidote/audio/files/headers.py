"""How much sound a file's header announces, for each format that says so: a file that holds less was cut off.

Layouts of the chunks: RIFF/WAVE and RF64 (EBU Tech 3306), AIFF and AIFF-C, Sony Wave64, CAF and Sun AU, all from
memory; the tests write files of each with a general library and cut them.
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator
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
        if self.said:
            return self.held / self.said
        return 1.0

    @property
    def cut_off(self) -> bool:
        return self.held < self.said


def announced(file: BinaryIO, size: int) -> Announced | None:
    """Return what a file's header says; None where it does not say, or the format is none of these.

    ``size``: the file's, in bytes.
    """
    file.seek(0)
    head = file.read(16)
    readers: tuple[tuple[bytes, Callable[[BinaryIO, int], Announced | None]], ...] = (
        (b"RIFF", _riff),
        (b"RF64", _riff),
        (b"BW64", _riff),
        (b"FORM", _aiff),
        (_W64_RIFF, _wave64),
        (b"caff", _caf),
        (b".snd", _au),
    )
    for mark, read in readers:
        if head.startswith(mark):
            try:
                return read(file, size)
            except struct.error:
                return None
    return None


@dataclass(frozen=True)
class _Container:
    """A file of chunks one after the other: where the first begins, how a chunk's name and length are written, to
    how many bytes chunks are padded, and whether a length counts the chunk's own head.
    """

    first: int
    head: struct.Struct
    padding: int
    counts_head: bool = False

    def chunks(self, file: BinaryIO, size: int) -> Iterator[tuple[bytes, int, int]]:
        """(name, length, where its content begins), the file standing there; ends where a length cannot be."""
        position = self.first
        for _ in range(_MOST_CHUNKS):
            if position + self.head.size > size:
                return
            file.seek(position)
            name, length = self.head.unpack(file.read(self.head.size))
            yield name, length, position + self.head.size
            if self.counts_head:
                own = self.head.size
            else:
                own = 0
            if length < own:
                return
            position += self.head.size - own + length + (-length) % self.padding


_RIFF = _Container(12, struct.Struct("<4sI"), 2)
_AIFF = _Container(12, struct.Struct(">4sI"), 2)
_WAVE64 = _Container(40, struct.Struct("<16sQ"), 8, counts_head=True)
_CAF = _Container(8, struct.Struct(">4sq"), 1)


def _riff(file: BinaryIO, size: int) -> Announced | None:
    long_size = 0
    for name, length, begin in _RIFF.chunks(file, size):
        if name == b"ds64":
            long_size = struct.unpack("<8xQ", file.read(16))[0]
        if name == b"data":
            if length == _UNKNOWN_32 and long_size:
                stated_length = long_size
            else:
                stated_length = length
            if stated_length == 0 or (
                stated_length >= _STREAMED and not long_size
            ):  # streaming writers leave the length at 0 or all ones
                return None
            return Announced(stated_length, size - begin)
    return None


def _aiff(file: BinaryIO, size: int) -> Announced | None:
    return _after(_AIFF, file, size, b"SSND", 8)  # offset and block size stand before the samples


def _caf(file: BinaryIO, size: int) -> Announced | None:
    return _after(_CAF, file, size, b"data", 4)  # an edit count stands before the samples


def _wave64(file: BinaryIO, size: int) -> Announced | None:
    for name, length, begin in _WAVE64.chunks(file, size):
        if name == _W64_DATA:
            return Announced(max(0, length - _WAVE64.head.size), size - begin)
    return None


def _after(container: _Container, file: BinaryIO, size: int, tag: bytes, before: int) -> Announced | None:
    """Return the chunk whose samples begin ``before`` bytes into it."""
    for name, length, begin in container.chunks(file, size):
        if name == tag:
            if length > 0:
                return Announced(max(0, length - before), max(0, size - begin - before))
            return None
    return None


def _au(file: BinaryIO, size: int) -> Announced | None:
    file.seek(4)
    offset, length = struct.unpack(">II", file.read(8))
    if length == _UNKNOWN_32:
        return None
    return Announced(length, max(0, size - offset))
