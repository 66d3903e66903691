"""How the application and the process that holds the sound card talk: one letter, a length, and so many bytes, over
a socket.
"""

from __future__ import annotations

import json
import socket
import struct
from typing import Any

import numpy as np

from epidote.core.signals.signal import Samples

WORDS, SAMPLES, BEGUN, FAULT, PLACE = b"J", b"S", b"B", b"F", b"P"
_HEAD = struct.Struct("<cI")
_PLACE = struct.Struct("<q")


def send(to: socket.socket, kind: bytes, content: bytes = b"") -> None:
    """Send one message: its kind, its length, its content. Raises OSError once the other side is gone."""
    to.sendall(_HEAD.pack(kind, len(content)) + content)


def send_words(to: socket.socket, words: dict[str, Any]) -> None:
    """Send a message of words, as JSON."""
    send(to, WORDS, json.dumps(words).encode())


def receive(source: socket.socket) -> tuple[bytes, bytes] | None:
    """Return the next message: its letter and content; None when the other side is gone.

    Raises TimeoutError as the socket is set to.
    """
    head = _exactly(source, _HEAD.size)
    if head is None:
        return None
    kind, size = _HEAD.unpack(head)
    content = _exactly(source, size)
    if content is None:
        return None
    return (kind, content)


def _exactly(source: socket.socket, size: int) -> bytes | None:
    parts = bytearray()
    while len(parts) < size:
        try:
            part = source.recv(min(size - len(parts), 1 << 20))
        except ConnectionError:
            return None
        if not part:
            return None
        parts += part
    return bytes(parts)


def to_bytes(samples: Samples) -> bytes:
    """Return samples as 32-bit floats, which hold what a 24-bit converter does exactly."""
    return np.ascontiguousarray(samples, dtype="<f4").tobytes()


def from_bytes(content: bytes, channels: int) -> Samples:
    """Return the samples (frames, channels) of a message."""
    if channels == 0:
        return np.zeros((0, 0))
    return np.frombuffer(content, dtype="<f4").reshape(-1, channels).astype(np.float64)


def place_to_bytes(place: int) -> bytes:
    """Return the content of a message that says which frame of the clips is about to sound."""
    return _PLACE.pack(place)


def place_from_bytes(content: bytes) -> int:
    """Return the frame of such a message."""
    return int(_PLACE.unpack(content)[0])
