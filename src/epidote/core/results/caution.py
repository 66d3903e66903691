"""The reasons to trust a number less, each with its words.

Light to load: the matrix shows them before anything computes.
"""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum


class Weight(StrEnum):
    """How much a caution takes from a number: it is wrong or missing, it may be off, or it is only good to know."""

    INVALID = "invalid"
    DOUBTFUL = "doubtful"
    NOTE = "note"


class Remedy(StrEnum):
    """What takes a caution away."""

    NONE = "none"
    MEASURE_AGAIN = "measure again"
    SETTINGS = "other settings"
    CALIBRATION = "calibration"
    LOAD = "load"
    CONNECTIONS = "connections"
    ATTACH = "attach"
    BASELINE = "baseline"


class Caution(StrEnum):
    """A reason to trust a curve or reading less."""

    DAMAGED = "damaged"
    CLIPPED = "clipped"
    TOO_QUIET = "too_quiet"
    DROPOUT = "dropout"
    DC = "dc"
    NOISE_DOMINATED = "noise_dominated"
    NEAR_FLOOR = "near_floor"
    OUTSIDE_BAND = "outside_band"
    STIMULUS_NOT_FOUND = "stimulus_not_found"
    DRIFT = "drift"
    UNSETTLED = "unsettled"
    UNCALIBRATED = "uncalibrated"
    LOAD_UNCONFIRMED = "load_unconfirmed"
    CALIBRATION_STALE = "calibration_stale"
    BASELINE_UNFIT = "baseline_unfit"
    NO_SIGNAL = "no_signal"
    WRONG_CHANNEL = "wrong_channel"
    UNSTEADY = "unsteady"
    PROCESSING = "processing"
    HUM = "hum"
    OTHER_CLOCK = "other_clock"
    HISS = "hiss"
    PARTIAL = "partial"
    NOT_REACHED = "not_reached"
    OVER_LIMIT = "over_limit"
    CEILING = "ceiling"
    FOLDED_BACK = "folded_back"
    GAIN_CHANGED = "gain_changed"
    STRANGER = "stranger"
    FILTERED = "filtered"
    LEVEL_NOT_HELD = "level_not_held"
    SILENT = "silent"
    NOTHING_IN_COMMON = "nothing_in_common"
    IDENTICAL = "identical"
    DISPERSED = "dispersed"
    DELAY_CHANGES = "delay_changes"
    DELAY_JUMPS = "delay_jumps"
    OTHER_RATE = "other_rate"
    ONE_ARRIVAL = "one_arrival"
    AMBIGUOUS = "ambiguous"
    TWO_LATENCIES = "two_latencies"
    UNDITHERED = "undithered"
    CHANNEL_MISMATCH = "channel_mismatch"
    HUM_INCLUDED = "hum_included"
    BACKGROUND = "background"
    UNLIKE_OTHERS = "unlike_others"
    RANGE_TOO_SMALL = "range_too_small"
    LOW_IMPEDANCE = "low_impedance"
    NO_SHIFT = "no_shift"
    DISTURBED = "disturbed"
    SEVERAL_TAKES = "several_takes"
    LEVEL_PROCESSED = "level_processed"
    NOISE_SUPPRESSED = "noise_suppressed"
    BAND_LIMITED = "band_limited"
    ROOM_NOISE = "room_noise"
    SOURCE_DISTORTS = "source_distorts"
    SOURCE_MOVED = "source_moved"
    GAIN_MOVED = "gain_moved"
    WAITING = "waiting"
    SUSPECT = "suspect"
    NOTHING_FOUND = "nothing_found"
    RECORDER_RATE = "recorder_rate"

    @property
    def words(self) -> str:
        """The caution as a sentence for the reader."""
        return _WORDS[self]

    @property
    def weight(self) -> Weight:
        """How much it takes from a number."""
        if self in _INVALID:
            return Weight.INVALID
        if self in _NOTES:
            return Weight.NOTE
        return Weight.DOUBTFUL

    @property
    def remedy(self) -> Remedy:
        """What takes it away."""
        return next((remedy for remedy, cautions in _REMEDIES.items() if self in cautions), Remedy.NONE)

    def bears_on(self, units: Iterable[str]) -> bool:
        """Whether it says something about values in one of these units: an unconfirmed load does about powers, not
        about a response.
        """
        concerned = _BEARS_ON.get(self)
        return concerned is None or any(unit in concerned for unit in units)


_WORDS = {
    Caution.CLIPPED: "The recording is clipped. Reduce the level or the input gain and measure again.",
    Caution.TOO_QUIET: (
        "The recording level is very low: noise and quantisation weigh more than necessary. Raise the level or the"
        " input gain."
    ),
    Caution.DROPOUT: "The recording has a gap or discontinuity: samples were lost. Measure again.",
    Caution.DC: "The recording has a DC offset of more than 1 % of full scale.",
    Caution.NOISE_DOMINATED: "This reading is mostly noise: the component is below what this recording can resolve.",
    Caution.NEAR_FLOOR: "This reading is chain-limited: it is within 6 dB of the baseline.",
    Caution.OUTSIDE_BAND: "Part of this quantity lies outside the measurement band and is not included.",
    Caution.STIMULUS_NOT_FOUND: "The stimulus was not found in the recording.",
    Caution.DRIFT: (
        "The tone drifted in frequency or level during the recording: two estimates of the residual differ by more than"
        " 0.2 dB."
    ),
    Caution.UNSETTLED: "The response had not decayed at the end of the recording.",
    Caution.UNCALIBRATED: "The chain is not calibrated: levels are in dBFS, not in volts.",
    Caution.LOAD_UNCONFIRMED: "The load resistance was entered, not measured: power readings depend on it.",
    Caution.CALIBRATION_STALE: (
        "The calibration is out of date: absolute levels are wrong if a gain has changed since. Calibrate again."
    ),
    Caution.BASELINE_UNFIT: (
        "The baseline was not used: it was measured with a different sample rate, device, channels, gain or buffer."
        " Measure it again."
    ),
    Caution.NO_SIGNAL: "No signal was received in the level check before the run.",
    Caution.WRONG_CHANNEL: "The signal came back on another channel. Check the connections.",
    Caution.UNSTEADY: "The level was not steady in the level check before the run.",
    Caution.PROCESSING: (
        "The output does not follow the generator level: a gain control or limiter is active, or the unit is"
        " overdriven."
    ),
    Caution.HUM: "Mains hum was less than 60 dB below the tone in the level check before the run.",
    Caution.HISS: "The noise exceeds 0.1 % of the reference level and may be audible as hiss (rule of thumb).",
    Caution.PARTIAL: "The run was stopped or cut off early: results up to that point are saved, the rest is missing.",
    Caution.NOT_REACHED: "The limit was not reached within the levels played. Raise the stop level.",
    Caution.OVER_LIMIT: "The limit was already exceeded at the first level. Lower the start level.",
    Caution.CEILING: "The level sweep ended early at the chain's maximum output level.",
    Caution.FOLDED_BACK: "The output fell while the generator level rose: limiter, protection circuit or power supply.",
    Caution.GAIN_CHANGED: "The gain changed during the run without a matching rise in distortion.",
    Caution.STRANGER: "A component that is neither the tone nor a harmonic rose strongly: the unit may be oscillating.",
    Caution.FILTERED: "The fundamental is filtered out here, so this ratio is mostly noise.",
    Caution.LEVEL_NOT_HELD: (
        "The unit's output level was not held within 0.1 dB here: the generator level could not be raised enough, or"
        " the unit did not follow."
    ),
    Caution.SILENT: "This channel is silent: all its samples are equal.",
    Caution.NOTHING_IN_COMMON: "No common signal found within the delay search range; see the correlation.",
    Caution.IDENTICAL: "Both channels contain identical samples: one signal recorded twice, not two paths.",
    Caution.DISPERSED: (
        "The delay varies with frequency: the reading is the delay of the coherent part of the band, not of the"
        " loudest."
    ),
    Caution.DELAY_CHANGES: (
        "The delay varies during the recording by more than noise explains: it is modulated or being corrected."
    ),
    Caution.DELAY_JUMPS: "The latency is not constant: it jumped by whole samples from one burst to the next.",
    Caution.ONE_ARRIVAL: (
        "There is only one channel and no distinct second arrival in it. Add a second channel or file to compare with."
    ),
    Caution.AMBIGUOUS: (
        "The sound repeats, so several delays fit: the reading may be wrong by whole periods. Reduce the search range,"
        " or use sound with an onset."
    ),
    Caution.TWO_LATENCIES: "The latency alternates between two values; both are given, with the share of bursts.",
    Caution.CHANNEL_MISMATCH: (
        "The gain difference of the two inputs changes this impedance by more than 5 %: too little voltage drops across"
        " the series resistor. Use a resistor nearer to the impedance, or inputs that match better."
    ),
    Caution.HUM_INCLUDED: (
        "Mains hum lies where this was measured and changes it by more than 0.1 dB. Remove the hum, raise the level, or"
        " measure at other frequencies."
    ),
    Caution.UNDITHERED: (
        "The samples were rounded without dither: what is left of the tone follows the tone and is not noise. Record"
        " with more bits, or with dither."
    ),
    Caution.BACKGROUND: (
        "The level is less than 3 dB above the background here: the background is not subtracted, and the level of the"
        " source is lower than shown. Raise the level or reduce the background."
    ),
    Caution.UNLIKE_OTHERS: (
        "The level of this microphone is far from that of the others, or missing: it may be dead, clipped, unplugged or"
        " not calibrated. Check it, or leave it out of the average in the settings."
    ),
    Caution.RANGE_TOO_SMALL: (
        "The decay does not fall far enough before it meets the noise, or the end of the recording: no time is given."
        " Raise the level, make the sweep longer, or record more silence after it."
    ),
    Caution.SUSPECT: (
        "Something repeats with the period above the 10th harmonic, but it is too dull, or too near to ordinary"
        " distortion of high order, for a verdict. Listen to it, or measure again with a longer sweep."
    ),
    Caution.NOTHING_FOUND: (
        "Nothing that repeats with the period stands out of the noise above the 20th harmonic. Impulses duller than"
        " about 0.5 ms cannot be found. Use a longer sweep to find fainter ones."
    ),
    Caution.LOW_IMPEDANCE: (
        "The smallest impedance is less than 80 % of the rated one (IEC 60268-5). Check the rated impedance, or use an"
        " amplifier for a lower load."
    ),
    Caution.NO_SHIFT: (
        "The resonance did not move as the mass or the box should move it. Check that the mass is fixed, the box is"
        " closed, and the resonance in free air is that of this driver."
    ),
    Caution.DISTURBED: (
        "Something else sounded during the run, such as speech or a door. That part of a noise, or that sweep of"
        " several, is left out where enough remains. Measure again when it is quiet."
    ),
    Caution.SEVERAL_TAKES: (
        "The recording holds the stimulus file more than once; the last take was used. To use another one, cut it out"
        " of the recording and import that."
    ),
    Caution.LEVEL_PROCESSED: (
        "The output does not follow the level of the input: the player or the recorder has a limiter, a compressor or"
        " an automatic gain. Levels and distortion of this run hold for its own level only; switch that processing off."
    ),
    Caution.NOISE_SUPPRESSED: (
        "Quiet noise is lowered more than loud noise: a noise suppression or a gate is at work. Noise and decay of this"
        " run say nothing about the unit; switch that processing off."
    ),
    Caution.BAND_LIMITED: (
        "A coder or a filter ends the band sharply. What lies above is not the unit's; use a higher bit rate, or an"
        " uncompressed file."
    ),
    Caution.ROOM_NOISE: (
        "The reference microphone hears the same noise: most of it is the room's. The self-noise is at most this; put"
        " the microphone into a quiet box to measure its own."
    ),
    Caution.SOURCE_DISTORTS: (
        "The reference microphone hears as much distortion: it is the source's. The level at the distortion limit is"
        " not known; use a source with less distortion, or move closer to it."
    ),
    Caution.SOURCE_MOVED: (
        "The source gives another level at the reference microphone than when it was kept. Measure the source again and"
        " keep it before other microphones are compared with it."
    ),
    Caution.GAIN_MOVED: (
        "The two sync markers came back at different levels: the player or the recorder moves its gain. Levels of this"
        " run are doubtful; switch off automatic gain, or set it by hand."
    ),
    Caution.WAITING: (
        "The recording of what was played is still missing. Drop its file on the cell, or attach it from the cell's"
        " menu."
    ),
    Caution.RECORDER_RATE: (
        "The recorder's sample rate is lower than that of the stimulus: curves end below half of it. Record at the"
        " stimulus' rate to see more."
    ),
    Caution.OTHER_RATE: "This channel has a different sample rate and was resampled to that of the first channel.",
    Caution.DAMAGED: (
        "What the study stores of this run is damaged and shown only as far as it can be read. Restore study.sqlite"
        " from a backup, or measure again."
    ),
    Caution.OTHER_CLOCK: "Recorded with a different sample clock: resampled to the stimulus clock before the analysis.",
}


_INVALID = {
    Caution.DAMAGED,
    Caution.CLIPPED,
    Caution.DROPOUT,
    Caution.STIMULUS_NOT_FOUND,
    Caution.NO_SIGNAL,
    Caution.WRONG_CHANNEL,
    Caution.SILENT,
    Caution.NOTHING_IN_COMMON,
    Caution.AMBIGUOUS,
}
_NOTES = {
    Caution.NOTHING_FOUND,
    Caution.SEVERAL_TAKES,
    Caution.RECORDER_RATE,
    Caution.WAITING,
    Caution.DC,
    Caution.UNCALIBRATED,
    Caution.LOAD_UNCONFIRMED,
    Caution.OTHER_CLOCK,
    Caution.OTHER_RATE,
    Caution.HISS,
    Caution.IDENTICAL,
    Caution.ONE_ARRIVAL,
    Caution.TWO_LATENCIES,
    Caution.CEILING,
    Caution.FOLDED_BACK,
}
_REMEDIES = {
    Remedy.MEASURE_AGAIN: {
        Caution.DISTURBED,
        Caution.SOURCE_MOVED,
        Caution.DROPOUT,
        Caution.DRIFT,
        Caution.UNSTEADY,
        Caution.GAIN_CHANGED,
        Caution.PARTIAL,
    },
    Remedy.SETTINGS: {
        *(Caution.CLIPPED, Caution.TOO_QUIET, Caution.OUTSIDE_BAND, Caution.UNSETTLED, Caution.PROCESSING),
        *(Caution.BACKGROUND, Caution.UNLIKE_OTHERS, Caution.RANGE_TOO_SMALL),
        *(Caution.NOT_REACHED, Caution.OVER_LIMIT, Caution.LEVEL_NOT_HELD, Caution.HUM_INCLUDED, Caution.UNDITHERED),
    },
    Remedy.ATTACH: {Caution.WAITING},
    Remedy.CALIBRATION: {Caution.UNCALIBRATED, Caution.CALIBRATION_STALE},
    Remedy.LOAD: {Caution.LOAD_UNCONFIRMED},
    Remedy.CONNECTIONS: {Caution.NO_SIGNAL, Caution.WRONG_CHANNEL, Caution.SILENT, Caution.STIMULUS_NOT_FOUND},
    Remedy.BASELINE: {Caution.BASELINE_UNFIT},
}
# units of the values that a caution says something about; those that are not listed bear on all
_BEARS_ON = {
    Caution.UNCALIBRATED: {"dBFS", "FS"},
    Caution.LOAD_UNCONFIRMED: {"W"},
    Caution.CALIBRATION_STALE: {"V", "W", "A", "Pa", "dBV", "dBu", "dBW"},
}


def unique(cautions: Iterable[Caution]) -> tuple[Caution, ...]:
    """Each caution once, in the order of first appearance."""
    return tuple(dict.fromkeys(cautions))


def caution_when(holds: bool, caution: Caution) -> tuple[Caution, ...]:
    """Return the caution where a condition holds, else none."""
    if holds:
        return (caution,)
    return ()
