"""The sweep's harmonics come when theory says they do."""

import math

import numpy as np
import pytest

from epidote.core.analysis import sweep_deconvolution as dc
from epidote.core.procedures.response.procedure import Response
from epidote.core.procedures.response.settings import ResponseSettings
from epidote.core.stimuli.sweep import sweep
from tests.conftest import UNCALIBRATED, recording, table


def test_rate_constant_and_advance():
    """Source: Farina 2000: L = T / ln(f2/f1); the n-th harmonic response leads by L ln n."""
    rows = [r for r in table("13_ess_sweeps") if r["type"] == "farina"]
    assert rows
    for row in rows:
        f1, f2, duration = (float(row[k]) for k in ("start_frequency_hz", "stop_frequency_hz", "requested_duration_s"))
        # the sweep that covers the same span: ours begins two octaves below its band and ends above it
        made = sweep(rate=96000, start=4 * f1, stop=f2 / 1.25, duration=duration, level=-6)
        assert (made["first"], made["last"]) == pytest.approx((f1, f2))
        assert made["length"] == pytest.approx(float(row["rate_constant_l_s"]), rel=1e-9)
    for row in table("13_ess_harmonic"):
        assert float(row["rate_constant_l_s"]) * math.log(int(row["harmonic_order"])) == pytest.approx(
            float(row["advance_s"]), rel=1e-9
        )


def test_harmonic_impulses_stand_at_their_advance():
    """Source: Novak, Lotton, Simon 2015: x + sum a_n x^n simulated, peaks at L ln n before the linear one."""
    rate = 96000.0
    stimulus = sweep(rate=rate, start=40, stop=8000, duration=4, level=-6)
    x = stimulus.samples()
    y = x + 0.2 * x**2 + 0.2 * x**3  # nothing aliases: 3 x 10 kHz lies below half the rate
    d = dc.deconvolve(y, dc.kernel(stimulus, y.size))
    assert d.peak == 0
    for order, impulse in ((2, d.turned), (3, d.impulse)):
        advance = stimulus["length"] * math.log(order) * rate
        near = np.arange(-300, 301) - round(advance)
        peak = near[np.argmax(np.abs(np.take(impulse, near, mode="wrap")))]
        assert -peak == pytest.approx(advance, abs=1.0)


@pytest.mark.parametrize(
    ("level_db", "low", "tolerance"), [(-60.0, 100.0, 0.001), (-60.0, 40.0, 0.05), (-100.0, 100.0, 0.02)]
)
def test_harmonics_of_a_polynomial(level_db, low, tolerance):
    """Source: h2 = a2 A²/2, h3 = a3 A³/4 (06c); accuracy as docs/methods.md promises for a 10 s sweep."""
    rate = 48000.0
    settings = ResponseSettings(duration=10)
    stimulus = settings.played(rate)
    x = stimulus.samples()
    a = 10 ** (-6 / 20)
    h = 10 ** (level_db / 20)
    a2, a3 = 2 * h / a, 4 * h / a**2
    size = 1 << 20
    spectrum = np.fft.rfft(x, size)
    wide = np.zeros(2 * size + 1, complex)
    wide[: spectrum.size] = 4 * spectrum
    over = np.fft.irfft(wide, 4 * size)
    bent = over + a2 * over**2 + a3 * over**3
    y = np.fft.irfft(np.fft.rfft(bent)[: size // 2 + 1] / 4, size)[: x.size]
    result = Response().analyse([recording(y, rate, stimulus)], settings, UNCALIBRATED)
    main = 1 + 0.75 * a3 * a**2
    for n in (2, 3):
        curve = result.curve(f"h{n}")
        inside = (curve.x >= low) & (curve.x <= 6000)
        assert np.abs(curve.y[inside] - 20 * math.log10(h / main)).max() < tolerance
