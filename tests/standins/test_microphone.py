"""A cheap microphone against a measuring one, with a loudspeaker before a wall as the source: both ways of comparing.

Truth: the stand-ins' own formulas. Self-noise of white noise: IEC 61672-1's A-weighting (its formula, from memory),
integrated here.
"""

import datetime
import json
import math

import numpy as np
import pytest

from epidote.audio.device import Wiring
from epidote.audio.registry import open_device
from epidote.core.chain.chain import Chain, SourceAtPoint
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.kept_source import keep_source
from epidote.measurement.playback import play_and_record
from epidote.standins.two_way import CHEAP, MEASURING
from epidote.study.store import Study
from tests.ideal_device import IdealDevice

RATE = 48000
BENCH = "standin:kelwin-t2"
REFERENCE = Chain(
    output_full_scale=4.0,
    input_full_scale=1.0,
    microphone_sensitivities=(0.05, 0.0),
    microphone_serials=("KM-0172", "C-9"),
)


def measured(chain, conditions=None, device=None, seed=5, **values):
    settings = make_settings(procedure("microphone").Settings, {"gate": "8ms", "noise_time": 2.0, **values})
    device = device or open_device(BENCH, Wiring(RATE, chain.outputs, chain.inputs), conditions or {}, seed=seed)
    recordings = play_and_record("microphone", settings, chain, device)
    return procedure("microphone").analyse(recordings, settings, chain)


def kept(result, **changes):
    """The chain with the source that a result measured."""
    curve = result.curve("source", 1)
    points = tuple(zip(curve.x.tolist(), curve.y.tolist(), strict=True))
    source = SourceAtPoint(on=datetime.date(2026, 3, 1), inverted=bool(curve.meta["inverted"]), points=points)
    return REFERENCE.model_copy(update={"source": source, **changes})


@pytest.fixture(scope="module")
def source():
    return measured(REFERENCE, task="source", start_frequency=50.0, stop_frequency=15000.0)


def truth(x):
    """Of the cheap microphone re the measuring one, in dB."""
    return 20 * np.log10(np.abs(CHEAP.response(x) / MEASURING.response(x)))


def test_simultaneous_comparison():
    result = measured(REFERENCE, unit_channel=2, reference_channel=1, start_frequency=200.0, level=-30.0)
    curve = result.curve("sensitivity", 2)
    assert curve.y_unit == "dBV"
    expected = 20 * math.log10(CHEAP.sensitivity) + truth(curve.x)
    np.testing.assert_allclose(curve.y, expected, atol=0.1)
    reading = result.reading("sensitivity", 2)
    assert reading.unit == "V"
    at_1k = CHEAP.sensitivity * 10 ** (truth(np.array([1000.0]))[0] / 20)
    assert reading.value == pytest.approx(at_1k, rel=0.01)
    assert result.reading("polarity", 2).value == 1
    response = result.curve("response", 2)
    assert np.interp(1000.0, response.x, response.y) == pytest.approx(0.0, abs=1e-9)


def test_a_kept_source_is_made_flat(source):
    """1 Pa at the point from 200 Hz to 10 kHz: what the reference hears lies within 0.1 dB of 94 dB."""
    before = source.reading("point_deviation", 1).value
    chain = kept(source)
    again = measured(chain, task="source", start_frequency=200.0, point_level=84.0, seed=9)
    played = again.curve("point_level", 1)
    assert played.y_unit == "dB SPL"
    np.testing.assert_allclose(played.y, 84.0, atol=0.1)
    assert again.reading("point_deviation", 1).value < 0.1 < before


def test_substitution_gives_the_same_as_the_microphones_side_by_side(source):
    """Another sweep, at another level, with the cheap microphone alone at the first input."""
    chain = kept(source, microphone_sensitivities=(0.0, 0.0))
    result = measured(
        chain,
        {"microphone": "cheap"},
        unit_channel=1,
        reference_channel=0,
        start_frequency=200.0,
        point_level=80.0,
        seed=11,
    )
    curve = result.curve("sensitivity", 1)
    np.testing.assert_allclose(curve.y, 20 * math.log10(CHEAP.sensitivity) + truth(curve.x), atol=0.15)
    assert result.reading("sensitivity", 1).at["method"] == "substitution"


def test_level_at_one_percent(source):
    """most * tanh(p / most): the third harmonic is p² / (12 most²), 1 % at p = 0.346 most (expansion of tanh)."""
    chain = kept(source)
    result = measured(chain, unit_channel=2, reference_channel=1, start_frequency=200.0, point_level=74.0, highest=96.0)
    peak = math.sqrt(0.12) * CHEAP.most
    expected = 20 * math.log10(peak / math.sqrt(2) / 20e-6)
    reading = result.reading("level_at_thd", 2)
    # the next terms of tanh's series move it up by 0.15 dB
    assert reading.value == pytest.approx(expected + 0.15, abs=0.1)
    assert Caution.SOURCE_DISTORTS not in result.cautions
    curve = result.curve("thd_by_level", 2)
    assert curve.x_unit == "dB SPL" and curve.y[-1] > -40 > curve.y[-4]
    alone = measured(chain, unit_channel=2, reference_channel=0, start_frequency=200.0, point_level=74.0, highest=96.0)
    assert alone.reading("level_at_thd", 2).value == pytest.approx(reading.value, abs=0.15)
    quiet = measured(chain, unit_channel=2, start_frequency=200.0, point_level=74.0, highest=84.0)
    assert quiet.reading("level_at_thd", 2).value is None
    assert "stays under 1 %" in quiet.reading("level_at_thd", 2).at["finding"]


def a_weight(f):
    """IEC 61672-1 (from memory), its power at 1 kHz 1."""
    f2 = f**2
    r = 12194**2 * f2**2 / ((f2 + 20.6**2) * np.sqrt((f2 + 107.7**2) * (f2 + 737.9**2)) * (f2 + 12194**2))
    return (r * 10**0.1) ** 2


def test_self_noise_of_white_noise():
    sigma, reference_gain, gain = 2e-4, 0.2, 0.05
    chain = REFERENCE.model_copy(update={"output_full_scale": 1.0})
    device = IdealDevice(lambda x: x * np.array([reference_gain, gain]), rate=RATE, noise=sigma, seed=4)
    result = measured(
        chain, device=device, unit_channel=2, reference_channel=1, start_frequency=200.0, gate="", noise_time=8.0
    )
    # FS per Pa of channel 2: the pressure is what channel 1 shows, 0.05 V/Pa
    sensitivity = gain / (reference_gain / 0.05)
    f = np.linspace(20, 20000, 200_001)
    share = np.trapezoid(a_weight(f), f) / (RATE / 2)
    # 0 dBFS is a sine of 1 V RMS, so a sample of 1 is 1.41 V
    pascals = sigma * math.sqrt(share) * math.sqrt(2) / sensitivity
    reading = result.reading("self_noise", 2)
    assert reading.value == pytest.approx(20 * math.log10(pascals / 20e-6), abs=0.1)
    assert reading.at["shared_with_reference"] < 0.1
    assert Caution.ROOM_NOISE not in result.cautions


def test_noise_that_the_reference_hears_too_is_the_rooms():
    rng = np.random.default_rng(3)

    def unit(x):
        return (x + 1e-3 * rng.standard_normal((x.shape[0], 1))) * np.array([0.2, 0.05])

    result = measured(
        REFERENCE,
        device=IdealDevice(unit, rate=RATE, noise=1e-6),
        unit_channel=2,
        reference_channel=1,
        start_frequency=200.0,
        gate="",
    )
    assert Caution.ROOM_NOISE in result.reading("self_noise", 2).cautions


def test_an_inverted_microphone_and_a_moved_source(source):
    chain = kept(source)
    device = open_device(BENCH, Wiring(RATE, (1, 2), (1, 2)), {}, seed=3)
    real = device.exchange

    class Inverted:
        info = device.info

        def exchange(self, *a, **k):
            recording = real(*a, **k)
            samples = recording.signal.samples * np.array([0.8, -1.0])
            return type(recording)(type(recording.signal)(samples, RATE), recording.stimulus)

    result = measured(
        chain, device=Inverted(), unit_channel=2, reference_channel=1, start_frequency=200.0, point_level=74.0
    )
    assert result.reading("polarity", 2).value == -1
    assert Caution.SOURCE_MOVED in result.cautions


@pytest.mark.parametrize(
    ("chain", "values", "words"),
    [
        (REFERENCE.model_copy(update={"microphone_sensitivities": (0.0, 0.0)}), {"task": "source"}, "Calibrate"),
        (REFERENCE, {"reference_channel": 0}, "no source is saved"),
        (REFERENCE, {"reference_channel": 2}, "cannot be the same"),
        (REFERENCE, {"reference_channel": 5}, "has 2 inputs"),
        (REFERENCE, {"reference_channel": 1, "unit_channel": 2, "highest": 110.0}, "needs a source kept"),
    ],
)
def test_what_cannot_be_compared_is_said(chain, values, words):
    proc = procedure("microphone")
    with pytest.raises(SettingError, match=words):
        next(proc.conduct(make_settings(proc.Settings, values), chain))


def test_levels_and_bands_that_the_source_cannot_reach(source):
    chain, proc = kept(source, output_ceiling=-20.0), procedure("microphone")
    for values, words in (
        ({"point_level": 100.0, "start_frequency": 300.0}, "out of reach: at"),
        ({"start_frequency": 20.0}, "is known from"),
        ({"highest": 120.0, "point_level": 60.0, "start_frequency": 300.0}, "use at most"),
    ):
        with pytest.raises(SettingError, match=words):
            next(proc.conduct(make_settings(proc.Settings, values), chain))


def test_a_source_survives_the_chain_file_and_is_kept_by_command(tmp_path, run):
    chain_file = tmp_path / "reference.toml"
    chain_file.write_text(chain_to_toml(REFERENCE))
    path = tmp_path / "Microphones.epidote"
    run("study", "new", path, "--title", "Microphones")
    run("study", "add", path, "--maker", "Kelwin", "--model", "M1", "--device", BENCH, "--chain", chain_file)
    code, out, err = run(
        "measure",
        "microphone",
        "--study",
        path,
        "--subject",
        "2",
        "--set",
        "task=source",
        "--set",
        "gate=8ms",
        "--json",
    )
    assert code == 0, err
    number = json.loads(out)["run"] if isinstance(json.loads(out), dict) else json.loads(out)[0]["run"]
    code, out, err = run("study", "keep-source", path, number, "--place", "stand, 1 m", "--json")
    assert code == 0, err
    source = json.loads(out)["source"]
    assert source["place"] == "stand, 1 m"
    assert source["microphone"] == "KM-0172"
    with Study(path) as study:
        row = next(s for s in study.overview().subjects if not s.is_baseline)
        chain = chain_for_subject(study, row)
        assert len(chain.source.points) == len(source["points"])
        assert chain_from_toml(chain_to_toml(chain)) == chain
        tone = next(r for r in study.overview().runs.values())
        assert keep_source(study, tone.id, "").words.startswith("Source saved with the chain")
    code, out, err = run("study", "keep-source", path, 999)
    assert code != 0 and err


def test_an_uncalibrated_reference_gives_the_shape_alone():
    chain = REFERENCE.model_copy(update={"microphone_sensitivities": (0.0, 0.0)})
    result = measured(chain, start_frequency=200.0, level=-30.0)
    assert result.reading("sensitivity", 2).value is None
    assert Caution.UNCALIBRATED in result.cautions
    response = result.curve("response", 2)
    np.testing.assert_allclose(response.y, truth(response.x) - truth(np.array([1000.0])), atol=0.1)
    assert result.curve("source", 1) is None and result.reading("point_deviation", 1) is None, "no sound level"
