"""A lossy coder between two units, as in a wireless receiver or a streaming service: AAC by PyAV."""

from __future__ import annotations

import io

import numpy as np

from epidote.core.signals.signal import Samples

_FRAME = 1024


def coded(x: Samples, rate: float, bit_rate: int) -> Samples:
    """Return samples (frames, channels) within ±1 as they come back of the coder, as late as it makes them."""
    import av

    layout = "mono" if x.shape[1] == 1 else "stereo"
    buffer = io.BytesIO()
    with av.open(buffer, "w", format="adts") as container:
        stream = container.add_stream("aac", rate=round(rate), layout=layout)
        stream.bit_rate = bit_rate
        planar = np.ascontiguousarray(np.clip(x[:, :2], -1, 1).T, dtype=np.float32)
        for first in range(0, planar.shape[1], _FRAME):
            part = np.zeros((planar.shape[0], _FRAME), np.float32)
            piece = planar[:, first : first + _FRAME]
            part[:, : piece.shape[1]] = piece
            frame = av.AudioFrame.from_ndarray(part, format="fltp", layout=layout)
            frame.sample_rate = round(rate)
            frame.pts = first
            container.mux(stream.encode(frame))
        container.mux(stream.encode(None))
    buffer.seek(0)
    with av.open(buffer, "r", format="aac") as container:
        parts = [frame.to_ndarray() for frame in container.decode(audio=0)]
    out = np.concatenate(parts, axis=1).T.astype(np.float64)
    whole = np.zeros((x.shape[0], out.shape[1]))
    kept = out[: x.shape[0]]
    whole[: kept.shape[0]] = kept
    return whole
