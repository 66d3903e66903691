"""Seats measured one after the other, compared by their uniformity; recordings that arrive later."""

import json

import numpy as np
import pytest
import soundfile

from epidote.core.comparison.conditions.uniformity import uniformity
from epidote.core.errors import UnusableInputError
from epidote.core.results.result import Curve
from epidote.standins.players import EBBLE_R1

RATE = 48000
BAND = (900.0, 1120.0)  # Hz, inside the third octave at 1 kHz (891 to 1122 Hz)


def seat_noise(gain_db=0.0, band_gain_db=0.0, channels=2, seconds=6.0, seed=0):
    """Noise with flat density whose third octave at 1 kHz is louder by so many dB."""
    rng = np.random.default_rng(seed)
    frames = round(seconds * RATE)
    f = np.fft.rfftfreq(frames, 1 / RATE)
    gain = np.where((f > 891.25) & (f < 1122.02), 10 ** (band_gain_db / 20), 1.0) * 10 ** (gain_db / 20)
    x = [np.fft.irfft(np.fft.rfft(rng.standard_normal(frames)) * gain, frames) for _ in range(channels)]
    return 0.02 * np.stack(x, axis=1)


@pytest.fixture
def seats(run, tmp_path):
    path = tmp_path / "Dome.epidote"
    assert run("study", "new", path)[0] == 0
    same = seat_noise()
    for number, (gain, band) in enumerate(((0.0, 0.0), (1.0, 0.0), (0.5, 6.0), (-0.5, 0.0)), start=1):
        run("study", "add", path, "--maker", "Havelmar", "--model", "Dome", "--condition", f"seat={number}")
        f = np.fft.rfftfreq(same.shape[0], 1 / RATE)
        shape = np.where((f > 891.25) & (f < 1122.02), 10 ** (band / 20), 1.0) * 10 ** (gain / 20)
        x = np.fft.irfft(np.fft.rfft(same, axis=0) * shape[:, None], same.shape[0], axis=0)
        soundfile.write(tmp_path / f"seat{number}.wav", x, RATE, subtype="FLOAT")
        code, _, err = run(
            *("study", "import-recording", path, tmp_path / f"seat{number}.wav"),
            *("--subject", f"Havelmar Dome, seat {number}", "--procedure", "band-levels"),
        )
        assert code == 0, err
    return path


def test_uniformity_names_the_worst_seat_and_band(run, seats):
    """Gains of 0, 1, 0.5 and -0.5 dB; seat 3 has 6 dB more at 1 kHz: 0.5 + 6 + 0.5 = 7 dB there, 1.5 dB elsewhere."""
    code, out, err = run("compare", "uniformity", seats, "band-levels", "--over", "seat", "--json")
    assert code == 0, err
    data = json.loads(out)
    assert data["channel"] == "average"
    assert data["worst"] == "3"
    assert data["worst_frequency_hz"] == pytest.approx(1000, rel=0.01)
    bands = {round(b["frequency_hz"]): b for b in data["bands"]}
    assert data["largest_db"] == pytest.approx(7.0, abs=1e-3)  # the record's faded ends mix neighbouring bins
    assert bands[1000]["maximum_at"] == "3"
    assert bands[1000]["minimum_at"] == "4"
    far = [b["deviation_db"] for f, b in bands.items() if not 700 < f < 1300]
    np.testing.assert_allclose(far, 1.5, atol=1e-6)
    mean = np.mean([b["deviation_db"] for b in data["bands"]])
    assert data["uniformity_db"] == pytest.approx(mean, abs=1e-9)
    only = json.loads(run("compare", "uniformity", seats, "Band levels", "--low", "2000", "--json")[1])
    assert only["largest_db"] == pytest.approx(1.5, abs=1e-6)
    assert "lower is more uniform" in run("compare", "uniformity", seats, "band-levels")[1]


def test_uniformity_tells_of_a_missing_seat_and_of_other_conditions(run, seats):
    run("study", "add", seats, "--maker", "Havelmar", "--model", "Dome", "--condition", "seat=5")
    data = json.loads(run("compare", "uniformity", seats, "band-levels", "--json")[1])
    assert data["missing"] == ["Havelmar Dome, seat 5"]
    code, _, err = run("compare", "uniformity", seats, "band-levels", "--over", "angle")
    assert code != 0
    assert "condition “angle”" in err
    code, _, err = run("compare", "uniformity", seats, "tone")
    assert "no measured column" in err
    run(
        "study",
        "add",
        seats,
        "--maker",
        "Havelmar",
        "--model",
        "Dome",
        "--condition",
        "seat=6",
        "--condition",
        "door=open",
    )
    run(
        *("study", "import-recording", seats, seats.parent / "seat1.wav"),
        *("--subject", "Havelmar Dome, seat 6", "--procedure", "band-levels"),
    )
    assert "also in door" in run("compare", "uniformity", seats, "band-levels")[2]


def test_levels_that_cannot_be_compared_are_refused():
    def levels(x, unit="dB SPL"):
        return Curve("levels", 0, np.array(x), np.zeros(len(x)), "Hz", unit)

    with pytest.raises(UnusableInputError, match="at least two"):
        uniformity({"1": levels([100.0])})
    with pytest.raises(UnusableInputError, match="different bands"):
        uniformity({"1": levels([100.0, 200.0]), "2": levels([100.0, 201.0])})
    with pytest.raises(UnusableInputError, match="different units"):
        uniformity({"1": levels([100.0]), "2": levels([100.0], "dBFS")})
    with pytest.raises(UnusableInputError, match="No band"):
        uniformity({"1": levels([100.0]), "2": levels([100.0])}, 200, 300)


class TestWaiting:
    @pytest.fixture
    def waiting(self, run, tmp_path):
        path = tmp_path / "Late.epidote"
        run("study", "new", path)
        run("study", "add", path, "--maker", "Havelmar", "--model", "Talker")
        code, out, err = run(
            *("study", "await", path, tmp_path / "sweep.wav", "--subject", "Havelmar Talker"),
            *("--procedure", "response", "--set", "duration=1s", "--how", "from its own library", "--json"),
        )
        assert code == 0, err
        return path, json.loads(out)["run"], tmp_path

    def heard(self, folder, rate=RATE, ppm=0.0, seed=1):
        played, _ = soundfile.read(folder / "sweep.wav")
        x = np.concatenate([np.zeros(RATE // 3), 0.5 * played, np.zeros(RATE // 2)])
        if rate != RATE or ppm:
            from scipy.signal import resample

            x = resample(x, round(x.size * rate / RATE * (1 + ppm * 1e-6)))
        x = x + 1e-5 * np.random.default_rng(seed).standard_normal(x.size)
        soundfile.write(folder / "heard.wav", x, rate, subtype="FLOAT")
        return folder / "heard.wav"

    def test_a_cell_waits_and_is_completed_under_its_number(self, run, waiting):
        path, number, folder = waiting
        shown = json.loads(run("study", "show", path, "--json")[1])
        assert shown["runs"][0]["cautions"] == ["waiting"]
        code, out, err = run("study", "attach", path, number, self.heard(folder), "--json")
        assert code == 0, err
        data = json.loads(out)
        assert data["run"] == number
        gain = next(r for r in data["readings"] if r["key"] == "gain_1k")
        assert gain["value"] == pytest.approx(-6.02, abs=0.02)
        assert "waiting" not in data["cautions"]
        code, _, err = run("study", "attach", path, number, folder / "heard.wav")
        assert code != 0
        assert "not waiting" in err

    def test_a_recorder_at_16_khz_gives_what_it_holds(self, run, waiting):
        path, number, folder = waiting
        code, out, err = run("study", "attach", path, number, self.heard(folder, rate=16000), "--json")
        assert code == 0, err
        data = json.loads(out)
        assert "recorder_rate" in data["cautions"]
        gain = next(r for r in data["readings"] if r["key"] == "gain_1k")
        assert gain["value"] == pytest.approx(-6.02, abs=0.03)
        high = next(r for r in data["readings"] if r["key"] == "bandwidth_high")
        assert high["value"] is None  # nothing is said about what the recorder cannot hold

    def test_a_gain_that_moves_between_the_marks_is_told(self, run, waiting):
        """1 dB from one mark to the other, as an automatic gain that settles slowly."""
        path, number, folder = waiting
        x, _ = soundfile.read(self.heard(folder))
        soundfile.write(folder / "moved.wav", x * np.geomspace(1.0, 10 ** (1.5 / 20), x.size), RATE, subtype="FLOAT")
        code, out, err = run("study", "attach", path, number, folder / "moved.wav", "--json")
        assert code == 0, err
        assert "gain_moved" in json.loads(out)["cautions"]

    def test_the_recorder_of_the_stand_ins_at_16_khz(self, run, waiting):
        """With automatic gain and a clock of its own: what it holds is given, cut at its band, with its clock."""
        path, number, folder = waiting
        played, _ = soundfile.read(folder / "sweep.wav")
        x = 0.05 * np.concatenate([np.zeros(RATE), played, np.zeros(RATE)])
        rng = np.random.default_rng(2)
        y = EBBLE_R1.recorded(x + 1e-5 * rng.standard_normal(x.size), RATE, rng)
        soundfile.write(folder / "field.wav", y, 16000, subtype="FLOAT")
        code, out, err = run("study", "attach", path, number, folder / "field.wav", "--json")
        assert code == 0, err
        data = json.loads(out)
        assert {"recorder_rate", "other_clock"} <= set(data["cautions"])
        clock = next(r for r in data["readings"] if r["key"] == "clock_offset")
        assert clock["value"] == pytest.approx(-EBBLE_R1.ppm, abs=2.0)

    def test_the_wrong_recording_is_refused_and_the_cell_goes_on_waiting(self, run, waiting):
        path, number, folder = waiting
        soundfile.write(folder / "other.wav", seat_noise(channels=1, seconds=8.0), RATE, subtype="FLOAT")
        code, _, err = run("study", "attach", path, number, folder / "other.wav")
        assert code == 3
        assert "goes on waiting" in err
        assert "other.wav" in err
        soundfile.write(folder / "short.wav", seat_noise(channels=1, seconds=1.0), RATE, subtype="FLOAT")
        assert "shorter than the file" in run("study", "attach", path, number, folder / "short.wav")[2]
        assert run("study", "attach", path, number, self.heard(folder))[0] == 0
