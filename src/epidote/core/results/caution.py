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
        "The samples were quantised without dither: the residual is correlated with the tone and is not noise. Record"
        " with more bits, or with dither."
    ),
    Caution.BACKGROUND: (
        "The level is less than 3 dB above the background here: the background is not subtracted, and the level of the"
        " source is lower than shown. Raise the level or reduce the background."
    ),
    Caution.UNLIKE_OTHERS: (
        "The level of this microphone differs strongly from the others, or is missing: it may be defective,"
        " clipped, unplugged or"
        " not calibrated. Check it, or exclude it from the average in the settings."
    ),
    Caution.RANGE_TOO_SMALL: (
        "The decay reaches the noise or the end of the recording too early: no decay time is given."
        " Raise the level, make the sweep longer, or record more silence after it."
    ),
    Caution.SUSPECT: (
        "Periodic components above the 10th harmonic, but too weak in high frequencies, or too similar to ordinary"
        " high-order distortion, for a verdict. Listen to the residual, or use a longer sweep."
    ),
    Caution.NOTHING_FOUND: (
        "No periodic impulses above the noise beyond the 20th harmonic. Impulses longer than"
        " about 0.5 ms cannot be detected. Use a longer sweep to detect weaker ones."
    ),
    Caution.LOW_IMPEDANCE: (
        "The smallest impedance is less than 80 % of the rated one (IEC 60268-5). Check the rated impedance, or use an"
        " amplifier for a lower load."
    ),
    Caution.NO_SHIFT: (
        "The shift of the resonance does not fit the added mass or the box. Check that the mass is fixed, the box is"
        " closed, and the resonance in free air is that of this driver."
    ),
    Caution.DISTURBED: (
        "A disturbance, such as speech or a door, occurred during the run. That part of the noise, or that sweep of"
        " several, is excluded where enough remains. Measure again when it is quiet."
    ),
    Caution.SEVERAL_TAKES: (
        "The recording holds the stimulus file more than once; the last take was used. To use another one, cut it out"
        " of the recording and import that."
    ),
    Caution.LEVEL_PROCESSED: (
        "The output does not follow the level of the input: the player or the recorder has a limiter, a compressor or"
        " automatic gain control. Levels and distortion are valid for this level only; switch that processing off."
    ),
    Caution.NOISE_SUPPRESSED: (
        "Quiet noise is attenuated more than loud noise: a noise suppressor or gate is active. Noise and decay of this"
        " run say nothing about the unit; switch that processing off."
    ),
    Caution.BAND_LIMITED: (
        "A codec or filter limits the band sharply. Readings above it do not describe the unit; use a higher"
        " bit rate, or an"
        " uncompressed file."
    ),
    Caution.ROOM_NOISE: (
        "The reference microphone records the same noise: most of it is room noise. The reading is an upper"
        " limit of the self-noise; put"
        " the microphone into a quiet box to measure its own."
    ),
    Caution.SOURCE_DISTORTS: (
        "The reference microphone records as much distortion: it comes from the source. The level at the"
        " distortion limit is"
        " not known; use a source with less distortion, or move closer to it."
    ),
    Caution.SOURCE_MOVED: (
        "The level of the source at the reference microphone has changed since it was saved. Measure the source"
        " again and"
        " save it before comparing other microphones with it."
    ),
    Caution.GAIN_MOVED: (
        "The two sync markers were received at different levels: the player or the recorder changes its gain."
        " Levels of this"
        " run are unreliable; switch off automatic gain, or set the gain manually."
    ),
    Caution.WAITING: (
        "The recording of what was played is still missing. Drop its file on the cell, or attach it from the cell's"
        " menu."
    ),
    Caution.RECORDER_RATE: (
        "The recorder's sample rate is lower than that of the stimulus: curves end below half the sample rate."
        " Record at the"
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
