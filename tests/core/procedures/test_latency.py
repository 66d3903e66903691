"""Latency on stand-ins and formulas whose delay is known, and paths with what may be wrong with them."""

import numpy as np
import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import UnusableInputError
from epidote.core.procedures.path_delay.readings import transients_of
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.settings import make_settings
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Signal
from epidote.measurement.chain_for_row import chain_for_subject
from epidote.measurement.device_setup import open_for_chain
from epidote.measurement.playback import play_and_record
from epidote.measurement.processing import analyse
from epidote.measurement.request import RunPlan, add_column
from epidote.measurement.runner import measure
from epidote.study.store import create_study
from tests.conftest import table, through
from tests.ideal_device import IdealDevice

RATE = 48000


def latency(device, chain=None, **values):
    chain = chain or Chain(rate=RATE)
    settings = make_settings(procedure("latency").Settings, {"shots": 4, "longest": 0.1, **values})
    return analyse("latency", play_and_record("latency", settings, chain, device), settings, chain)


@pytest.mark.parametrize("shot", ["sweep", "noise", "click"])
def test_whole_and_broken_frames(shot):
    """700 frames of the device and 0.37 of the unit, whatever the shot."""
    unit = lambda x: np.column_stack([through(c, RATE, lambda f: np.exp(-2j * np.pi * f * 0.37 / RATE)) for c in x.T])  # noqa: E731
    result = latency(IdealDevice(unit, rate=RATE), shot=shot)
    found = result.reading("latency_samples")
    assert found.value == pytest.approx(700.37, abs=0.001)
    assert result.reading("latency").value == pytest.approx(700.37 / RATE, abs=1e-8)
    assert found.spread < 0.001
    assert result.reading("polarity").value == 1


def test_an_inverted_unit_and_a_silent_one():
    assert latency(IdealDevice(lambda x: -x, rate=RATE)).reading("polarity").value == -1
    result = latency(IdealDevice(lambda x: 0 * x, rate=RATE))
    assert result.reading("latency").value is None
    assert Caution.STIMULUS_NOT_FOUND in result.cautions


def test_a_later_shot_that_is_lost_is_said():
    chain = Chain(rate=RATE)
    settings = make_settings(procedure("latency").Settings, {"shots": 4, "longest": 0.1})
    (whole,) = play_and_record("latency", settings, chain, IdealDevice(lambda x: x, rate=RATE))
    cut = Recording(Signal(whole.signal.samples[: whole.signal.frames // 2], RATE), whole.stimulus)
    result = analyse("latency", [cut], settings, chain)
    assert Caution.PARTIAL in result.cautions
    assert result.reading("latency_samples").value == pytest.approx(700, abs=0.01)


@pytest.mark.parametrize("buffer", [32, 256])
def test_buffers_share(buffer):
    """Reference section 16: one buffer one way; a round trip takes two."""
    row = next(r for r in table("16_buffer_latency") if r["buffer_samples"] == str(buffer))
    result = latency(IdealDevice(lambda x: x, rate=RATE), Chain(rate=RATE, buffer=buffer))
    share = result.reading("buffer_latency").value
    assert share == pytest.approx(2e-3 * float(row["latency_ms_at_48khz"]), abs=2e-9)
    assert result.reading("non_buffer_latency").value == pytest.approx(result.reading("latency").value - share)


def test_an_interface_that_jumps_by_a_block_from_start_to_start():
    """The stand-in's own rule: two blocks, a safety offset by connection, now and then a third block."""
    chain = Chain(rate=RATE, buffer=64)
    found = {}
    for connection in ("short", "long"):
        device = open_for_chain(chain, "standin:sorvane-l8", {"connection": connection}, seed=3)
        result = latency(device, chain, restart=True, shots=12, level=-20)
        assert Caution.DELAY_JUMPS in result.cautions
        assert result.reading("latency_range").value == pytest.approx(64, abs=1e-3)
        assert result.reading("latency_max").value * RATE == pytest.approx(
            result.curve("latency_by_shot").y.max() * RATE, abs=1e-6
        )
        assert result.reading("latency_samples").spread > 10, "the next start may give either"
        found[connection] = result.reading("latency_samples").value
        steady = latency(
            open_for_chain(chain, "standin:sorvane-l8", {"connection": connection}, seed=3), chain, level=-20
        )
        assert Caution.DELAY_JUMPS not in steady.cautions  # one start: the same in every shot
    assert found["long"] - found["short"] == pytest.approx(64, abs=1e-3)


def test_rows_over_rate_and_buffer(tmp_path):
    """The row's conditions choose the rate and the buffer, and the run keeps them."""
    study = create_study(tmp_path / "a.epidote", "A")
    settings = make_settings(procedure("latency").Settings, {"shots": 2, "longest": 0.05})
    column = add_column(study, "latency", settings)
    unit = study.add_unit("Sorvane", "L8")
    values = {}
    for rate, buffer in (("44.1 kHz", "128"), ("96 kHz", "64 samples")):
        row = study.add_subject(unit, {"rate": rate, "buffer": buffer, "connection": "short"}, "standin:sorvane-l8")
        chain = chain_for_subject(study, row)
        device = open_for_chain(chain, row.device, row.conditions, seed=2)
        run = measure(study, RunPlan(row.id, column.id, "latency", settings, chain), device)
        values[rate] = next(r.value for r in run.readings if r.key == "latency_samples" and r.channel == 1)
    study.close()
    converters = 29.3 + 38.9
    assert values["44.1 kHz"] == pytest.approx(2 * 128 + 22 + converters, abs=0.01) or values[
        "44.1 kHz"
    ] == pytest.approx(3 * 128 + 22 + converters, abs=0.01)
    assert round(values["96 kHz"] - converters - 48, 1) in (128.0, 192.0)


def paths(*columns, rate=RATE, others=(), **values):
    settings = make_settings(procedure("paths").Settings, values)
    recordings = [Recording(Signal(np.column_stack(columns), rate)), *others]
    return analyse("paths", recordings, settings, Chain(rate=rate))


def noise(seed, frames=2 * RATE):
    return 0.2 * np.random.default_rng(seed).standard_normal(frames)


def test_paths_that_cannot_be_compared():
    x = noise(0)
    silent = paths(x, 0 * x)
    assert Caution.SILENT in silent.cautions
    assert silent.reading("delay", 2).value is None
    apart = paths(x, noise(1))
    assert Caution.NOTHING_IN_COMMON in apart.cautions
    assert apart.reading("delay", 2).value is None
    assert 0 < apart.reading("correlation", 2).value < 0.1
    same = paths(x, x)
    assert Caution.IDENTICAL in same.cautions
    assert same.reading("delay_samples", 2).value == pytest.approx(0, abs=1e-9)
    alone = paths(x)
    assert Caution.ONE_ARRIVAL in alone.cautions
    assert alone.reading("arrival_separation", 1).value is None
    with pytest.raises(UnusableInputError, match="at least 256"):
        paths(x[:100], x[:100])


def test_delay_longer_than_is_looked_for():
    x = noise(0)
    late = np.concatenate([np.zeros(12000), x[:-12000]])
    assert Caution.NOTHING_IN_COMMON in paths(x, late, search=0.1).cautions
    assert paths(x, late, search=0.5).reading("delay_samples", 2).value == pytest.approx(12000, abs=0.01)


def test_a_file_of_another_rate_and_a_band_limited_inverted_one():
    x = noise(0)
    x = through(x, RATE, lambda f: f < 9000)
    # the same at half the rate, and late by 100 frames of the first
    half = np.fft.irfft(np.fft.rfft(x)[: x.size // 4 + 1], x.size // 2) / 2
    half[: x.size // 2] = np.roll(half, 50)
    result = paths(x, -0.5 * x, others=[Recording(Signal(half, RATE / 2))])
    assert Caution.OTHER_RATE in result.cautions
    assert result.reading("delay_samples", 3).value == pytest.approx(100, abs=0.01)
    assert result.reading("polarity", 2).value == -1
    assert result.reading("level", 2).value == pytest.approx(-6.0206, abs=1e-3)


def test_dry_and_processed_side_by_side():
    """The stand-in's two ways: 1.31 and 9.14 ms, -3 dB; on its moving program it wavers by 0.4 ms, 0.28 ms rms."""
    chain = Chain(rate=RATE)
    settings = make_settings(
        procedure("response").Settings,
        {"stimulus": "noise", "colour": "white", "duration": 6, "level": -20, "start_frequency": 20},
    )
    for program, wavers in (("steady", 0.0), ("moving", 0.000283)):
        device = open_for_chain(chain, "standin:ferrin-v9", {"output": "split", "program": program}, seed=1)
        (recorded,) = play_and_record("response", settings, chain, device)
        result = analyse(
            "paths",
            [Recording(recorded.signal)],
            make_settings(procedure("paths").Settings, {"band_high": 15000}),
            chain,
        )
        assert result.reading("delay", 2).value == pytest.approx(0.00914 - 0.00131, abs=1e-6 if not wavers else 5e-4)
        assert (Caution.DELAY_CHANGES in result.cautions) is bool(wavers)
        assert result.reading("delay_modulation", 2).value == pytest.approx(wavers, rel=0.3)
        assert result.reading("level", 2).value == pytest.approx(-3, abs=0.2 if wavers else 0.01)


def test_a_network_path_drifts():
    """The stand-in's own clock: 38 ppm."""
    chain = Chain(rate=RATE)
    settings = make_settings(procedure("response").Settings, {"stimulus": "noise", "duration": 5, "level": -20})
    (recorded,) = play_and_record("response", settings, chain, open_for_chain(chain, "standin:oskell-n3", {}, seed=1))
    result = analyse("paths", [Recording(recorded.signal)], procedure("paths").Settings(), chain)
    assert abs(result.reading("drift_ppm", 2).value) == pytest.approx(38, abs=0.01)


def test_events_are_listed():
    x = np.zeros(RATE)
    x[[8000, 20000, 33000]] = 0.5
    result = paths(x, np.roll(0.25 * x, 48))
    events = transients_of(result)
    assert [e["time"] for e in events] == pytest.approx([8000 / RATE, 20000 / RATE, 33000 / RATE])
    assert [e["delay"] for e in events] == pytest.approx([0.001] * 3, abs=1e-6)
    assert [e["level"] for e in events] == pytest.approx([-12.041] * 3, abs=0.01)
    assert result.reading("transients", 2).value == 3


@pytest.mark.parametrize(
    ("gain", "row"), [(10 ** (-1 / 20), "-1"), (10 ** (-6 / 20), "-6"), (-(10 ** (-3 / 20)), "-3")]
)
def test_two_arrivals_in_one_signal(gain, row):
    """Reference section 16: 9 ms apart gives a first null at 55.556 Hz (or twice that, turned over), and the comb's
    depth by its table.
    """

    def unit(x):
        return np.column_stack([through(c, RATE, lambda f: 1 + gain * np.exp(-2j * np.pi * f * 0.009)) for c in x.T])

    result = latency(IdealDevice(unit, rate=RATE), longest=0.2)
    apart = result.reading("arrival_separation").value
    assert apart == pytest.approx(0.009, abs=1e-7)
    assert result.reading("second_level").value == pytest.approx(float(row), abs=0.005)
    null = next(float(r["first_null_hz"]) for r in table("16_comb_filter") if float(r["delay_s"]) == 0.009)
    assert result.reading("comb_null").value == pytest.approx(null if gain > 0 else 2 * null, rel=1e-5)
    depth = next(float(r["peak_to_null_db"]) for r in table("16_comb_depth") if r["delayed_level_re_dry_db"] == row)
    assert result.reading("comb_depth").value == pytest.approx(depth, abs=0.1)


def test_one_arrival_through_a_band_limit_is_no_second_one():
    device = open_for_chain(Chain(rate=RATE), "standin:wire", {}, seed=1)
    assert latency(device, level=-20).reading("second_arrival") is None
    mixed = latency(open_for_chain(Chain(rate=RATE), "standin:ferrin-v9", {"output": "both"}, seed=1), level=-20)
    assert mixed.reading("arrival_separation").value == pytest.approx(0.00783, abs=1e-6)
    assert mixed.reading("second_level").value == pytest.approx(-3, abs=0.02)
