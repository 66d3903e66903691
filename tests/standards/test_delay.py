"""Delays against the Cramér-Rao bound and against delays that were made exactly, in the frequency domain."""

import math

import numpy as np
import pytest

from epidote.core.analysis.delay.delay_estimation import Delay, NoCorrelation, delay_between
from epidote.core.analysis.delay.delay_tracking import SegmentGrid, track_delay
from epidote.core.analysis.delay.echo_cepstrum import detect_echo
from epidote.core.analysis.delay.onsets import onsets
from epidote.core.analysis.delay.path_comparison import compare_paths
from epidote.core.procedures.path_delay.procedure import compare_with_first
from epidote.core.procedures.path_delay.settings import PathsSettings
from epidote.core.signals.sample_source import CHUNK_FRAMES, MAX_IN_MEMORY_FRAMES, ArraySource
from tests.conftest import sum_of_sines, table, through

RATE = 48000
BAND = (1.0, 4000.0)


def path_found(first, second, band, search, events):
    (found,) = compare_paths(first, [second], band, search, events=events)
    return found


def band_noise(frames, high=4000.0, seed=0, margin=2000):
    """White noise up to ``high`` Hz, silent at both ends so that nothing is cut off by a delay."""
    rng = np.random.default_rng(seed)
    spectrum = np.fft.rfft(rng.standard_normal(frames))
    spectrum[np.fft.rfftfreq(frames, 1 / RATE) > high] = 0
    x = np.fft.irfft(spectrum, frames)
    x[:margin] = x[-margin:] = 0
    return x / x[margin:-margin].std()


def late(x, frames):
    return through(x, RATE, lambda f: np.exp(-2j * np.pi * f * frames / RATE))


@pytest.mark.parametrize("snr", [0, 20, 40])
def test_reaches_the_cramer_rao_bound(snr):
    """Reference section 14 (Knapp, Carter 1976; Quazi 1981): known reference, noise in one, 0 to 4 kHz, 1 s.

    Its spread says the same.
    """
    row = next(
        r
        for r in table("14_tdoa_crlb")
        if (r["snr_in_band_db"], r["band_high_hz"], r["duration_s"]) == (str(snr), "4000", "1.0")
    )
    bound = float(row["std_noise_in_one_channel_samples_at_48khz"])
    margin = 2000
    x = band_noise(RATE + 2 * margin, margin=margin)
    rng = np.random.default_rng(1000 + snr)
    sigma = 10 ** (-snr / 20) * np.sqrt(RATE / 2 / 4000)  # the noise is white up to half the rate
    errors, spreads = [], []
    for _ in range(60):
        true = 300 + rng.random()
        found = delay_between(x, late(x, true) + sigma * rng.standard_normal(x.size), RATE, BAND, 0.1)
        errors.append(found.frames - true)
        spreads.append(found.spread)
    rms = float(np.sqrt(np.mean(np.square(errors))))
    assert 0.75 * bound < rms < 1.2 * 1.25 * bound  # sixty trials say a spread to 9 %
    assert np.median(spreads) == pytest.approx(bound, rel=0.1)


def test_level_polarity_and_correlation():
    x = band_noise(RATE)
    found = delay_between(x, -0.5 * late(x, -41.7), RATE, BAND, 0.1)
    assert found.frames == pytest.approx(-41.7, abs=1e-4)
    assert (found.polarity, found.level_db) == (-1, pytest.approx(-6.0206, abs=1e-3))
    assert found.correlation == pytest.approx(1, abs=1e-5)


def test_noise_at_0_db_does_not_raise_the_level():
    x = band_noise(RATE)
    y = x + np.random.default_rng(3).standard_normal(x.size) * np.sqrt(6)
    assert delay_between(x, y, RATE, BAND, 0.1).level_db == pytest.approx(0, abs=0.3)


@pytest.mark.parametrize("seed", range(12))
def test_unrelated_signals_have_nothing_in_common(seed):
    found = delay_between(band_noise(RATE, 20000, seed), band_noise(RATE, 20000, 100 + seed), RATE, (20, 20000), 0.9)
    assert isinstance(found, NoCorrelation)
    assert 0 < found.correlation < 0.1


def test_loud_bass_that_a_high_pass_disperses_does_not_pull_the_delay_away():
    """Drums through a fourth-order high-pass of 80 Hz: the plain correlation follows the bass, the band as a whole
    is 200.25 late.
    """
    from scipy.signal import butter, sosfilt

    rng = np.random.default_rng(2)
    drums = np.zeros(2 * RATE)
    k = np.arange(9000) / RATE
    for t in range(2000, drums.size - 9000, 12000):
        drums[t : t + 9000] += 3 * np.exp(-25 * k) * np.sin(2 * np.pi * 55 * k) + 0.3 * np.exp(
            -80 * k
        ) * rng.standard_normal(9000)
    found = delay_between(
        drums, sosfilt(butter(4, 80, "high", fs=RATE, output="sos"), late(drums, 200.25)), RATE, (20, 20000), 0.1
    )
    assert found.dispersed
    assert found.frames == pytest.approx(200.25, abs=0.05)


@pytest.mark.parametrize(("snr", "ppm"), [(60, 3.0), (20, 100.0)])
def test_drift_of_two_clocks(snr, ppm):
    """Made by evaluating the same sum of sines at the other clock's instants.

    Bound of a slope: the delay's own, times sqrt(12)/T (Kay 1993).
    """
    seconds, rng = 4, np.random.default_rng(1)
    f = rng.uniform(100, 3900, 160)
    phase = rng.uniform(0, 2 * np.pi, f.size)
    t = np.arange(seconds * RATE) / RATE
    made = lambda at: sum_of_sines(f, 1 / np.sqrt(f.size / 2), phase, at)  # noqa: E731
    e = ppm * 1e-6
    x, y = made(t), made(t / (1 + e) - 0.01)
    y += 10 ** (-snr / 20) * np.sqrt(6) * rng.standard_normal(t.size)
    found = path_found(ArraySource(x, RATE), ArraySource(y, RATE), (50, 4000), 0.5, events=False)
    w2 = (4000**3 - 50**3) / 3 * (2 * np.pi) ** 2 / 3950 * 4000
    bound = np.sqrt(12) / seconds / np.sqrt(2 * seconds * 10 ** (snr / 10) * w2)
    # a silent edge costs nothing here, but a hundred and sixty lines are no noise: what a tapered window loses is not
    # made up for
    assert found.drift == pytest.approx(e, abs=6 * bound)
    middle = (seconds / 2 + 0.01) * (1 + e) - seconds / 2
    assert found.delay.frames / RATE == pytest.approx(middle, abs=2e-8 if snr == 60 else 2e-6)
    assert not found.wavers


def test_a_modulated_delay_is_said():
    x = band_noise(4 * RATE)
    t = np.arange(x.size)
    fine = np.fft.irfft(np.fft.rfft(x), 16 * x.size) * 16
    places = (t - 100 - 5 * np.sin(2 * np.pi * 0.7 * t / RATE)) * 16
    y = np.interp(places, np.arange(fine.size), fine)
    found = path_found(ArraySource(x, RATE), ArraySource(y, RATE), (20, 4000), 0.1, events=False)
    assert found.wavers == pytest.approx(5 / np.sqrt(2), rel=0.3)
    assert (
        path_found(ArraySource(x, RATE), ArraySource(late(x, 100.0), RATE), (20, 4000), 0.1, events=False).wavers == 0
    )


def test_clicks_in_noise_at_20_db_and_no_others():
    """Peak over rms; a minute of noise alone gives none."""
    rng = np.random.default_rng(4)
    noise = rng.standard_normal(60 * RATE)
    assert onsets(ArraySource(noise, RATE)) == []
    places = list(range(30000, noise.size - 1000, 37777))
    noise[places] = 10.0
    assert [one.frame for one in onsets(ArraySource(noise, RATE))] == places


def test_each_transient_has_its_own_delay():
    x = np.zeros(3 * RATE)
    y = np.zeros_like(x)
    k = np.arange(600)
    hit = np.exp(-k / 80) * np.random.default_rng(0).standard_normal(600)
    true = (400, 400, 430, 400)
    for n, delay in enumerate(true):
        x[20000 + 30000 * n : 20600 + 30000 * n] = hit
        y[20000 + 30000 * n + delay : 20600 + 30000 * n + delay] = 0.5 * hit
    found = path_found(ArraySource(x, RATE), ArraySource(y, RATE), (20, 20000), 0.1, events=True)
    assert [e.delay * RATE for e in found.events] == pytest.approx(true, abs=0.02)
    assert [e.level for e in found.events] == pytest.approx([-6.0206] * 4, abs=0.05)
    assert isinstance(found.delay, Delay)


def test_blocks_stay_under_their_samples_in_a_long_recording():
    """Twenty minutes whose noise rises tenfold half-way, where something begins indeed: each half is judged by its
    own.
    """
    rng = np.random.default_rng(5)
    rate = 8017  # 50 ms are no whole number of frames
    noise = rng.standard_normal(1200 * rate)
    half = 12000 * 401  # where a block begins
    noise[half:] *= 10
    noise[[1000000, half + 1000000]] = 10.0, 100.0
    found = [one.frame for one in onsets(ArraySource(noise, rate))]
    assert 1000000 not in found  # below a tenth of the greatest
    assert found == [pytest.approx(half, abs=10), half + 1000000]


def test_a_long_recording_is_read_a_piece_at_a_time():
    """The same figures as of one that is held whole: the pieces' cross spectra add up to the whole's.

    Nothing longer is ever asked for.
    """
    rng = np.random.default_rng(11)
    rate, frames = 8000, MAX_IN_MEMORY_FRAMES + 900_000
    x = 0.1 * rng.standard_normal(frames + 5000)
    x[rate * np.arange(20, 370, 20)] = 0.9
    asked = []

    class Watched(ArraySource):
        def read(self, first, count):
            asked.append(count)
            return super().read(first, count)

    first, second = Watched(x[5000:], rate), Watched(-0.5 * x[4000:-1000] + 0.01 * rng.standard_normal(frames), rate)
    found = path_found(first, second, (20, 3900), 0.5, events=True)
    assert found.delay.frames == pytest.approx(1000, abs=5 * found.delay.spread)
    # noise in one channel, white up to half the rate (reference section 14's formula): 0.05 against 0.01
    bound = rate / math.sqrt(2 * frames / rate * 25 * 3900**3 / 3 * (2 * math.pi) ** 2)
    assert found.delay.spread == pytest.approx(bound, rel=0.1)
    assert (found.delay.polarity, found.delay.level_db) == (-1, pytest.approx(-6.0206, abs=1e-3))
    assert found.null_db == pytest.approx(-10 * math.log10(1 + 25), abs=0.1)
    assert found.drift == 0
    assert max(asked) <= CHUNK_FRAMES + 1000
    assert [e.delay for e in found.events] == pytest.approx([1000 / rate] * len(found.events), abs=1e-5)
    assert len(found.events) >= 17


def test_an_hours_drift_is_followed_from_window_to_window():
    """150 ppm over ten minutes are 90 ms, 720 frames, which no single correlation survives."""
    rng = np.random.default_rng(12)
    rate, ppm = 8000, 150e-6

    class Tones:
        """Sound that can be made anywhere: slow noise by a sum of sines."""

        frames = MAX_IN_MEMORY_FRAMES + 600_000

        def __init__(self, step, start):
            self.rate, self.step, self.start = rate, step, start

        def read(self, first, count):
            n = np.arange(first, first + count)
            out = sum_of_sines(pitches, 1.0, phases, (self.start + self.step * n) / rate)
            return np.where((n >= 0) & (n < self.frames), out, 0.0)

    tones = 40
    pitches, phases = rng.uniform(200, 3000, tones), rng.uniform(0, 7, tones)
    course = track_delay(SegmentGrid.of(Tones(1.0, 0.0)), Tones(1 - ppm, -300.25), (100, 3900), 0.2)
    assert course.drift == pytest.approx(1 / (1 - ppm) - 1, rel=1e-6)
    assert course.start == pytest.approx(300.25 / (1 - ppm), abs=1e-3)


@pytest.mark.parametrize("row", table("16_comb_filter"), ids=lambda row: row["delay_s"])
def test_two_arrivals_of_a_sound_nobody_knows(row):
    """Reference section 16: the comb's first null, and its depth for -3 dB."""
    delay = float(row["delay_s"])
    x = band_noise(20 * RATE, 20000)
    depth = next(r for r in table("16_comb_depth") if r["delayed_level_re_dry_db"] == "-3")
    found = detect_echo(ArraySource(x + float(depth["delayed_gain"]) * late(x, delay * RATE), RATE), (50, 19000), 0.05)
    assert found.apart == pytest.approx(delay, abs=1e-6)
    assert found.null_hz == pytest.approx(float(row["first_null_hz"]), rel=1e-3)
    assert found.gain == pytest.approx(float(depth["delayed_gain"]), rel=0.02)
    assert found.depth_db == pytest.approx(float(depth["peak_to_null_db"]), abs=0.5)
    turned = detect_echo(ArraySource(x - 0.5 * late(x, delay * RATE), RATE), (50, 19000), 0.05)
    assert (turned.gain, turned.null_hz) == (pytest.approx(-0.5, rel=0.02), pytest.approx(1 / delay, rel=1e-3))


def test_no_second_arrival_is_made_up():
    assert detect_echo(ArraySource(band_noise(4 * RATE, 20000, 5), RATE), (50, 19000), 0.05) is None


def test_phase_and_group_delay_of_a_path():
    """A first-order all-pass (Zölzer, DAFX, from memory): H = (jw - a)/(jw + a) turns the phase, and delays by
    2a/(a² + w²).
    """
    a = 2 * np.pi * 500
    x = band_noise(10 * RATE, 20000)
    y = through(late(x, 100.0), RATE, lambda f: (a - 2j * np.pi * f) / (a + 2j * np.pi * f))
    result = compare_with_first(
        [ArraySource(x, RATE), ArraySource(y, RATE)], PathsSettings(band_low=100, band_high=15000)
    )
    late_by, phase = result.curve("group_delay", 2), result.curve("phase", 2)
    w = 2 * np.pi * late_by.x
    expected = 100 / RATE + 2 * a / (a**2 + w**2)
    assert late_by.y == pytest.approx(expected, abs=2e-4)  # two bins' worth of noise at the lower end
    assert late_by.y[late_by.x > 1000] == pytest.approx(expected[late_by.x > 1000], abs=1e-5)
    taken_out = result.reading("delay", 2).value
    expected = np.angle(np.exp(-1j * (w * (100 / RATE - taken_out) + 2 * np.arctan(w / a))), deg=True)
    turned = 0 if result.reading("polarity", 2).value > 0 else 180
    assert np.abs((phase.y - expected - turned + 180) % 360 - 180).max() < 1.5


@pytest.mark.parametrize("corner", [2, 20, 100, 300])
def test_a_high_pass_that_shifts_the_delay_widens_its_spread(corner):
    """Closed form for white noise up to B: the slope of the phase arctan(fc/f) weighted by f², 3 fc/(2 pi B²) s early.

    Beyond 0.02 frames it is said.
    """
    x = np.random.default_rng(5).standard_normal(2 * RATE)
    early = 3 * corner / (2 * np.pi * 18000**2) * RATE
    y = through(x, RATE, lambda f: np.exp(-2j * np.pi * f * 200.25 / RATE) / (1 - 1j * corner / np.maximum(f, 1e-3)))
    found = delay_between(x, y, RATE, (100, 18000), 0.1)
    assert found.frames == pytest.approx(200.25 - early, rel=0, abs=0.3 * early)
    assert abs(found.frames - 200.25) < 2 * found.spread_with_shift
    assert found.spread_with_shift < 4 * early
    assert found.dispersed == (corner >= 300)


@pytest.mark.parametrize("noise", [0.0, 1e-4, 1e-2, 0.3])
@pytest.mark.parametrize("seed", range(5))
def test_a_path_without_dispersion_is_not_widened(noise, seed):
    rng = np.random.default_rng(seed)
    x = rng.standard_normal(RATE)
    y = late(x, 200.25) + noise * rng.standard_normal(x.size)
    found = delay_between(x, y, RATE, (100, 18000), 0.1)
    assert not found.dispersed
    assert found.shift == 0
