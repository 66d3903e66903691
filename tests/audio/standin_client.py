"""A stand-in as a JACK client of its own: what the application plays into it comes back weaker, without its lowest
frequencies, and bent.
"""

import sys
import time

import numpy as np
import sounddevice
from scipy.signal import lfilter

GAIN, CORNER, SECOND = 0.5, 100.0, 1e-3


def main(rate: float) -> None:
    # a first-order high-pass by the bilinear transform, its corner pre-warped
    k = np.tan(np.pi * CORNER / rate)
    b, a = np.array([1.0, -1.0]) / (1 + k), np.array([1.0, (k - 1) / (k + 1)])
    state = np.zeros((1, 2))

    def process(incoming, outgoing, frames, when, status):
        nonlocal state
        x, state = lfilter(b, a, incoming.astype(float), axis=0, zi=state)
        outgoing[:] = GAIN * (x + SECOND * x * x)

    with sounddevice.Stream(samplerate=rate, device=0, channels=2, dtype="float32", callback=process):
        sys.stdout.write("running\n")
        sys.stdout.flush()
        time.sleep(120)


main(float(sys.argv[1]))
