"""The phase relation of two channels: against numpy's correlation coefficient and powers by hand."""

import numpy as np
import pytest

from epidote.core.analysis.listening.phase_relation import phase_relation
from epidote.core.chain.chain import Chain
from epidote.core.procedures.registry import procedure
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal

RATE = 48000


def two(share, seed=1, seconds=2.0):
    """Two noises of power 1 whose correlation is ``share``."""
    rng = np.random.default_rng(seed)
    a, b = rng.standard_normal((2, round(seconds * RATE)))
    return a, share * a + np.sqrt(1 - share**2) * b


@pytest.mark.parametrize("share", [1.0, 0.6, 0.0, -1.0])
def test_correlation_and_mid_and_side(share):
    left, right = two(share)
    found = phase_relation(left, right, RATE)
    assert found.whole == pytest.approx(np.corrcoef(left, right)[0, 1], abs=1e-3)
    assert found.correlation.mean() == pytest.approx(share, abs=0.02)
    # mid and side hold (1 + share) / 2 and (1 - share) / 2 of a channel's power
    assert found.mid.mean() == pytest.approx((1 + share) / 2, abs=0.02)
    assert found.side.mean() == pytest.approx((1 - share) / 2, abs=0.02)


def test_a_change_is_seen_at_its_time():
    a, b = two(1.0)
    b = b.copy()
    b[RATE:] *= -1
    found = phase_relation(a, b, RATE)
    assert np.all(found.correlation[found.time < 1] > 0.99)
    assert np.all(found.correlation[found.time > 1] < -0.99)


def test_a_silent_channel_has_no_relation():
    found = phase_relation(np.zeros(RATE), two(0.0)[0][:RATE], RATE)
    assert found.whole is None and not found.correlation.any()


def test_of_any_recording_of_two_channels():
    samples = 0.1 * np.stack(two(0.6), axis=1)
    proc = procedure("spectrum")
    result = proc.analyse([Recording(Signal(samples, RATE))], proc.Settings(), Chain())
    assert result.reading("channel_correlation").value == pytest.approx(0.6, abs=0.02)
    assert result.curve("mid_time").y.mean() == pytest.approx(10 * np.log10(2 * 0.01 * 0.8), abs=0.2)
    assert result.curve("correlation_time").x.size == 20
    alone = proc.analyse([Recording(Signal(samples[:, :1], RATE))], proc.Settings(), Chain())
    assert alone.reading("channel_correlation") is None
