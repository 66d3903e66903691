"""A short shot before a run.

It tells whether the path is alive, on the right channels, at a sensible level, steady, and whether it follows the
drive. All limits are common practice, no source; each stands by its name below.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from epidote.core.analysis.spectral.spectrum import MAINS
from epidote.core.quantities.units import to_db
from epidote.core.results.caution import Caution
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.level_check import BELOW_DB, RAMP, level_check_tone

LEAST_RISE_DB = 10.0  # a tone stands so far above what the silence holds, or there is none
LOW_DB = -50.0  # dBFS; below, the converter's own noise decides
CLIP_DB = -0.05  # dBFS of the greatest sample
FOLLOWS_DB = 0.1  # by which a steady tone may vary, and 20 dB more drive give other than 20 dB
THROUGH_AIR_DB = 6.0  # the same in a room
HUM_DB = -60.0  # of the tone


@dataclass(frozen=True)
class PrecheckFinding:
    """``stops``: a run now would be wasted. words: what is wrong and what to do."""

    caution: Caution
    channel: int
    stops: bool
    words: str


@dataclass(frozen=True)
class Precheck:
    """What the shot found, and per channel the level in dBFS that the run's own level will bring (None: no signal)."""

    findings: tuple[PrecheckFinding, ...]
    levels: tuple[float | None, ...]

    @property
    def stops(self) -> bool:
        return any(f.stops for f in self.findings)

    @property
    def cautions(self) -> tuple[Caution, ...]:
        return tuple(dict.fromkeys(f.caution for f in self.findings))

    @property
    def came_back(self) -> str:
        """What the run's own level will bring, in words; empty when nothing comes back."""
        return ", ".join(f"{v:.1f} dBFS on channel {n}" for n, v in enumerate(self.levels, start=1) if v is not None)

    @property
    def words(self) -> str:
        """The findings as sentences, what stops first."""
        ordered = sorted(self.findings, key=lambda f: not f.stops)
        return " ".join(dict.fromkeys(f"Channel {f.channel}: {f.words}" for f in ordered))


def precheck_stimuli(rate: float, level: float, alone: bool) -> list[Stimulus]:
    """Return what is played: all outputs together, then the first ``alone`` too if asked, to see whether channels are
    swapped.
    """
    together = level_check_tone(rate=rate, level=level)
    if alone:
        return [together, level_check_tone(rate=rate, level=level, channels=(1,))]
    return [together]


def evaluate_precheck(
    recordings: Sequence[Recording],
    expected: Sequence[bool],
    loud_below_db: float = 0.0,
    *,
    through_air: bool = False,
) -> Precheck:
    """Return what the shots of ``shots`` brought back.

    ``expected``: per channel, whether the unit's output is wired to it; ``loud_below_db``: by how much the run itself
    will be louder than the shot; ``through_air``: a room goes on sounding after a step, and every microphone hears
    every output.
    """
    recording = recordings[0]
    assert recording.stimulus is not None
    findings: list[PrecheckFinding] = []
    levels: list[float | None] = []
    views = [_Channel(recording, number) for number in range(1, recording.signal.channels + 1)]
    for number, (view, expected_level) in enumerate(zip(views, expected, strict=False), start=1):
        if not expected_level:
            levels.append(None)
            continue
        alive = view.alive
        levels.append(view.level + loud_below_db if alive else None)
        if not alive:
            elsewhere = [n for n, v in enumerate(views, start=1) if v.alive]
            if elsewhere:
                where = (
                    f" The signal is on channel {elsewhere[0]} instead. Check the cables or change the chain's inputs."
                )
            else:
                where = ""
            if elsewhere:
                caution = Caution.WRONG_CHANNEL
            else:
                caution = Caution.NO_SIGNAL
            findings.append(PrecheckFinding(caution, number, not elsewhere, f"no signal received.{where or _DEAD}"))
            continue
        limit = THROUGH_AIR_DB if through_air else FOLLOWS_DB
        findings += [replace(f, channel=number) for f in view.findings(loud_below_db, limit)]
    if len(recordings) > 1 and len(views) > 1 and all(expected[:2]) and not through_air:
        findings += _swapped(recordings[1])
    return Precheck(tuple(findings), tuple(levels))


_DEAD = " Check that the unit is on and not muted, and that output, unit and input are connected."


def _swapped(alone: Recording) -> list[PrecheckFinding]:
    """Whether the first output alone arrives at the second input."""
    first, second = (_Channel(alone, n) for n in (1, 2))
    if second.alive and (not first.alive or second.level > first.level + 3):
        return [
            PrecheckFinding(
                Caution.WRONG_CHANNEL,
                1,
                False,
                "the signal of output 1 arrives on channel 2: the channels are swapped.",
            )
        ]
    return []


class _Channel:
    """One channel of a shot, cut into its steps wherever they lie in the recording."""

    def __init__(self, recording: Recording, number: int) -> None:
        assert recording.stimulus is not None
        self._stimulus, self._rate = recording.stimulus, recording.signal.rate
        self._x = recording.signal.channel(number)
        self._late = self._delay()
        step, guard = round(self._stimulus["step"]), round(2.5 * RAMP * self._rate)
        begin = round(self._stimulus["silence"]) + self._late
        self._steps = [self._x[begin + i * step + guard : begin + (i + 1) * step - guard] for i in range(len(BELOW_DB))]
        self._silence = self._x[: max(256, begin - guard)]
        self._levels = [self._level(s) for s in self._steps]

    def _delay(self) -> int:
        """Where the envelope fits best: how late the steps arrive."""
        block = max(1, round(0.002 * self._rate))

        def envelope(x: Samples) -> Samples:
            count = x.size // block
            return np.asarray(np.sqrt(np.square(x[: count * block] - x.mean()).reshape(count, block).mean(axis=1)))

        heard, played = envelope(self._x), envelope(self._stimulus.samples())
        heard, played = heard - heard.mean(), played - played.mean()
        most = max(1, heard.size // 6)
        fits = [float(heard[k:] @ played[: heard.size - k]) for k in range(most)]
        return int(np.argmax(fits)) * block

    def _level(self, x: Samples) -> float:
        """Of the tone alone, by projection: dBFS."""
        if x.size < 64:
            return -math.inf
        turn = np.exp(-2j * np.pi * self._stimulus["frequency"] / self._rate * np.arange(x.size)) * np.hanning(x.size)
        return to_db(2 * abs(complex(turn @ x)) / float(np.hanning(x.size).sum()))

    @property
    def level(self) -> float:
        """At the loud step, dBFS."""
        return self._levels[1]

    @property
    def alive(self) -> bool:
        length = self._steps[1].size
        if self._silence.size >= 64:
            quiet = self._level(self._silence[-length:])
        else:
            quiet = -math.inf
        return math.isfinite(self.level) and self.level > max(quiet + LEAST_RISE_DB, -130.0)

    def findings(self, louder_db: float, follows_db: float) -> list[PrecheckFinding]:
        findings = []
        peak = to_db(float(np.abs(self._x).max())) + louder_db
        if peak > CLIP_DB:
            findings.append(
                PrecheckFinding(
                    Caution.CLIPPED,
                    1,
                    True,
                    f"the input would clip ({max(0.0, peak):.1f} dB over full scale). Reduce the level or the input"
                    " gain.",
                )
            )
        elif self.level + louder_db < LOW_DB:
            findings.append(
                PrecheckFinding(
                    Caution.TOO_QUIET,
                    1,
                    False,
                    f"the input level is only {self.level + louder_db:.0f} dBFS. Raise the level or the input gain;"
                    " otherwise the converter's noise and distortion dominate.",
                )
            )
        step = self._steps[1]
        thirds = [self._level(part) for part in np.array_split(step, 3)]
        if max(thirds) - min(thirds) > follows_db:
            findings.append(
                PrecheckFinding(
                    Caution.UNSTEADY,
                    1,
                    False,
                    f"the level changed by {max(thirds) - min(thirds):.2f} dB within a third of a second. Check for a"
                    " loose contact, a limiter or a unit still warming up.",
                )
            )
        rise = self._levels[1] - self._levels[0]
        expected_drop = BELOW_DB[1] - BELOW_DB[0]
        back = self._levels[2] - self._levels[0]
        clear = self._levels[0] > self._level(self._silence[-step.size :]) + 30
        if clear and (abs(rise - expected_drop) > follows_db or abs(back) > follows_db):
            findings.append(
                PrecheckFinding(
                    Caution.PROCESSING,
                    1,
                    False,
                    f"a level step of {expected_drop:g} dB gave {rise:.2f}"
                    f" dB{f', and the low tone then differed by {back:+.2f} dB' if abs(back) > follows_db else ''}. A"
                    " gain control, limiter or enhancement is active, or the unit is overdriven.",
                )
            )
        hum = max(
            sum(10 ** (_line_level(self._silence, self._rate, n * mains) / 10) for n in range(1, 6)) for mains in MAINS
        )
        if hum > 0:
            relative = 10 * math.log10(hum) - self.level
        else:
            relative = -math.inf
        if relative > HUM_DB:
            findings.append(
                PrecheckFinding(
                    Caution.HUM,
                    1,
                    False,
                    f"mains hum is only {-relative:.0f} dB below the tone. Check for a ground loop or a cable close to"
                    " a transformer.",
                )
            )
        return findings


def _line_level(x: Samples, rate: float, frequency: float) -> float:
    """Level of a line in dBFS, as far as so short a stretch tells."""
    window = np.hanning(x.size)
    turn = np.exp(-2j * np.pi * frequency / rate * np.arange(x.size)) * window
    return to_db(2 * abs(complex(turn @ (x - x.mean()))) / float(window.sum()))
