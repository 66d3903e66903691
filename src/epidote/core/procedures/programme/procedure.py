"""Programme material through a unit: gain, delay and clock, what is left of the difference, and whether it would rise
above the masking threshold (docs/methods.md, Programme; Noise-to-mask ratio; Loudness).
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from epidote.core.analysis.acoustics.band_levels import band_powers_of_record, bands_within
from epidote.core.analysis.capture_checks import capture_cautions, headroom
from epidote.core.analysis.listening.alignment import Alignment, align, null_depth
from epidote.core.analysis.listening.ear_model import NoiseToMask, at_ear_rate, noise_to_mask
from epidote.core.analysis.listening.loudness import measure_loudness
from epidote.core.analysis.spectral.smoothing import Smoothing, log_bins, smoothed_power
from epidote.core.analysis.spectral.spectrum import mean_square_in_band
from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.chain.chain import Chain
from epidote.core.errors import UnusableInputError
from epidote.core.procedures.about import About, Preset, QuestionGroup
from epidote.core.procedures.common.channels import merge_channels, require_usable_recordings
from epidote.core.procedures.common.views import GAIN_VIEW
from epidote.core.procedures.programme.settings import ProgrammeSettings
from epidote.core.procedures.protocol import Conduct, CurveView, ProcedureBase, RunSound
from epidote.core.results.caution import Caution, unique
from epidote.core.results.kinds import ChainShare, ReadingKind, Shown
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result
from epidote.core.results.shared_readings import DELAY, HEADROOM, POLARITY
from epidote.core.signals import transforms
from epidote.core.signals.fft_lengths import even_fast_len
from epidote.core.signals.recording import Recording, recorded_and_original
from epidote.core.signals.signal import Samples, Signal

_LEAST_FRAMES = 8192
_TIME_STEP = 0.1  # s of the residual over time
_ENERGY = 1e-6  # of the greatest power density: less energy says nothing about the linear path
_QUIETEST = 1e-15
_BAND = (20.0, 20000.0)  # Hz
_NOT_FOUND_KEYS = (("gain", "dB"), ("delay", "s"), ("residual", "dB"), ("residual_equalised", "dB"))


class Programme(ProcedureBase):
    """Real sound through a unit, compared with its original."""

    key = "programme"
    title = "Programme material"
    about = About(
        QuestionGroup.DISTORTION,
        question="How much does it change real programme material?",
        played="An audio file, or a short piece of music",
        gives=(
            "Residual after alignment, by band and over time, and an estimate of its level above the masking threshold."
        ),
        needs="",
        sketch=((0, 0.3), (0.1, 0.6), (0.2, 0.25), (0.35, 0.7), (0.5, 0.3), (0.65, 0.55), (0.8, 0.2), (1, 0.4)),
    )
    presets = (
        Preset("Longer, 30 s", {"duration": 30.0}, "More time frames and finer resolution of the linear response."),
    )
    Settings = ProgrammeSettings
    of_levels = False
    of_the_chain = False
    takes_original = True
    differences = ("residual_equalised", "noise_to_mask", "noise_to_mask_worst", "share_above_mask")
    worst_moment = "noise_to_mask_worst"
    views = (
        CurveView("residual_bands", "Residual", "by band", "Residual re recording by third octave"),
        CurveView("residual_time", "Residual", "over time", "Residual re recording", log_x=False, compared=False),
        CurveView("noise_to_mask_time", "Masking", "over time", "Noise-to-mask ratio", log_x=False, compared=False),
        GAIN_VIEW,
    )
    sounds = (RunSound("difference", "The difference from the original"),)
    readings = (
        ReadingKind(
            "residual_equalised",
            "Residual, equalised",
            chain=ChainShare.ADDS,
            ratio=True,
            meaning="Residual after correction of delay, sample clock, gain and linear response, re the recording.",
        ),
        ReadingKind(
            "residual",
            "Residual, aligned",
            ratio=True,
            meaning="Residual after correction of delay, sample clock, polarity and gain, re the recording.",
        ),
        ReadingKind(
            "residual_a",
            "Residual, A-weighted",
            ratio=True,
            meaning="The equalised residual, A-weighted, re the recording.",
        ),
        ReadingKind(
            "correlation",
            "Correlation",
            meaning="Correlation coefficient of the recording and the aligned original; 1: identical.",
        ),
        ReadingKind(
            "noise_to_mask",
            "Noise-to-mask ratio",
            meaning="Equalised residual re the masking threshold, mean over all time frames (ear-model estimate).",
        ),
        ReadingKind(
            "noise_to_mask_aligned",
            "NMR, aligned",
            meaning=(
                "Noise-to-mask ratio of the aligned residual, which includes changes of the response; for lossy codecs."
            ),
        ),
        ReadingKind(
            "noise_to_mask_worst", "NMR, maximum", meaning="Highest noise-to-mask ratio of any band in any time frame."
        ),
        ReadingKind(
            "share_above_mask",
            "Frames above mask",
            meaning="Estimated share of time frames in which the residual exceeds the masking threshold.",
        ),
        ReadingKind("gain", "Gain", meaning="Gain by least-squares fit over the recording."),
        ReadingKind(
            "loudness", "Loudness", compared=False, meaning="Integrated loudness of the recording (ITU-R BS.1770)."
        ),
        ReadingKind(
            "loudness_original",
            "Loudness of original",
            compared=False,
            meaning="Integrated loudness of the original (ITU-R BS.1770).",
        ),
        ReadingKind(
            "short_term_max",
            "Short-term max.",
            compared=False,
            meaning="Maximum short-term loudness of the recording (ITU-R BS.1770).",
        ),
        DELAY,
        ReadingKind("delay_samples", "Delay in samples", meaning="Delay in samples of the recording."),
        ReadingKind(
            "clock_offset",
            "Clock offset",
            meaning="Sample clock of the recorder relative to that of the player.",
        ),
        POLARITY,
        ReadingKind(
            "dropouts",
            "Dropouts",
            shown=Shown.COUNT,
            compared=False,
            meaning="Excluded sections: 50 ms blocks with a much higher residual than the rest, or a missing end.",
        ),
        HEADROOM,
    )

    def conduct(self, settings: ProgrammeSettings, chain: Chain) -> Conduct:
        yield settings.played(chain.rate)

    def duration(self, settings: ProgrammeSettings, chain: Chain) -> float:
        return settings.sounding()

    def headline(self, result: Result) -> Reading | None:
        return next((r for r in result.readings if r.key == "residual_equalised"), None)

    def thumbnail(self, result: Result) -> Curve | None:
        return next((c for c in result.curves if c.key == "residual_bands"), None)

    def summary(self, settings: ProgrammeSettings) -> str:
        equalised = f", equalised with {settings.equalised_with}" if settings.equalised_with else ""
        return f"{settings.title}, {settings.duration:g} s{equalised}"

    def analyse(self, recordings: Sequence[Recording], settings: ProgrammeSettings, chain: Chain) -> Result:
        require_usable_recordings(recordings, _LEAST_FRAMES)
        compared = _Compared.of(recordings[0], settings)
        results = [*_analyse_channels(compared, settings, chain), Result((), _loudness_readings(compared))]
        return merge_channels(results, [compared.recording], chain)

    def make_sound(
        self, key: str, recordings: Sequence[Recording], settings: ProgrammeSettings, chain: Chain, channel: int
    ) -> Signal:
        """Return what differs of a channel (frames, 1) once delay, clock and the linear response are taken out."""
        require_usable_recordings(recordings, _LEAST_FRAMES)
        compared = _Compared.of(recordings[0], settings)
        if channel > compared.recorded.channels:
            raise UnusableInputError("This channel holds the original. Select a recorded channel.")
        aligned = align(compared.original_of(channel), compared.recorded.channel(channel), compared.recorded.rate)
        return Signal(aligned.residual_equalised[:, None], compared.recorded.rate, compared.recorded.unit)


@dataclass(frozen=True)
class _Compared:
    """recorded: the channels that came back; originals (frames, channels): what was played, one for all or one each."""

    recording: Recording
    recorded: Signal
    originals: Samples

    @staticmethod
    def of(recording: Recording, settings: ProgrammeSettings) -> _Compared:
        """Return recorded channels and originals of a run's recording. Raises UnusableInputError, SettingError."""
        recorded, originals = recorded_and_original(recording, lambda: settings.played(recording.signal.rate))
        return _Compared(Recording(recorded, None, recording.faults), recorded, originals)

    def original_of(self, channel: int) -> Samples:
        """Return the original (frames,) of a recorded channel (from 1)."""
        return self.originals[:, min(channel, self.originals.shape[1]) - 1]


def _analyse_channels(compared: _Compared, settings: ProgrammeSettings, chain: Chain) -> list[Result]:
    """Return each channel's result; the loudest one tells the clock of all."""
    signal = compared.recorded
    powers = np.square(signal.samples).sum(axis=0)
    order = [1 + int(n) for n in np.argsort(-powers)]
    clock: float | None = None
    found: dict[int, Result] = {}
    for number in order:
        try:
            aligned = align(compared.original_of(number), signal.channel(number), signal.rate, clock_ppm=clock)
        except UnusableInputError:
            found[number] = _not_found(signal, number)
            continue
        clock = aligned.ppm
        found[number] = _channel(aligned, signal, number, settings, chain)
    return [found[number] for number in sorted(found)]


def _not_found(signal: Signal, number: int) -> Result:
    missing = (Caution.STIMULUS_NOT_FOUND,)
    readings = [Reading(key, number, None, unit, cautions=missing) for key, unit in _NOT_FOUND_KEYS]
    return Result((), (*readings, headroom(signal, number)), unique((*capture_cautions(signal, number), *missing)))


def _loudness_readings(compared: _Compared) -> tuple[Reading, ...]:
    """Return the loudness of all recorded channels together, and of the original."""
    recorded = measure_loudness(compared.recorded.samples, compared.recorded.rate, with_peak=False)
    original = measure_loudness(compared.originals, compared.recorded.rate, with_peak=False)
    every = {
        "loudness": recorded.integrated,
        "loudness_original": original.integrated,
        "short_term_max": recorded.short_term_max,
    }
    # what is too short or too quiet has none
    return tuple(Reading(key, 1, value, "LUFS") for key, value in every.items() if value is not None)


def _channel(aligned: Alignment, signal: Signal, number: int, settings: ProgrammeSettings, chain: Chain) -> Result:
    rate = aligned.rate
    # music begins its notes with jumps; what is lost is looked for by the alignment
    cautions = list(capture_cautions(signal, number, gaps=False))
    if aligned.lost:
        cautions.append(Caution.DROPOUT)
    # Step 1: what is left, as it came and with the linear path taken out
    residual, equalised, heard = aligned.residual, aligned.residual_equalised, aligned.recording
    taps = aligned.path.size
    gain = aligned.polarity * 10 ** (aligned.gain / 20)
    # Step 2: the ear model, at the original's own level
    reference = aligned.reference
    at_ear = at_ear_rate(heard / gain, rate)
    plain = noise_to_mask(at_ear_rate(reference, rate), at_ear, settings.listening_level)
    masked = noise_to_mask(at_ear_rate(aligned.equalised / gain, rate), at_ear, settings.listening_level)
    weighted = [_weighted_power(x, rate) for x in (equalised, heard)]
    likeness = float(reference @ heard) / math.sqrt(max(float(reference @ reference) * float(heard @ heard), 1e-300))
    at: dict[str, float | str] = {"listening_level_db": settings.listening_level, "finding": _words(masked, settings)}
    changed: dict[str, float | str] = {"equalised_with": settings.equalised_with} if settings.equalised_with else {}
    where: dict[str, float | str] = {"frequency_hz": masked.worst_frequency, "time_s": masked.worst_time}
    readings = [
        Reading("residual_equalised", number, null_depth(equalised, heard, taps), "dB", changed),
        Reading("residual", number, null_depth(residual, heard), "dB", changed),
        Reading("residual_a", number, 10 * math.log10(max(weighted[0], _QUIETEST) / max(weighted[1], _QUIETEST)), "dB"),
        Reading("correlation", number, abs(likeness), "ratio"),
        Reading("noise_to_mask", number, masked.total, "dB", at),
        Reading("noise_to_mask_aligned", number, plain.total, "dB"),
        Reading("noise_to_mask_worst", number, masked.worst, "dB", where),
        Reading("share_above_mask", number, masked.share, "ratio"),
        Reading("gain", number, aligned.gain + (chain.offset_db(number) or 0.0), "dB"),
        Reading("delay", number, aligned.delay / rate, "s"),
        Reading("delay_samples", number, aligned.delay, "samples"),
        Reading("clock_offset", number, aligned.ppm, "ppm"),
        Reading("polarity", number, float(aligned.polarity), "ratio"),
        Reading("dropouts", number, float(len(aligned.lost)), "", _lost_at(aligned)),
        headroom(signal, number),
    ]
    curves = [
        *_residual_curves(aligned, number),
        Curve("noise_to_mask_time", number, masked.time, masked.ratio, "s", "dB"),
        *_path_curve(aligned, number, chain),
    ]
    return Result(tuple(curves), tuple(readings), unique(cautions))


def _words(masked: NoiseToMask, settings: ProgrammeSettings) -> str:
    return (
        f"above the masking threshold in an estimated {100 * masked.share:.0f} % of time frames (full scale at"
        f" {settings.listening_level:g} dB SPL; no listening test)"
    )


def _lost_at(aligned: Alignment) -> dict[str, float | str]:
    if not aligned.lost:
        return {}
    return {"times": ", ".join(f"{begin:.2f} s" for begin, _ in aligned.lost[:6])}


def _weighted_power(x: Samples, rate: float) -> float:
    """Return the A-weighted mean square of x (frames,)."""
    size = even_fast_len(x.size)
    band = _BAND[0], min(_BAND[1], rate / 2)
    return mean_square_in_band(transforms.rfft(x, size), size, rate, *band, weighting=Weighting.A) * size / x.size


def _residual_curves(aligned: Alignment, number: int) -> list[Curve]:
    """Return the equalised residual re the recording by third octave, and over time."""
    rate, residual, heard = aligned.rate, aligned.residual_equalised, aligned.recording
    middle = bands_within(3, *_BAND, rate, heard.size)
    parts = [band_powers_of_record(x, rate, middle, 3).powers for x in (residual, heard)]
    shown = parts[1] > _ENERGY * parts[1].max()
    level = 10 * np.log10(np.maximum(parts[0], _QUIETEST) / np.maximum(parts[1], _QUIETEST))
    step = round(_TIME_STEP * rate)
    count = heard.size // step
    powers = [np.square(x[: count * step]).reshape(count, step).mean(axis=1) for x in (residual, heard)]
    loud = float(np.mean(powers[1]))
    over_time = 10 * np.log10(np.maximum(powers[0], _QUIETEST) / max(loud, _QUIETEST))
    moments: Samples = (np.arange(count, dtype=np.float64) + 0.5) * _TIME_STEP
    return [
        Curve("residual_bands", number, middle[shown], level[shown], "Hz", "dB"),
        Curve("residual_time", number, moments, over_time, "s", "dB"),
    ]


def _path_curve(aligned: Alignment, number: int, chain: Chain) -> list[Curve]:
    """Return the gain of the linear path where the programme has energy; nothing where it has next to none."""
    rate, path = aligned.rate, aligned.path
    size = even_fast_len(max(4 * path.size, 8192))
    width = rate / size
    response = np.square(np.abs(transforms.rfft(path, size)))
    density = np.square(np.abs(transforms.rfft(aligned.reference, even_fast_len(aligned.reference.size))))
    high = min(_BAND[1], 0.47 * rate)
    x = log_bins(response.size, width, _BAND[0], high) * width
    own = rate / even_fast_len(aligned.reference.size)
    energy = smoothed_power(density, own, x, Smoothing.THIRD, low=_BAND[0], high=high) * x
    known = np.flatnonzero(energy > _ENERGY * energy.max())
    if known.size < 8:
        return []
    inside = slice(int(known[0]), int(known[-1]) + 1)
    smooth = smoothed_power(response, width, x, Smoothing.TWELFTH, low=_BAND[0], high=high)
    level = 10 * np.log10(np.maximum(smooth, 1e-20)) + (chain.offset_db(number) or 0.0)
    return [Curve("level", number, x[inside], level[inside], "Hz", "dB", None, {"smoothing": "1/12"})]
