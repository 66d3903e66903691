"""Each procedure as a sound file, through a formula, recorded with an unknown start, and analysed: what a script
would do.
"""

import json
import math

import numpy as np
import pytest
import soundfile

RATE = 48000
A2, A3 = 0.004, 0.002


def unit(x):
    """A little distortion, a gain of 0.5, and some of each channel on the other."""
    y = 0.5 * (x + A2 * x**2 + A3 * x**3)
    return y + 0.001 * y[:, ::-1] if x.shape[1] > 1 else y


# procedure, settings, reading, channel, expected, tolerance
H2 = A2 * 0.5 / 2 / (1 + 0.75 * A3 * 0.25)
CASES = [
    ("distortion-level", ["dwell=0.15", "steps=10", "start_level=-40"], "gain", 1, -6.02, 0.02),
    (
        "distortion-frequency",
        ["dwell=0.1", "level=-6.0206", "harmonics=2", "band_high=20000"],
        "thd",
        1,
        20 * math.log10(H2),
        0.1,
    ),
    ("noise", ["duration=1"], "dynamic_range", 1, None, None),
    (
        "intermodulation",
        ["level=0", "duration=1"],
        "modulation_d2",
        1,
        20 * math.log10(2 * A2 * 0.8 * 0.2 / 0.2 / (1 + A3 * 1.5 * 0.64)),
        0.05,
    ),
    ("multitone", ["duration=1"], "gain_1k", 1, -6.02, 0.02),
    ("crosstalk", ["duration=0.4", "points_per_octave=0"], "crosstalk", 2, -60, 0.05),
    ("gain", ["duration=0.4"], "gain", 1, -6.02, 0.02),
    ("response", ["stimulus=noise", "duration=4"], "gain_1k", 1, -6.02, 0.02),
    ("response", ["duration=1"], "gain_1k", 1, -6.02, 0.02),
    ("tone", ["duration=0.5", "level=-6.0206"], "h2", 1, 20 * math.log10(H2), 0.05),
]


@pytest.mark.parametrize(
    ("procedure", "settings", "key", "channel", "expected", "tolerance"), CASES, ids=[f"{c[0]}-{c[2]}" for c in CASES]
)
def test_round_trip(run, tmp_path, procedure, settings, key, channel, expected, tolerance):
    out, back = tmp_path / "out.wav", tmp_path / "back.wav"
    chosen = [part for pair in settings for part in ("--set", pair)]
    code, _, err = run("stimulus", procedure, str(out), "--rate", str(RATE), "--bits", "32f", *chosen)
    assert code == 0, err
    described = json.loads(out.with_suffix(".json").read_text())
    assert described["procedure"] == procedure
    assert described["rate"] == RATE
    assert described["schedule"]
    played, _ = soundfile.read(out, always_2d=True)
    rng = np.random.default_rng(3)
    recorded = np.concatenate([np.zeros((23456, played.shape[1])), unit(played), np.zeros((12000, played.shape[1]))])
    soundfile.write(back, recorded + 1e-6 * rng.standard_normal(recorded.shape), RATE, subtype="FLOAT")
    code, text, err = run("analyse", procedure, str(back), "--stimulus", str(out.with_suffix(".json")), "--json")
    assert code == 0, err
    found = json.loads(text)
    readings = [r for r in found["readings"] if r["key"] == key and r["channel"] == channel]
    assert len(readings) == 1
    assert readings[0]["value"] is not None, readings[0]["cautions"]
    if expected is not None:
        assert readings[0]["value"] == pytest.approx(expected, abs=tolerance)


def test_the_schedule_of_a_staircase_names_its_steps(run, tmp_path):
    out = tmp_path / "out.wav"
    assert (
        run("stimulus", "distortion-level", str(out), "--set", "steps=5", "--set", "start_level=-20", "--json")[0] == 0
    )
    steps = [s for s in json.loads(out.with_suffix(".json").read_text())["schedule"] if s["what"] == "step"]
    assert [s["level_dbfs"] for s in steps] == pytest.approx([-20, -15, -10, -5, 0])
    samples, rate = soundfile.read(out)
    for step in steps:
        middle = samples[round((step["start_s"] + 0.1) * rate) : round((step["end_s"] - 0.1) * rate)]
        assert 20 * math.log10(np.abs(middle).max()) == pytest.approx(step["level_dbfs"], abs=0.05)


@pytest.mark.parametrize(
    "procedure",
    ["distortion-level", "distortion-frequency", "intermodulation", "multitone", "crosstalk", "gain", "noise"],
)
def test_a_silent_recording_is_refused_in_words(run, tmp_path, procedure):
    out, back = tmp_path / "out.wav", tmp_path / "back.wav"
    assert (
        run(
            "stimulus",
            procedure,
            str(out),
            "--set",
            "duration=0.5" if procedure not in ("distortion-level", "distortion-frequency") else "dwell=0.1",
        )[0]
        == 0
    )
    length = soundfile.info(out).frames
    soundfile.write(back, 1e-7 * np.random.default_rng(0).standard_normal((length, 2)), RATE, subtype="FLOAT")
    code, _, err = run("analyse", procedure, str(back), "--stimulus", str(out.with_suffix(".json")))
    assert code == 3
    assert "not found in the recording" in err
