"""The reasons to trust a number less, each with its words. Light to load: the matrix shows them before anything computes."""

from __future__ import annotations

from collections.abc import Iterable
from enum import StrEnum


class Caution(StrEnum):
    """A reason to trust a curve or reading less."""

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

    @property
    def words(self) -> str:
        """The caution as a sentence for the reader."""
        return _WORDS[self]


_WORDS = {
    Caution.CLIPPED: "The recording is clipped: its tops are flat. Lower the level or the input gain and measure again.",
    Caution.TOO_QUIET: "The recording is very quiet: its noise and the converter's steps weigh more than they need to.",
    Caution.DROPOUT: "The recording has a gap or a jump in it: samples were lost on the way.",
    Caution.DC: "There is a direct voltage of more than 1 % of full scale in the recording.",
    Caution.NOISE_DOMINATED: "This figure is mostly noise: the component lies below what this recording can show.",
    Caution.NEAR_FLOOR: "This figure is mostly the chain: it lies within 6 dB of the chain's own.",
    Caution.OUTSIDE_BAND: "Part of what this figure counts lies outside the measured band and was left out.",
    Caution.STIMULUS_NOT_FOUND: "The stimulus was not found in this recording.",
    Caution.DRIFT: "The tone drifted in frequency or level during the recording: two ways of counting the rest differ by more than 0.2 dB.",
    Caution.UNSETTLED: "The response had not died away where the recording ends.",
    Caution.UNCALIBRATED: "The chain is not calibrated: levels are relative to digital full scale, not volts.",
    Caution.LOAD_UNCONFIRMED: "The load was typed, not confirmed: powers are as good as the typed value.",
    Caution.CALIBRATION_STALE: "The chain's calibration is old: volts and pascals are as good as its gains have stayed. Calibrate again.",
    Caution.BASELINE_UNFIT: "The baseline was taken with another rate, device, gain or buffer, so it was not used. Measure it again.",
    Caution.NO_SIGNAL: "Nothing of what was played came back before the run.",
    Caution.WRONG_CHANNEL: "What was played on one channel came back on another.",
    Caution.UNSTEADY: "The level was not steady before the run.",
    Caution.PROCESSING: "The level does not follow the drive: a gain control or limiter is at work, or the unit is at its limit.",
    Caution.HUM: "Mains hum stood less than 60 dB below the tone before the run.",
    Caution.HISS: "The noise is above 0.1 % of the reference level: it may be heard as hiss (common practice, no source).",
    Caution.PARTIAL: "Stopped or cut off half-way: what was measured until then is kept, the rest is missing.",
    Caution.NOT_REACHED: "The limit was not reached within the levels that were played.",
    Caution.OVER_LIMIT: "The limit was passed at the first level already: begin lower.",
    Caution.CEILING: "The chain's output ceiling ended the staircase before its last level.",
    Caution.FOLDED_BACK: "The output fell while the drive rose: a limiter, a protection or a supply gave way.",
    Caution.GAIN_CHANGED: "The gain changed in the middle of the run, without distortion that would explain it.",
    Caution.STRANGER: "Something rose strongly that is neither the tone nor its harmonics: the unit may oscillate.",
    Caution.FILTERED: "The fundamental is filtered away here: relative to what is left of it this figure is mostly noise.",
    Caution.LEVEL_NOT_HELD: "The level at the unit's output was not held within 0.1 dB here: the drive could not be raised enough, or the unit did not follow.",
    Caution.SILENT: "This channel is silent, so there is nothing to compare.",
    Caution.NOTHING_IN_COMMON: "The two have nothing in common within the delays looked for: see the correlation.",
    Caution.IDENTICAL: "Both hold the very same samples: it is one signal twice, not two paths.",
    Caution.DISPERSED: "Parts of the band are not equally late: the delay is that of its coherent part, not of its loudest.",
    Caution.DELAY_CHANGES: "The delay changes within the recording by more than its noise explains: it is modulated or corrected.",
    Caution.DELAY_JUMPS: "The delay is not the same in every shot: it jumped by whole frames from one start to the next.",
    Caution.ONE_ARRIVAL: "There is one channel, and in it no second arrival that stands out. Give a second channel or file to hold it against.",
    Caution.OTHER_RATE: "This one was sampled at another rate and was brought to the first one's.",
    Caution.OTHER_CLOCK: "Recorded on a clock of its own: the recording was brought to the stimulus' clock first.",
}


def unique(cautions: Iterable[Caution]) -> tuple[Caution, ...]:
    """Each caution once, in the order of first appearance."""
    return tuple(dict.fromkeys(cautions))
