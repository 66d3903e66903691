"""What every procedure keeps to. A new one is tried here as soon as it is registered."""

import json
from dataclasses import replace
from functools import cached_property

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import EpidoteError
from epidote.core.procedures.registry import procedure, procedures, reading_titles
from epidote.core.results.caution import Caution
from epidote.core.results.channels import AVERAGE
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result, curve_fault
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.every import stimulus_from_json
from epidote.measurement.playback import play_and_record
from tests.conftest import QUICK
from tests.ideal_device import IdealDevice

RATE = 48000.0
CHAIN = Chain(name="Bench", rate=48000, output_full_scale=4.0, input_full_scale=8.0)


def unit(x):
    """Two unlike channels with a little distortion and a little of each other."""
    y = x * [0.5, 0.35] + [0.002, 0.004] * x**2
    return y + 0.001 * y[:, ::-1]


class Case:
    def __init__(self, key: str) -> None:
        self.procedure = procedure(key)
        self.settings = make_settings(self.procedure.Settings, QUICK.get(key, {}))
        self.recordings = play_and_record(key, self.settings, CHAIN, IdealDevice(unit, rate=RATE, late=64))

    @cached_property
    def result(self) -> Result:
        """What its own recordings say, computed once for all tests that only read it."""
        return self.analyse()

    def analyse(self, recordings=None, settings=None) -> Result:
        return self.procedure.analyse(recordings or self.recordings, settings or self.settings, CHAIN)


# on one worker each, so that each is played once
CASES = [pytest.param(key, marks=pytest.mark.xdist_group(f"contract of {key}")) for key in sorted(procedures())]


@pytest.fixture(scope="module", params=CASES)
def case(request):
    return Case(request.param)


def with_samples(recordings, change):
    """The recordings with other samples."""
    return [replace(r, signal=Signal(change(r.signal.samples), r.signal.rate)) for r in recordings]


def swapped(recordings):
    """The two channels exchanged, in what was played and in what came back."""
    other = {1: 2, 2: 1}
    return [
        Recording(
            Signal(r.signal.samples[:, ::-1], r.signal.rate),
            (
                None
                if r.stimulus is None
                else replace(r.stimulus, channels=tuple(sorted(other[c] for c in r.stimulus.channels)))
            ),
        )
        for r in recordings
    ]


def same(a: Result, b: Result) -> bool:
    curves = [(c.key, c.channel, c.x.tobytes(), c.y.tobytes()) for c in a.curves]
    return (
        a.readings == b.readings
        and a.cautions == b.cautions
        and curves == [(c.key, c.channel, c.x.tobytes(), c.y.tobytes()) for c in b.curves]
    )


def require_sound(case: Case, result: Result, channels: int = 2) -> None:
    """What the window, the study and the exporters rely on, of good and bad recordings alike."""
    titles = reading_titles(case.procedure)
    keys = [(r.key, r.channel, tuple(sorted(r.at.items()))) for r in result.readings]
    assert len(set(keys)) == len(keys), "two readings of one name, channel and operating point"
    for reading in result.readings:
        assert reading.key in titles, f"{reading.key} has no title"
        assert AVERAGE <= reading.channel <= channels
        assert reading.value is None or np.isfinite(reading.value), reading
        assert reading.value is not None or reading.cautions or result.cautions, (
            f"{reading.key}: no value and no caution that says why"
        )
        assert reading.spread is None or reading.spread >= 0
        assert Reading.from_json(json.loads(json.dumps(reading.to_json(), allow_nan=False))) == reading
    for curve in result.curves:
        assert not curve_fault(curve), f"{curve.key}: {curve_fault(curve)}"
        json.dumps(dict(curve.meta), allow_nan=False)
    headline = case.procedure.headline(result)
    assert headline is None or headline.key in titles
    thumbnail = case.procedure.thumbnail(result)
    assert thumbnail is None or isinstance(thumbnail, Curve)


def test_is_described_in_full(case):
    carried = case.procedure
    assert carried.title
    assert carried.summary(case.settings)
    assert case.settings.model_dump(mode="json") == json.loads(case.settings.model_dump_json())
    assert make_settings(carried.Settings, case.settings.model_dump(mode="json")) == case.settings
    for view in carried.views:
        assert view.title
        assert view.axis
        assert view.group


def test_takes_about_as_long_as_it_says(case):
    sounded = sum(r.stimulus.frames / r.stimulus.rate for r in case.recordings if r.stimulus is not None)
    assert sounded <= 1.2 * case.procedure.duration(case.settings, CHAIN) + 0.5


def test_never_plays_above_the_ceiling(case):
    low = CHAIN.changed(output_ceiling=-60.0)
    try:
        recordings = play_and_record(case.procedure.key, case.settings, low, IdealDevice(unit, rate=RATE, late=64))
    except EpidoteError:
        return
    for recording in recordings:
        assert np.abs(recording.stimulus.samples()).max() <= 10 ** (-60 / 20) * (1 + 1e-9)


def test_what_it_plays_is_data(case):
    for recording in case.recordings:
        told = json.loads(json.dumps(recording.stimulus.to_json(), allow_nan=False))
        assert np.array_equal(stimulus_from_json(told).samples(), recording.stimulus.samples())


def test_its_result_is_sound_and_says_something(case):
    result = case.result
    require_sound(case, result)
    assert any(r.value is not None for r in result.readings)
    views = {v.key for v in case.procedure.views}
    assert {c.key for c in result.curves} & views or not result.curves
    assert case.procedure.headline(result) is not None


def test_computing_again_gives_the_same_and_changes_no_sample(case):
    before = [r.signal.samples.copy() for r in case.recordings]
    assert same(case.result, case.analyse())
    assert all(np.array_equal(b, r.signal.samples) for b, r in zip(before, case.recordings, strict=True))


def test_the_order_of_the_channels_does_not_matter(case):
    """Channel 2 on its own inputs says what channel 1 says when both are exchanged; readings of one channel against
    another have one side only.
    """
    straight, crossed = case.result, case.analyse(swapped(case.recordings))
    on_both = {r.key for r in straight.readings if r.channel == 1} & {
        r.key for r in straight.readings if r.channel == 2
    }
    found = {(r.key, 3 - r.channel, tuple(sorted(r.at.items()))): r.value for r in crossed.readings}
    compared = 0
    for reading in (r for r in straight.readings if r.key in on_both):
        value = found.get((reading.key, reading.channel, tuple(sorted(reading.at.items()))))
        if value is None or reading.value is None:
            continue
        compared += 1
        assert value == pytest.approx(reading.value, rel=1e-6, abs=1e-6), f"{reading.key} of channel {reading.channel}"
    assert compared or not on_both


BAD = {
    "silence": np.zeros_like,
    "noise": lambda x: 0.01 * np.random.default_rng(1).standard_normal(x.shape),
    "a constant": lambda x: np.full_like(x, 0.25),
    "clipped": lambda x: np.clip(1000 * x, -1, 1),
    "cut off": lambda x: x[: max(1, x.shape[0] // 10)],
    "a few samples": lambda x: x[:3],
    "a single sample": lambda x: x[:1],
    "one channel silent": lambda x: x * [1.0, 0.0],
    "enormous": lambda x: 1e30 * x,
    "tiny": lambda x: 1e-30 * x,
    "late": lambda x: np.concatenate([np.zeros((x.shape[0] // 2, x.shape[1])), x[: x.shape[0] - x.shape[0] // 2]]),
    "one channel": lambda x: x[:, :1],
}


@pytest.mark.parametrize("kind", BAD)
@pytest.mark.filterwarnings("error")
def test_a_bad_recording_gives_cautions_or_words(case, kind):
    try:
        result = case.analyse(with_samples(case.recordings, BAD[kind]))
    except EpidoteError as error:
        assert str(error).endswith("."), "a message is a sentence"
        return
    require_sound(case, result)


def test_silence_gives_no_figure_of_a_signal(case):
    """Whatever was played and did not come back: every reading of it is without a value, or cautioned."""
    try:
        result = case.analyse(with_samples(case.recordings, BAD["silence"]))
    except EpidoteError:
        return
    assert any(r.cautions for r in result.readings) or result.cautions


def test_recordings_without_their_stimulus_give_cautions_or_words(case):
    try:
        result = case.analyse([Recording(r.signal) for r in case.recordings])
    except EpidoteError as error:
        assert str(error).endswith(".")
        return
    require_sound(case, result)


@pytest.mark.parametrize("change", ["none", "another rate", "unlike", "too few"])
def test_recordings_that_do_not_belong_together_are_refused_in_words(case, change):
    given = list(case.recordings)
    if change == "none":
        given = []
    elif change == "another rate":
        given = [replace(r, signal=Signal(r.signal.samples, 44100.0)) for r in given]
    elif change == "unlike":
        given = [*given, Recording(Signal(np.zeros((4800, 1)), 44100.0))]
    else:
        given = given[:-1]
    try:
        result = case.procedure.analyse(given, case.settings, CHAIN)
    except EpidoteError as error:
        assert str(error).endswith(".")
        return
    require_sound(case, result, sum(r.signal.channels for r in given))


def test_dropouts_are_told(case):
    faulty = [replace(r, faults=("input overflow",)) for r in case.recordings]
    assert Caution.DROPOUT in case.analyse(faulty).cautions
