"""The chain as data, and the values that everything passes."""

import json

import numpy as np
import pytest
from pydantic import ValidationError

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.procedures.registry import procedure, procedures
from epidote.core.results.caution import Caution, unique
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve, Result, with_caution
from epidote.core.settings import describe_settings
from epidote.core.signals.signal import Signal
from epidote.core.stimuli.every import stimulus_from_json
from epidote.core.stimuli.tone import tone

FULL = Chain(
    name='Bench "two" \\ left',
    rate=96000,
    output_full_scale=4.0,
    input_full_scale=8.0,
    probe_ratio=10,
    load_ohms=8,
    load_confirmed=True,
    output_ceiling=-3,
    calibrated_on="2026-11-21",
)


@pytest.mark.parametrize("chain", [FULL, Chain()])
def test_toml_there_and_back(chain):
    assert chain_from_toml(chain_to_toml(chain)) == chain


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("rate = 48000\nrate = 1", "not valid TOML"),
        ("rate = 'fast'", "rate: “fast” is not valid; enter a number"),
        ("colour = 3", "Unknown setting “colour”"),
        ("load_ohms = -8", "load_ohms: -8 is not valid; enter more than 0"),
        ("rate = nan", "rate: nan is not valid"),
    ],
)
def test_a_faulty_chain_names_its_fault(text, words):
    with pytest.raises(UnusableInputError, match=words):
        chain_from_toml(text)


def test_what_the_chain_implies():
    assert FULL.unit_full_scale == 80
    assert FULL.offset_db(1) == pytest.approx(20 * np.log10(20))
    assert Chain().offset_db(1) is None
    assert (FULL.wired().probe_ratio, FULL.wired().load_ohms) == (1.0, None)
    assert FULL.conversion().full_scale_volts == 80
    assert FULL.drive().full_scale_volts == 4
    with pytest.raises(ValidationError):
        FULL.rate = 48000


def test_signals_are_locked():
    signal = Signal(np.zeros((10, 2)), 48000)
    with pytest.raises(ValueError, match="read-only"):
        signal.samples[0, 0] = 1
    assert (signal.frames, signal.channels, signal.duration) == (10, 2, 10 / 48000)
    assert Signal(np.zeros(10), 48000).channels == 1


def test_stimuli_are_made_again_from_their_description():
    made = tone(rate=48000, frequency=997, duration=0.2, level=-10)
    again = stimulus_from_json(json.loads(json.dumps(made.to_json())))
    assert again == made
    assert np.array_equal(again.samples(), made.samples())


@pytest.mark.parametrize(
    "data",
    [
        {},
        {"kind": "tone"},
        {"kind": "gong", "rate": 48000, "parameters": {}, "channels": [1]},
        {"kind": "tone", "rate": "x", "parameters": 3, "channels": []},
    ],
)
def test_foreign_descriptions_are_refused(data):
    with pytest.raises(UnusableInputError):
        stimulus_from_json(data)


def test_readings_and_curves_have_no_nan_in_json():
    reading = Reading("thd", 1, float("nan"), "dB", {"frequency_hz": 1000.0}, float("-inf"), 0.1, (Caution.DRIFT,))
    text = json.dumps(reading.to_json(), allow_nan=False)
    again = Reading.from_json(json.loads(text))
    assert (again.value, again.floor, again.cautions) == (None, None, (Caution.DRIFT,))
    curve = Curve("level", 1, np.array([1.0, 2.0]), np.array([np.nan, 1.0]), "Hz", "dB")
    assert json.loads(json.dumps(curve.to_json(), allow_nan=False))["y"] == [None, 1.0]
    with pytest.raises(ValueError, match="curve level"):
        Curve("level", 1, np.zeros(3), np.zeros(2), "Hz", "dB")


def test_results_are_asked_by_key_and_channel():
    result = Result((), (Reading("a", 1, 1.0, "dB"), Reading("a", 2, 2.0, "dB")))
    assert result.reading("a", 2).value == 2.0
    assert result.reading("b") is None
    assert result.curve("x") is None


def test_cautions():
    assert unique([Caution.DC, Caution.CLIPPED, Caution.DC]) == (Caution.DC, Caution.CLIPPED)
    assert with_caution(Reading("a", 1, 1.0, "dB"), Caution.DC, Caution.DC).cautions == (Caution.DC,)
    assert all(c.words.endswith(".") for c in Caution)


def test_settings_in_words_have_units_and_leave_out_what_is_empty():
    model = procedure("response").Settings
    said = describe_settings(
        model,
        {
            "start_frequency": 20,
            "stop_frequency": 40000.0,
            "level": -6.5,
            "material": "",
            "smoothing": "1/3",
            "averages": 2,
        },
    )
    assert said == "Start frequency 20 Hz, Stop frequency 40 kHz, Level -6.5 dBFS, Smoothing 1/3 octave, Averages 2"
    assert (
        describe_settings(procedure("latency").Settings, {"restart": True, "longest": 0.25})
        == "Restart stream yes, Maximum latency 250 ms"
    )
    assert describe_settings(model, {"of_a_newer_version": 3}) == "Of a newer version 3"


def test_procedures_are_found_by_entry_point():
    assert set(procedures()) >= {"response", "tone"}
    with pytest.raises(
        SettingError,
        match=(
            "Available: band-levels, crosstalk, distortion-frequency, distortion-level, gain, impedance,"
            " impulsive-distortion,"
            " intermodulation, latency, maximum-level, microphone,"
            " multitone, noise, paths, programme, response, spectrum, tone"
        ),
    ):
        procedure("gong")


@pytest.mark.parametrize("key", ["response", "tone", "impedance", "spectrum", "noise"])
def test_every_setting_says_what_it_is(key):
    for name, field in procedure(key).Settings.model_fields.items():
        assert field.description, name
        assert "unit" in field.json_schema_extra, name
        assert field.default is not None, name
