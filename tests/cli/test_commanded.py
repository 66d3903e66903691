"""A player that answers a spoken command from its own library, coded and on its own clock; a wireless receiver."""

import json

import numpy as np
import pytest
import soundfile

from epidote.core.analysis.delay.clock_offset import to_player_clock
from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_to_toml
from epidote.core.procedures.registry import procedure
from epidote.core.settings import make_settings
from epidote.core.signals.signal import Signal
from epidote.measurement.offline import marked_file
from epidote.standins.coding import coded
from epidote.standins.players import EBBLE_R1

RATE = 48000


@pytest.fixture
def wake(tmp_path):
    """Two bursts, as a spoken command is to who only hears levels."""
    t = np.arange(round(0.9 * RATE)) / RATE
    x = 0.2 * np.sin(2 * np.pi * 300 * t) * (np.abs(t - 0.45) > 0.1)
    soundfile.write(tmp_path / "wake.wav", x, RATE)
    return tmp_path / "wake.wav"


@pytest.fixture
def talker(run, tmp_path, wake):
    """A study with the player, whose library holds the stimulus file that was exported for it."""
    file = tmp_path / "sweep.wav"
    code, out, err = run("stimulus", "response", file, "--command", wake, "--marked", "--set", "duration=2", "--json")
    assert code == 0, err
    path = tmp_path / "Talk.epidote"
    run("study", "new", path)
    run(
        *("study", "add", path, "--maker", "Merrick", "--model", "T1", "--device", "standin:merrick-t1"),
        *("--condition", f"library={file}"),
    )
    return path, json.loads(out), tmp_path


def test_the_command_goes_with_the_exported_file(talker):
    _, described, folder = talker
    assert described["command"]["from"] == "wake.wav"
    assert described["command"]["seconds"] == pytest.approx(0.9, abs=0.01)
    clip, rate = soundfile.read(folder / described["command"]["file"])
    assert (clip.size, rate) == (round(0.9 * RATE), RATE)
    assert [s["what"] for s in described["schedule"]] == ["mark", "sweep", "mark"]


@pytest.mark.slow
def test_command_answer_and_analysis(run, talker, wake):
    """300 ppm off and coded at 128 kbit/s: 0.3 dB from 50 Hz to 12 kHz, the clock within 1 ppm."""
    path, _, _ = talker
    code, out, err = run(
        *("measure", "response", "--study", path, "--subject", "Merrick T1", "--command", wake),
        *("--set", "duration=2", "--seed", "3", "--full-level", "--json"),
    )
    assert code == 0, err
    readings = {r["key"]: r for r in json.loads(out)["readings"] if r["channel"] == 1}
    assert readings["clock_offset"]["value"] == pytest.approx(-300 / (1 + 300e-6), abs=1.0)
    shown = json.loads(run("study", "show", path, "--json")[1])
    number = shown["runs"][0]["id"]
    target = path.parent / "level.txt"
    assert run("study", "curve-out", path, number, target)[0] == 0
    x, y = np.loadtxt([line for line in target.read_text().splitlines() if line[:1].isdigit()], usecols=(0, 1)).T
    inside = (x > 50) & (x < 12000)
    assert np.ptp(y[inside]) < 0.6
    assert np.abs(y[inside] - np.median(y[inside])).max() < 0.3


def test_a_player_that_never_answers_is_told(run, talker, wake):
    path, _, _ = talker
    run("study", "add", path, "--maker", "Merrick", "--model", "T1 empty", "--device", "standin:merrick-t1")
    code, _, err = run(
        *("measure", "response", "--study", path, "--subject", "Merrick T1 empty", "--command", wake),
        *("--time-out", "2", "--full-level"),
    )
    assert code == 4
    assert "did not answer within 2 s" in err
    assert "Nothing was saved" in err
    assert not json.loads(run("study", "show", path, "--json")[1])["runs"]


def test_start_and_clock_of_a_coded_player():
    """The start within a sample: the coder delays by whole frames of 1024, the player's rate divides them."""
    settings = make_settings(procedure("response").Settings, {"duration": 2.0, "level": -10.0})
    file = marked_file("response", settings, Chain())
    sound = coded(file.samples(), RATE, 128_000)[:, 0]
    begin = 31_007
    x = np.concatenate([np.zeros(begin), sound, np.zeros(RATE)])
    x += 1e-5 * np.random.default_rng(1).standard_normal(x.size)
    _, clock = to_player_clock(Signal(x[:, None], RATE), file)
    assert clock.start - begin == pytest.approx(1024 * round((clock.start - begin) / 1024), abs=1.0)
    assert abs(clock.ppm) < 1.0


def test_the_recorder_at_16_khz_follows_the_level():
    """Its gain brings a loud and a quiet tone nearer together; its file is at its own rate."""
    t = np.arange(6 * RATE) / RATE
    x = np.sin(2 * np.pi * 500 * t) * np.where(t < 3, 0.5, 0.02)
    y = EBBLE_R1.recorded(x, RATE, np.random.default_rng(0))
    assert y.size == pytest.approx(6 * 16000, rel=1e-4)
    loud, quiet = (np.sqrt(np.mean(y[a * 16000 : (a + 1) * 16000] ** 2)) for a in (1, 5))
    assert 20 * np.log10(loud / quiet) < 14  # of 28 dB


@pytest.mark.parametrize(
    ("procedure_key", "key", "value", "within"),
    [("response", "delay", 1.48, 0.06), ("tone", "frequency", 1000.0, 0.1), ("band-levels", "delay", 1.48, 0.06)],
)
def test_a_path_that_is_late_is_measured_like_any_other(run, tmp_path, procedure_key, key, value, within):
    """1.45 s and the buffers, 60 ppm: recording goes on for the path delay that the chain states."""
    path = tmp_path / "Late.epidote"
    run("study", "new", path)
    run("study", "add", path, "--maker", "Landor", "--model", "W2", "--device", "standin:landor-w2")
    chain = tmp_path / "late.toml"
    chain.write_text(chain_to_toml(Chain(name="Wireless", path_delay=2.0, device="standin:landor-w2")))
    code, out, err = run(
        *("measure", procedure_key, "--study", path, "--subject", "Landor W2", "--set", "duration=2"),
        *("--chain", chain, "--seed", "1", "--full-level", "--json"),
    )
    assert code == 0, err
    data = json.loads(out)
    readings = {r["key"]: r for r in data["readings"] if r["channel"] == 1}
    assert readings[key]["value"] == pytest.approx(value, abs=within)
    assert "stimulus_not_found" not in data["cautions"]


def test_a_path_that_is_later_than_stated_is_told(run, tmp_path):
    path = tmp_path / "Late.epidote"
    run("study", "new", path)
    run("study", "add", path, "--maker", "Landor", "--model", "W2", "--device", "standin:landor-w2")
    chain = tmp_path / "late.toml"
    chain.write_text(chain_to_toml(Chain(name="Wireless", path_delay=0.5, device="standin:landor-w2")))
    code, _, err = run(
        *("measure", "tone", "--study", path, "--subject", "Landor W2", "--chain", chain, "--full-level")
    )
    assert code == 4
    assert "Nothing came back within 0.5 s" in err
