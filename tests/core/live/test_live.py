"""What a live view computes, against plain transforms and formulas; what plays meanwhile; the threshold of hearing."""

import math

import numpy as np
import pytest

from epidote.audio.device import Wiring
from epidote.audio.registry import open_device
from epidote.core.analysis.spectral.hearing_threshold import audibility_sentence, audible_components, threshold
from epidote.core.errors import SettingError
from epidote.core.live.meter_readings import figures, two_channels
from epidote.core.live.spectrum_analyser import (
    AnalyserSettings,
    Averaging,
    Reducer,
    SpectrumAnalyser,
    View,
    mains_lines,
    sum_of,
)
from epidote.core.stimuli.generator import GeneratorSettings, SignalGenerator, Waveform, multitone_loop
from tests.conftest import sine, table

RATE = 48000


def fed(x, settings=None, view=None, block=800):
    watch = SpectrumAnalyser(
        RATE, x.shape[1], settings or AnalyserSettings(length=16384), view or View(10, 24000, True, 500)
    )
    frame = None
    for i in range(0, len(x), block):
        frame = watch.feed(x[i : i + block]) or frame
    return watch, frame


def test_a_full_scale_sine_reads_0_dbfs():
    """AES17. At the middle of a bin no window loses anything."""
    f = 683 * RATE / 16384
    x = np.column_stack([sine(f, 1.0, RATE, RATE), sine(f, 0.001, RATE, RATE)])
    for window in ("Hann", "Blackman-Harris, 4-term", "Blackman-Harris, 7-term"):
        _, frame = fed(x, AnalyserSettings(length=16384, window=window))
        assert np.nanmax(frame.high[0]) == pytest.approx(0, abs=1e-3)
        assert np.nanmax(frame.high[1]) == pytest.approx(-60, abs=1e-2)


def test_bins_against_numpy():
    """Second way: numpy's transform of the same stretch and window, in double precision."""
    x = np.random.default_rng(0).standard_normal((40000, 2)) * 0.1
    watch, _ = fed(x, AnalyserSettings(length=4096), block=777)
    state = watch.hold("a")
    n = 4096
    last = state.recent[-n:]
    window = 0.5 - 0.5 * np.cos(2 * np.pi * np.arange(n) / n)
    plain = np.abs(np.fft.rfft(last * window[:, None], axis=0).T * 2 / n / 0.5) ** 2
    strong = plain > 1e-6 * plain.max()
    assert np.abs(10 * np.log10(watch.power_of_latest()[0][strong] / plain[strong])).max() < 0.01
    assert np.array_equal(state.recent[-100:].astype(np.float32), x[-100 - len(x) % 1 :].astype(np.float32))


def test_reducing_keeps_the_extremes_of_every_pixel():
    rng = np.random.default_rng(1)
    power = rng.random((1, 8193)).astype(np.float32) + 1e-9
    view = View(1000, 20000, True, 300)
    low, high = Reducer(RATE, 16384, view)(power)
    edges = view.edges()
    f = np.arange(8193) * RATE / 16384
    for i in range(40, 300, 37):
        inside = (f >= edges[i]) & (f < edges[i + 1])
        if np.count_nonzero(inside) > 3:
            assert high[0, i] == pytest.approx(10 * np.log10(power[0, inside].max()), abs=2.0)
            assert low[0, i] <= high[0, i]
    assert np.isnan(Reducer(RATE, 16384, View(10, 40000, True, 300))(power)[1][0, -1]), (
        "there is nothing above half the rate"
    )


def test_averaging_settles_and_peaks_stay():
    rng = np.random.default_rng(2)
    x = 0.01 * rng.standard_normal((RATE * 3, 1))
    with_burst = x.copy()
    with_burst[RATE : RATE + 4000, 0] += sine(5000, 0.5, 4000, RATE)
    view = View(1000, 20000, False, 200)
    spread = {}
    for kind in (Averaging.NONE, Averaging.LINEAR, Averaging.PEAK):
        watch, frame = fed(
            with_burst if kind is Averaging.PEAK else x, AnalyserSettings(length=4096, averaging=kind, count=16), view
        )
        spread[kind] = float(np.std(10 * np.log10(watch.hold("s").power[0, 200:1500])))
        if kind is Averaging.PEAK:
            assert np.nanmax(frame.high) > -10, "the burst is long gone, its peak is not"
    # the standard deviation of a mean of 16 looks is a quarter of one look's (5.57 dB for one bin of Gaussian noise)
    assert spread[Averaging.NONE] == pytest.approx(5.57, abs=0.5)
    assert spread[Averaging.LINEAR] < 1.8


def test_settings_change_while_it_runs():
    x = np.column_stack([sine(1000, 0.5, RATE * 2, RATE)])
    watch = SpectrumAnalyser(RATE, 1, AnalyserSettings(length=1024), View(10, 24000, True, 100))
    for i in range(0, RATE, 800):
        watch.feed(x[i : i + 800])
    watch.change(AnalyserSettings(length=8192, averaging=Averaging.EXPONENTIAL))
    frames = [watch.feed(x[i : i + 800]) for i in range(RATE, 2 * RATE, 800)]
    assert watch.hold("now").power.shape == (1, 4097)
    assert [f for f in frames if f is not None][-1].filled


def test_the_waveform_begins_where_it_rises_through_the_trigger():
    x = np.column_stack([sine(440.7, 0.5, RATE, RATE), sine(440.7, 0.1, RATE, RATE)])
    _, frame = fed(x, AnalyserSettings(length=16384, wave_seconds=0.004, trigger=0.2))
    start = np.interp(0.0, frame.wave_times, frame.waves[0])
    assert start == pytest.approx(0.2, abs=2e-3)
    assert frame.waves[0][5] > frame.waves[0][1]
    assert frame.waves.shape == (2, frame.wave_times.size)


def test_figures_of_a_tone_with_noise():
    """Second way: RMS, crest and THD+N of the formula. 20 kHz of a 24 kHz band hold 20/24 of white noise."""
    noise = 1e-4 * np.random.default_rng(3).standard_normal(9600)
    found = figures(sine(1000.3, 0.5, 9600, RATE) + noise, RATE)
    assert found.rms == pytest.approx(-6.02, abs=0.01)
    assert found.crest == pytest.approx(3.01, abs=0.02)
    assert found.frequency == pytest.approx(1000.3, abs=0.01)
    assert found.thd_n == pytest.approx(20 * np.log10(1e-4 * np.sqrt(2) / 0.5) + 10 * np.log10(20 / 24), abs=0.3)
    assert found.weighted == pytest.approx(-6.02, abs=0.02)


def test_figures_of_noise_and_of_nothing():
    found = figures(np.random.default_rng(1).standard_normal(9600) * 0.1, RATE)
    assert (found.frequency, found.thd_n) == (None, None)
    assert found.crest > 10
    nothing = figures(np.zeros(9600), RATE)
    assert nothing.crest is None
    assert nothing.rms == -np.inf


def test_mains_lines_between_two_bins():
    """Known levels, put between bins on purpose, in noise."""
    t = np.arange(RATE * 2) / RATE
    amplitudes = {50.03: 1e-4, 100.06: 3e-5, 150.09: 1e-5}
    x = sum(a * np.sin(2 * np.pi * f * t) for f, a in amplitudes.items()) + 1e-7 * np.random.default_rng(
        5
    ).standard_normal(t.size)
    watch, _ = fed(x[:, None], AnalyserSettings(length=65536))
    found = mains_lines(watch.hold("idle"), 50.0)
    for (f, level), amplitude in zip(found, amplitudes.values(), strict=False):
        assert level == pytest.approx(20 * np.log10(amplitude), abs=0.1), f
    assert found[3][1] is None, "only noise there"
    assert sum_of([-20.0, -20.0, None]) == pytest.approx(-16.99, abs=0.01)
    coarse, _ = fed(x[:, None], AnalyserSettings(length=1024))
    assert all(level is None for _, level in mains_lines(coarse.hold("coarse"), 50.0))


class TestHearing:
    def test_threshold_of_the_standard(self):
        """ISO 226:2003, table 1 (reference 03; T_f from memory, cross-checked there)."""
        rows = table("03")
        f = np.array([float(r["frequency_exact_base10_hz"]) for r in rows])
        assert threshold(f) == pytest.approx([float(r["threshold_tf_db_spl"]) for r in rows], abs=0.05)
        assert np.isnan(threshold(np.array([10.0, 16000.0]))).all()

    def test_components_above_it(self):
        """0 dB is 96 dB SPL: a line of -60 dB at 1 kHz arrives with 36 dB SPL, 33.6 dB above its 2.4 dB."""
        levels = np.full(20001, -150.0) + np.random.default_rng(1).normal(0, 1, 20001)
        levels[1000], levels[50], levels[3000] = -60.0, -60.0, -120.0
        found = audible_components(levels, 1.0, 96.0)
        assert found[0].frequency == 1000
        assert found[0].above == pytest.approx(33.6, abs=0.05)
        assert next(c for c in found if c.frequency == 50).above == pytest.approx(36 - 44.0, abs=0.1)
        words = audibility_sentence(found, 96.0)
        assert "1 kHz by 34 dB" in words
        assert "50 Hz" not in words
        assert "no component exceeds" in audibility_sentence(audible_components(levels - 60, 1.0, 96.0), 96.0)


class TestProgramme:
    def test_phase_goes_on_from_block_to_block(self):
        player = SignalGenerator(RATE, 2)
        player.play(GeneratorSettings(Waveform.TONE, level=-6, frequency=997))
        x = np.concatenate([player.next(n) for n in (100, 4000, 37, 5000, 1)])
        steady = x[1000:, 0]
        assert np.abs(steady[2:] + steady[:-2] - 2 * np.cos(2 * np.pi * 997 / RATE) * steady[1:-1]).max() < 1e-12
        assert np.array_equal(x[:, 0], x[:, 1])
        assert np.abs(x).max() == pytest.approx(10 ** (-6 / 20), rel=1e-3)

    def test_it_comes_and_goes_without_a_click(self):
        player = SignalGenerator(RATE, 1)
        player.play(GeneratorSettings(Waveform.TONE, level=0, frequency=100))
        begun = player.next(2000)[:, 0]
        player.play(GeneratorSettings())
        ended = player.next(2000)[:, 0]
        for x in (begun, ended):
            assert np.abs(np.diff(x, 2)).max() < 3e-3
        assert not ended[-10:].any()
        assert not player.sounding

    def test_mute_is_silent_by_the_end_of_one_block(self):
        player = SignalGenerator(RATE, 1)
        player.play(GeneratorSettings(Waveform.NOISE, level=-10))
        player.next(4096)
        player.mute()
        assert abs(player.next(128)[-1, 0]) < 1e-9
        assert not player.next(128).any()
        player.play(GeneratorSettings(Waveform.TONE))
        assert player.next(2048).any()

    def test_nothing_exceeds_the_ceiling(self):
        for kind in (Waveform.TONE, Waveform.TWO_TONES, Waveform.NOISE, Waveform.MULTITONE, Waveform.FILE):
            player = SignalGenerator(RATE, 1, ceiling_dbfs=-12)
            player.play(GeneratorSettings(kind, level=0.0), samples=np.array([0.0, 3.0, -1.0]))
            peak = max(np.abs(player.next(8192)).max() for _ in range(20))
            assert 10 ** (-16 / 20) < peak <= 10 ** (-12 / 20) * (1 + 1e-9), kind

    def test_levels(self):
        """Noise: the RMS of a sine at that level; two tones: the peak of one."""
        player = SignalGenerator(RATE, 1)
        player.play(GeneratorSettings(Waveform.NOISE, level=-20))
        player.next(4096)
        assert np.sqrt(np.square(player.next(100000)).mean()) == pytest.approx(0.1 / np.sqrt(2), rel=0.02)

    def test_many_tones_stand_alike_at_their_bins(self):
        """Second way: numpy's transform of the loop.

        One line every tenth of a decade, all of one height, nothing between.
        """
        loop = multitone_loop(RATE)
        lines = np.abs(np.fft.rfft(loop))
        bins = np.flatnonzero(lines > 0.5 * lines.max())
        assert bins.size == 31
        assert np.ptp(lines[bins]) < 1e-9 * lines.max()
        assert np.delete(lines, bins).max() < 1e-9 * lines.max()
        assert bins * RATE / loop.size == pytest.approx(20 * 10 ** (np.arange(31) / 10), abs=0.19)

    def test_what_cannot_be_played_is_refused(self):
        player = SignalGenerator(RATE, 1)
        with pytest.raises(SettingError, match="cannot be played at a sample rate of 48000"):
            player.play(GeneratorSettings(Waveform.TONE, frequency=30000))
        with pytest.raises(SettingError, match="contains no audio"):
            player.play(GeneratorSettings(Waveform.FILE), samples=np.zeros(100))

    def test_only_the_outputs_asked_for(self):
        player = SignalGenerator(RATE, 3)
        player.play(GeneratorSettings(Waveform.TONE, outputs=(3,)))
        x = player.next(2048)
        assert not x[:, :2].any()
        assert x[:, 2].any()
        assert GeneratorSettings.from_json(GeneratorSettings(Waveform.TONE, outputs=(3,)).to_json()).outputs == (3,)


def test_listening_to_a_stand_in_is_seamless():
    """A tone through the simulated wire, listened to: what is not the tone stays below -95 dB, seams between its
    stretches included.
    """
    import time

    device = open_device("standin:wire", Wiring(RATE), {}, seed=1)
    live = device.listen(ceiling_dbfs=0)
    live.play(GeneratorSettings(Waveform.TONE, level=-6, frequency=1000))
    blocks, begun = [], time.monotonic()
    while sum(b.shape[0] for b in blocks) < 1.4 * RATE and time.monotonic() < begun + 30:
        blocks.append(live.read())
        time.sleep(0.02)
    took = time.monotonic() - begun
    live.close()
    x = np.concatenate(blocks)[:, 0]
    assert 1.4 * RATE <= x.size < 1.3 * took * RATE  # no quicker than sound; how much slower is the machine's affair
    found = figures(x[-24000:], RATE)
    assert found.frequency == pytest.approx(1000, abs=1e-3)
    assert found.thd_n < -95


def test_two_channels_go_together_as_their_definition_says():
    """A tone on both, the second at half its level and turned: correlation -1; mid and side by hand."""
    x = sine(1000, 0.5, 9600, 48000)
    found = two_channels(x, -0.5 * x, 48000)
    assert found.correlation == pytest.approx(-1)
    level = 20 * math.log10(0.5)
    assert (found.mid, found.side) == pytest.approx(
        (level + 20 * math.log10(0.25), level + 20 * math.log10(0.75)), abs=0.01
    )
    assert two_channels(x, 0 * x, 48000).correlation is None
    assert two_channels(x, x, 48000).side == -math.inf
