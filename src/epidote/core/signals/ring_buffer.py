"""The newest samples of endless sound, always in one piece, in single precision."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from epidote.core.signals.signal import Samples


class Ring:
    """Keeps at least the last ``frames`` samples of each channel; before sound came there was silence."""

    def __init__(self, channels: int, frames: int) -> None:
        self._least = frames
        self._store = np.zeros((channels, 2 * frames), dtype=np.float32)
        self._end = frames
        self.heard = 0

    def take(self, block: Samples) -> None:
        """Append a block (frames, channels)."""
        self.heard += block.shape[0]
        new = block[-self._least :].T
        count = new.shape[1]
        if self._end + count > self._store.shape[1]:
            keep = self._least - count
            self._store[:, :keep] = self._store[:, self._end - keep : self._end].copy()
            self._end = keep
        self._store[:, self._end : self._end + count] = new
        self._end += count

    def last(self, frames: int, before: int = 0) -> NDArray[np.float32]:
        """Return a view of the ``frames`` samples that end ``before`` samples ago (channels, frames)."""
        return self._store[:, self._end - before - frames : self._end - before]
