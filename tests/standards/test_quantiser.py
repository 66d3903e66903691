"""SNR, SINAD and ENOB of ideal quantisers."""

import numpy as np
import pytest

from epidote.core.procedures.tone.procedure import Tone, ToneSettings
from tests.conftest import UNCALIBRATED, dithered, recording, sine, table

WHOLE_BAND = ToneSettings(band_low=0, band_high=24000, harmonics=2)


@pytest.mark.parametrize("row", table("07_quantiser"), ids=lambda r: f"{r['bits']} bits")
def test_triangular_dither(row):
    """Source: Bennett 1948 and TPDF dither of two steps: SNR = 6.0206 N + 1.7609 - 4.7712 dB; ENOB as in IEEE 1241."""
    bits = int(row["bits"])
    back_off = 1 - 3 / 2 ** (bits - 1)  # a real coder cannot reach +2^(N-1), and the dither needs room
    x = dithered(sine(997.123, back_off, 2**18, 48000.0), bits, seed=bits)
    result = Tone().analyse([recording(x)], WHOLE_BAND, UNCALIBRATED)
    expected = float(row["snr_tpdf_dither_db"]) + 20 * np.log10(back_off)
    assert result.reading("snr").value == pytest.approx(expected, abs=0.05)
    assert result.reading("enob").value == pytest.approx((expected - 1.7609) / 6.0206, abs=0.01)


def test_sixteen_bits_without_dither():
    """Source: 6.0206 N + 1.7609 dB; simulated elsewhere to be 98.0965 dB at 16 bits."""
    steps = 2.0**15
    x = np.round(sine(997.123, 1 - 1 / steps, 2**18, 48000.0) * steps) / steps
    result = Tone().analyse([recording(x)], WHOLE_BAND, UNCALIBRATED)
    assert result.reading("sinad").value == pytest.approx(98.09, abs=0.03)


@pytest.mark.parametrize("key", ["intermodulation", "crosstalk", "multitone"])
@pytest.mark.parametrize("dither", [False, True])
def test_missing_dither_is_said(key, dither):
    """Rounded to 16 bits, with triangular dither of two steps or without; the unit distorts."""
    from epidote.core.chain.chain import Chain
    from epidote.core.procedures.registry import procedure
    from epidote.core.results.caution import Caution
    from epidote.measurement.playback import play_and_record
    from tests.ideal_device import IdealDevice

    steps = 2.0**15
    rng = np.random.default_rng(1)

    def unit(x):
        # the other channel holds a hundredth of the driven one
        mixed = x + 1e-2 * x[:, ::-1] + (0.0 if key == "multitone" else 1e-4) * x**3
        noise = rng.uniform(-0.5, 0.5, x.shape) + rng.uniform(-0.5, 0.5, x.shape) if dither else 0.0
        return np.clip(np.round(mixed * steps + noise) / steps, -1, 1 - 1 / steps)

    chain, carried = Chain(), procedure(key)
    settings = carried.Settings()
    recordings = play_and_record(key, settings, chain, IdealDevice(unit, rate=chain.rate, noise=0))
    result = carried.analyse(recordings, settings, chain)
    assert (Caution.UNDITHERED in result.cautions) != dither
    if not dither and key != "multitone":
        assert all(reading.spread is None for reading in result.readings)
