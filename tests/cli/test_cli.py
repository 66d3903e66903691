"""The command line end to end: what it writes, prints and returns."""

import json
from contextlib import closing

import numpy as np
import pytest
import soundfile

from epidote import __version__
from epidote.study.store import create_study
from tests.conftest import dithered, sine, through

RATE = 48000


def written(path, x, subtype="PCM_24", rate=RATE):
    soundfile.write(path, x, rate, subtype=subtype)
    return path


def test_stimulus_and_analysis_of_it(run, tmp_path):
    out = tmp_path / "sweep.wav"
    code, text, err = run(
        "stimulus",
        "response",
        out,
        "--rate",
        96000,
        "--level",
        -10,
        "--set",
        "duration=1 s",
        "--set",
        "stop_frequency=30k",
    )
    assert (code, err) == (0, "")
    description = json.loads(out.with_suffix(".json").read_text())
    assert description["procedure"] == "response"
    assert description["settings"]["level"] == -10
    assert description["rate"] == 96000
    assert description["schedule"][0]["what"] == "sweep"
    info = soundfile.info(out)
    assert (info.samplerate, info.subtype) == (96000, "PCM_24")

    code, text, err = run("analyse", "response", out, "--stimulus", out.with_suffix(".json"), "--json")
    assert (code, err) == (0, "")
    result = json.loads(text)
    assert set(result) == {"procedure", "rate", "settings", "cautions", "readings", "curves"}
    gain = next(r for r in result["readings"] if r["key"] == "gain_1k")
    assert gain["value"] == pytest.approx(0, abs=1e-5)
    assert set(gain) >= {"key", "channel", "value", "unit", "at", "floor", "cautions"}
    level = next(c for c in result["curves"] if c["key"] == "level")
    assert max(abs(v) for v in level["y"]) < 1e-4
    assert {c["key"] for c in result["curves"]} >= {
        "level",
        "phase",
        "group_delay",
        "thd",
        "h2",
        "h3",
        "h4",
        "h5",
        "impulse",
    }


@pytest.mark.parametrize(("bits", "subtype"), [("16", "PCM_16"), ("24", "PCM_24"), ("32f", "FLOAT")])
def test_sample_formats(run, tmp_path, bits, subtype):
    out = tmp_path / "t.wav"
    assert run("stimulus", "tone", out, "--bits", bits)[0] == 0
    assert soundfile.info(out).subtype == subtype
    _code, text, _ = run("analyse", "tone", out, "--stimulus", out.with_suffix(".json"), "--json")
    readings = {r["key"]: r["value"] for r in json.loads(text)["readings"]}
    assert readings["level"] == pytest.approx(-6, abs=1e-3)
    assert readings["thd_n"] < (-85 if bits == "16" else -135)


def test_analysis_in_words_and_in_volts(run, tmp_path):
    path = written(tmp_path / "t.wav", np.column_stack([sine(997, 0.5, RATE, RATE), sine(997, 0.25, RATE, RATE)]))
    chain = tmp_path / "chain.toml"
    chain.write_text("input_full_scale = 8.0\nprobe_ratio = 10.0\nload_ohms = 8.0\nload_confirmed = true\n")
    code, text, _ = run("analyse", "tone", path, "--chain", chain)
    assert code == 0
    assert "40.00 V" in text or "40.000 V" in text
    assert "20.00 V" in text or "20.000 V" in text
    assert "not calibrated" not in text
    assert "not calibrated" in run("analyse", "tone", path)[1]


def test_channels_are_chosen_by_number(run, tmp_path):
    path = written(tmp_path / "t.wav", np.column_stack([sine(997, 0.5, RATE, RATE), sine(1997, 0.25, RATE, RATE)]))
    result = json.loads(run("analyse", "tone", path, "--channel", 2, "--json")[1])
    assert {r["channel"] for r in result["readings"]} == {2}
    assert next(r["value"] for r in result["readings"] if r["key"] == "frequency") == pytest.approx(1997, abs=0.01)


def test_baseline_is_taken_out(run, tmp_path):
    out = tmp_path / "s.wav"
    run("stimulus", "response", out, "--set", "duration=1")
    x, _ = soundfile.read(out)
    chain = through(x, RATE, lambda f: 0.9 / (1 + 1j * f / 30000))
    both = through(chain, RATE, lambda f: 1 / (1 + 1j * f / 5000))
    files = written(tmp_path / "unit.wav", both), written(tmp_path / "chain.wav", chain)
    _code, text, _ = run(
        "analyse", "response", files[0], "--stimulus", out.with_suffix(".json"), "--baseline", files[1], "--json"
    )
    level = next(c for c in json.loads(text)["curves"] if c["key"] == "level")
    exact = -10 * np.log10(1 + (np.array(level["x"]) / 5000) ** 2)
    assert np.abs(np.array(level["y"]) - exact).max() < 0.001


def test_nothing_but_json_on_standard_output(run, tmp_path):
    path = written(tmp_path / "t.wav", dithered(sine(997, 0.5, RATE, RATE), 16))
    text = run("analyse", "tone", path, "--json", "--set", "frequency=997")[1]
    assert text.count("\n") == 1
    assert "NaN" not in text
    assert json.loads(text)["settings"]["frequency"] == 997


def test_a_study_from_nothing(run, tmp_path):
    path = tmp_path / "Bench.epidote"
    chain = tmp_path / "chain.toml"
    chain.write_text(
        "rate = 48000\noutput_full_scale = 4.0\ninput_full_scale = 8.0\nprobe_ratio = 4.0\nload_ohms = 8.0\n"
    )
    assert run("study", "new", path, "--title", "Bench one", "--chain", chain)[0] == 0
    assert (
        run(
            "study",
            "add",
            path,
            "--maker",
            "Havelmar",
            "--model",
            "A25",
            "--condition",
            "load=8 Ω",
            "--device",
            "standin:havelmar-a25",
        )[1].strip()
        == "Havelmar A25, load 8 Ω"
    )
    code, text, err = run(
        "measure",
        "tone",
        "--study",
        path,
        "--subject",
        "havelmar",
        "--set",
        "duration=0.3",
        "--set",
        "level=-20",
        "--seed",
        5,
        "--json",
    )
    assert (code, err) == (0, "")
    made = json.loads(text)
    assert made["subject"] == "Havelmar A25, load 8 Ω"
    level = next(r for r in made["readings"] if r["key"] == "level" and r["channel"] == 1)
    assert level["unit"] == "V"
    assert level["value"] == pytest.approx(0.4 * 10 ** (25.4 / 20) * 8 / 8.32, rel=0.01)
    again = json.loads(
        run(
            "measure",
            "tone",
            "--study",
            path,
            "--subject",
            "2",
            "--set",
            "duration=0.3",
            "--set",
            "level=-20",
            "--seed",
            5,
            "--json",
        )[1]
    )
    assert again["readings"] == made["readings"], "the same seed repeats a run exactly"

    shown = json.loads(run("study", "show", path, "--json")[1])
    assert [s["name"] for s in shown["subjects"]] == ["Baseline", "Havelmar A25, load 8 Ω"]
    assert len(shown["columns"]) == 1
    assert "Havelmar A25" in run("study", "show", path)[1]
    recomputed = json.loads(run("study", "recompute", path, made["run"], "--set", "weighting=A", "--json")[1])
    assert recomputed["settings"]["weighting"] == "A"
    out = tmp_path / "o.csv"
    assert run("study", "export", path, out)[0] == 0
    assert "Havelmar A25, load 8 Ω" in out.read_text()
    assert run("study", "export", path, out, "--curve", "spectrum", "--run", made["run"])[0] == 0
    assert "x (Hz)" in out.read_text()
    text = tmp_path / "o.txt"
    assert run("study", "export", path, text, "--curve", "spectrum", "--run", made["run"])[0] == 0
    assert (tmp_path / "o Havelmar A25_ load 8 Ω ch 1.txt").exists()
    assert run("study", "export", path, tmp_path / "o.dat", "--format", "json", "--run", made["run"])[0] == 0
    (exported,) = json.loads((tmp_path / "o.dat").read_text())["runs"]
    assert exported["readings"] == made["readings"]
    assert run("study", "export", path, tmp_path / "o.dat")[0] != 0
    assert "curves, readings, text, json" in run("study", "export", path, out, "--format", "ods")[2]


def test_measuring_the_baseline_uses_the_wire(run, tmp_path):
    path = tmp_path / "B.epidote"
    run("study", "new", path)
    made = json.loads(
        run("measure", "response", "--study", path, "--subject", "Baseline", "--set", "duration=0.5", "--json")[1]
    )
    gain = next(r["value"] for r in made["readings"] if r["key"] == "gain_1k")
    assert gain == pytest.approx(
        20 * np.log10(4 / 8), abs=0.001
    )  # the stand-in's own full scales; no chain is stated here


def test_devices_procedures_version_and_help(run):
    assert "standin:ostrel-p40" in run("devices")[1]
    assert {d["name"] for d in json.loads(run("devices", "--json")[1])} >= {"standin:wire"}
    assert "smoothing = none" in run("procedures")[1]
    assert set(json.loads(run("procedures", "--json")[1])) >= {"tone", "response"}
    code, text, _ = run("--help")
    assert code == 0
    assert all(word in text for word in ("stimulus", "analyse", "measure", "study", "devices", "demo"))
    assert run("analyse", "--help")[0] == 0
    assert __version__


def test_the_demo_is_measured_and_then_left_alone(run, tmp_path, monkeypatch):
    from epidote.demo import scenario

    monkeypatch.setattr(scenario, "COLUMNS", {"tone": ("tone", {"duration": 0.1, "level": -20})})
    monkeypatch.setattr("epidote.demo.line.UNITS", 0)
    path = tmp_path / "Dome.epidote"
    code, text, _ = run("demo", "--build", "--path", path)
    assert code == 0
    assert text.count("Measuring ") == 6 + sum(scenario.REPEATED.values())  # what is real needs repeats
    assert "Measuring" not in run("demo", "--build", "--path", path)[1]
    shown = json.loads(run("study", "show", path, "--json")[1])
    assert len(shown["runs"]) == 6


def test_measure_over_buffers_and_rates(tmp_path, run):
    """A row and a run for each combination; a rate that the device refuses is said and leaves the others."""
    path = tmp_path / "a.epidote"
    with closing(create_study(path, "A")) as made:
        made.add_subject(made.add_unit("Sorvane", "L8"), {"connection": "short"}, "standin:sorvane-l8")
    command = [
        "measure",
        "latency",
        "--study",
        path,
        "--subject",
        "Sorvane L8",
        "--full-level",
        "--seed",
        2,
        "--set",
        "shots=2",
        "--set",
        "longest=0.05",
    ]
    code, out, err = run(*command, "--over", "rate=48 kHz,96 kHz,50 kHz", "--over", "buffer=32,128", "--json")
    assert code != 0
    assert "50 kHz" in err
    runs = json.loads(out)["runs"]
    found = {}
    for one in runs:
        latency = next(r for r in one["readings"] if r["key"] == "latency_samples" and r["channel"] == 1)
        rest = next(r for r in one["readings"] if r["key"] == "non_buffer_latency" and r["channel"] == 1)
        found[one["subject"]] = (latency["value"], rest["value"])
    assert len(found) == 4
    name = next(n for n in found if "buffer 128" in n and "96 kHz" in n)
    converters, safety = 29.3 + 38.9, 48
    assert min(abs(found[name][0] - blocks * 128 - converters - safety) for blocks in (2, 3)) < 0.01
    assert run(*command, "--over", "buffer")[0] == 2


def test_polarity_in_words_and_latencies_of_a_study(tmp_path, run):
    x = 0.1 * np.random.default_rng(0).standard_normal(48000)
    soundfile.write(tmp_path / "two.wav", np.column_stack([x, -np.roll(x, 5)]), 48000, subtype="PCM_24")
    code, out, err = run("analyse", "paths", str(tmp_path / "two.wav"))
    assert code == 0, err
    assert "inverted" in next(line for line in out.splitlines() if line.startswith("Polarity"))
    study = str(tmp_path / "Bench.epidote")
    assert run("study", "new", study)[0] == 0
    code, _, err = run("study", "latency", study)
    assert (code, "no latency runs" in err) == (2, True)
    conditions = ("--condition", "probe=1:1", "--condition", "load=10 kΩ")
    run("study", "add", study, "--maker", "Sorvane", "--model", "L8", "--device", "standin:sorvane-l8", *conditions)
    code, _, err = run(
        "measure", "latency", "--study", study, "--subject", "Sorvane", "--set", "shots=1", "--over", "buffer=64,128"
    )
    assert code == 0, err
    code, out, _ = run("study", "latency", study, "--json")
    found = json.loads(out)["latencies"]
    assert (code, {one["buffer"] for one in found}) == (0, {64, 128})
    assert all(one["metres_in_air"] == pytest.approx(343.2 * one["seconds"], rel=1e-3) for one in found)
    milliseconds = 1000 * found[0]["seconds"]
    _, out, _ = run("study", "latency", study, "--equal", f"{milliseconds:.4f}", "--within", "1")
    assert f"buffer {found[0]['buffer']}" in out
    _, out, _ = run("study", "latency", study)
    assert "suitable for live playing" in out


def test_a_stimulus_is_written_only_under_an_ending_that_says_what_it_is(run, tmp_path):
    for name in ("tone.mp3", "tone", "tone.wav.bak"):
        code, _, err = run("stimulus", "tone", tmp_path / name)
        assert code == 2 and "does not end in .wav or .flac. Nothing was written" in err
    assert list(tmp_path.iterdir()) == []
