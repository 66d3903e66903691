"""The short shot: benches that are wrong in one way each, and one that is right."""

import numpy as np
import pytest

from epidote.audio.device import Wiring
from epidote.audio.registry import open_device
from epidote.core.calibration.precheck import evaluate_precheck, precheck_stimuli
from epidote.core.chain.chain import Chain
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.measurement.device_setup import needs_safe_start, open_for_chain, remember_safe_start, run_precheck
from epidote.measurement.request import RunPlan
from epidote.measurement.runner import BenchNotReadyError, measure

RATE, DELAY = 48000, 700


def shot(path, level=-12.0, expected=(True, True), louder=0.0, alone=True):
    """What ``path`` (samples (frames, 2) to samples (frames, 2)) makes of the shot."""
    recordings = []
    for stimulus in precheck_stimuli(RATE, level, alone):
        out = np.zeros((stimulus.frames, 2))
        out[:, [c - 1 for c in stimulus.channels]] = stimulus.samples()[:, None]
        late = np.concatenate([np.zeros((DELAY, 2)), out])[: stimulus.frames]
        noise = 1e-6 * np.random.default_rng(4).standard_normal(late.shape)
        recordings.append(Recording(Signal(path(late) + noise, RATE), stimulus))
    return evaluate_precheck(recordings, expected, louder)


def found(check, channel=None):
    return {f.caution for f in check.findings if channel in (None, f.channel)}


def test_a_wire_is_found_good():
    check = shot(lambda x: 0.5 * x)
    assert check.findings == ()
    assert check.levels == (pytest.approx(-18.02, abs=0.01), pytest.approx(-18.02, abs=0.01))


def test_nothing_comes_back():
    check = shot(lambda x: 0 * x)
    assert check.stops
    assert found(check) == {Caution.NO_SIGNAL}
    assert "Check that the unit is on" in check.words


def test_it_arrives_on_the_other_channel():
    check = shot(lambda x: np.column_stack([np.zeros(len(x)), x[:, 0]]), expected=(True, False))
    assert found(check, 1) == {Caution.WRONG_CHANNEL}
    assert "signal is on channel 2 instead" in check.words


def test_swapped_cables_are_noticed():
    assert Caution.WRONG_CHANNEL in found(shot(lambda x: x[:, ::-1]))
    assert Caution.WRONG_CHANNEL not in found(shot(lambda x: x + 0.1 * x[:, ::-1])), "crosstalk is none"


def test_the_input_would_clip():
    check = shot(lambda x: np.clip(5 * x, -1, 1))
    assert check.stops
    assert Caution.CLIPPED in found(check)


def test_a_shot_40_db_down_foretells_clipping():
    check = shot(lambda x: 5 * x, level=-52, louder=40)
    assert check.stops
    assert "2.0 dB over full scale" in check.words
    assert check.levels[0] == pytest.approx(1.98, abs=0.02)


def test_far_too_quiet():
    assert found(shot(lambda x: 1e-3 * x)) >= {Caution.TOO_QUIET}


def test_hum():
    t = np.arange(200000) / RATE

    def humming(x):
        return 0.5 * x + 0.002 * np.sin(2 * np.pi * 50 * t[: len(x)])[:, None]

    assert found(shot(humming)) == {Caution.HUM}


def limiter(x):
    """Gain falls by the square root above 0.05: 20 dB more drive gives about 14."""
    envelope = np.maximum(np.convolve(np.abs(x[:, 0]), np.ones(480) / 480, "same") * 1.57, 1e-9)
    return x * np.minimum(1, (0.05 / envelope) ** 0.5)[:, None]


def test_a_limiter():
    check = shot(limiter)
    assert Caution.PROCESSING in found(check)
    assert "a level step of 20 dB gave" in check.words


def test_a_loose_contact():
    def loose(x):
        gain = np.ones(len(x))
        gain[DELAY + round(0.59 * RATE) :] = 0.9
        return x * gain[:, None]

    assert Caution.UNSTEADY in found(shot(loose))


@pytest.mark.parametrize("bench", ["wire", "ostrel-p40", "havelmar-a25"])
def test_the_stand_ins_are_found_good(bench):
    chain = Chain(rate=RATE)
    check = run_precheck(open_device(f"standin:{bench}", Wiring(RATE), {}, seed=2), chain, -20, alone=True)
    assert check.findings == ()


class Unplugged:
    """A device whose cable somebody has pulled."""

    def __init__(self, device):
        self.info, self._device = device.info, device

    def exchange(self, stimulus, **options):
        whole = self._device.exchange(stimulus, **options)
        return Recording(Signal(0 * whole.signal.samples, whole.signal.rate), stimulus)


def test_a_run_that_would_be_wasted_is_refused_and_nothing_is_kept(study):
    subject, column = study.overview().subjects[1], study.overview().columns[0]
    settings = make_settings(procedure("tone").Settings, {"duration": 0.2, "level": -30})
    chain = Chain(rate=48000)
    device = Unplugged(open_for_chain(chain, subject.device, subject.conditions, seed=1))
    with pytest.raises(BenchNotReadyError, match="Check that the unit is on.*Nothing was measured"):
        measure(study, RunPlan(subject.id, column.id, "tone", settings, chain), device, check=True)
    assert study.overview().runs == {}


def test_a_unit_at_its_limit_is_noticed(study):
    """26 dB of gain at -3 dBFS ask for 56 V of a supply of 27 V: the level no longer follows the drive."""
    chain = Chain(rate=48000)
    check = run_precheck(open_for_chain(chain, "standin:ostrel-p40", {}, seed=1), chain, -3)
    assert Caution.PROCESSING in found(check)
    assert not check.stops


def test_what_the_shot_found_goes_with_the_run(study):
    subject, column = study.overview().subjects[1], study.overview().columns[0]
    settings = make_settings(procedure("tone").Settings, {"duration": 0.2, "level": -75})
    chain = Chain(rate=48000)
    run = measure(
        study,
        RunPlan(subject.id, column.id, "tone", settings, chain),
        open_for_chain(chain, subject.device, {}, seed=1),
        check=True,
    )
    assert "too_quiet" in run.cautions


def test_only_a_real_device_that_is_driven_anew_is_started_carefully(study):
    real = Chain(device="sound:jack/system", output_full_scale=4.0)
    assert not needs_safe_start(study, Chain(device="standin:wire"))
    assert needs_safe_start(study, real)
    remember_safe_start(study, real)
    assert not needs_safe_start(study, real)
    assert not needs_safe_start(study, real.model_copy(update={"input_full_scale": 2.0}))
    assert needs_safe_start(study, real.model_copy(update={"output_full_scale": 8.0}))
