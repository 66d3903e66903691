"""The highest level of units whose distortion and compression are formulas, and what ends each band."""

import math

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.maximum_level.procedure import Limited, limits_in_words
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.silence import KIND as SILENCE
from epidote.measurement.playback import play_and_record
from tests.ideal_device import IdealDevice

RATE = 48000
CHAIN = Chain(
    rate=RATE, input_full_scale=1.0, output_full_scale=2.0, microphone_sensitivities=(0.05,), output_ceiling=-3.0
)
QUICK = {"lowest": 200.0, "highest": 400.0, "dwell": 0.15, "rest": 0.1, "start_level": "-30", "stop_level": "-6"}


def measured(unit, **values):
    settings = make_settings(procedure("maximum-level").Settings, {**QUICK, **values})
    device = IdealDevice(unit, rate=RATE, noise=1e-7)
    recordings = play_and_record("maximum-level", settings, CHAIN, device)
    return procedure("maximum-level").analyse(recordings, settings, CHAIN), recordings, device


def bent(third):
    """A cubic: the third harmonic of amplitude a is third·a²/4 of the fundamental, which loses 3·third·a²/4."""
    return lambda x: 0.3 * (x - third * x**3)


def test_distortion_ends_a_band_at_its_limit():
    """3 % where third·a²/4/(1 - 3·third·a²/4) = 0.03: a² = 0.12/(third·1.09)."""
    result, _, _ = measured(bent(1.0), distortion_limit=3.0)
    drive = result.curve("maximum_drive")
    amplitude = math.sqrt(0.12 / 1.09)
    assert drive.x.size == 4
    np.testing.assert_allclose(drive.y, 20 * math.log10(amplitude), atol=0.1)
    np.testing.assert_allclose(result.curve("thd_at_maximum").y, 20 * math.log10(0.03), atol=0.1)
    output = 0.3 * amplitude * (1 - 0.75 * amplitude**2)
    level = 20 * math.log10(output / 0.05 / 20e-6)  # full scale is 1 V RMS
    assert result.reading("maximum_level").value == pytest.approx(level, abs=0.15)
    assert result.reading("maximum_level").unit == "dB SPL"
    assert result.reading("maximum_level").at["finding"] == "limited by distortion 200 Hz to 398 Hz"


def test_compression_ends_a_band_where_distortion_does_not():
    """1 dB of gain is lost where 1 - 3·third·a²/4 = 10^(-1/20)."""
    result, _, _ = measured(bent(1.0), distortion_limit=50.0, compression_limit=1.0)
    amplitude = math.sqrt((1 - 10 ** (-1 / 20)) / 0.75)
    np.testing.assert_allclose(result.curve("maximum_drive").y, 20 * math.log10(amplitude), atol=0.15)
    np.testing.assert_allclose(result.curve("compression_at_maximum").y, 1.0, atol=0.1)
    assert "compression" in result.reading("maximum_level").at["finding"]


def test_a_clean_unit_is_limited_by_the_drive():
    result, recordings, _ = measured(lambda x: 0.3 * x)
    np.testing.assert_allclose(result.curve("maximum_drive").y, -6.0, atol=1e-6)
    assert result.reading("maximum_level").at["finding"] == "limited by drive 200 Hz to 398 Hz"
    assert sum(r.stimulus.kind == SILENCE for r in recordings) == 4  # a rest after each band


def test_bands_end_as_soon_as_a_limit_is_passed_and_the_ceiling_holds():
    _, recordings, device = measured(bent(4.0), distortion_limit=1.0)
    whole = [r.stimulus.frames / RATE for r in recordings if r.stimulus.kind != SILENCE]
    loud = [t for t in device.played if t > 0.2]
    assert max(loud) < 0.8 * min(whole)
    settings = make_settings(procedure("maximum-level").Settings, {**QUICK, "stop_level": "0"})
    assert max(settings.levels(CHAIN)) == CHAIN.output_ceiling


def test_limits_in_words():
    bands = [
        Limited(50.1, "distortion", -10, 0.1, 0.03, 0.2),
        Limited(63.1, "distortion", -9, 0.1, 0.03, 0.2),
        Limited(79.4, "drive", -6, 0.1, 0.01, 0.2),
    ]
    assert limits_in_words(bands) == "limited by distortion 50.1 Hz to 63.1 Hz; drive 79.4 Hz"


def test_what_cannot_be_is_refused():
    proc = procedure("maximum-level")
    with pytest.raises(SettingError, match="must be below"):
        make_settings(proc.Settings, {"start_level": "-6", "stop_level": "-10"}).levels(CHAIN)
    with pytest.raises(UnusableInputError, match="of its own tones"):
        proc.analyse([Recording(Signal(np.ones((48000, 1)) * 0.1, RATE))], make_settings(proc.Settings, {}), CHAIN)


def test_the_loudspeaker_before_the_wall():
    """Its distortion grows with the excursion, below the resonance: low bands end by distortion, high ones by drive."""
    from epidote.audio.device import Wiring
    from epidote.audio.registry import open_device

    chain = Chain(output_full_scale=4.0, input_full_scale=1.0, microphone_sensitivities=(0.05, 0.008))
    settings = make_settings(
        procedure("maximum-level").Settings,
        {
            "lowest": 40.0,
            "highest": 250.0,
            "stop_level": "0",
            "distortion_limit": 2.0,
            "start_level": "-24",
            "rest": 0.2,
        },
    )
    device = open_device("standin:kelwin-t2", Wiring(RATE, chain.outputs, chain.inputs), {}, seed=1)
    recordings = play_and_record("maximum-level", settings, chain, device)
    result = procedure("maximum-level").analyse(recordings, settings, chain)
    drive = result.curve("maximum_drive", 1)
    assert drive.y[0] < -1.0
    assert drive.y[-1] == pytest.approx(0.0, abs=1e-6)
    assert "distortion" in result.reading("maximum_level", 1).at["finding"]
    assert "drive" in result.reading("maximum_level", 1).at["finding"]
