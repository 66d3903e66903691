"""Calibration: Ohm's law, the definition of 0 dBFS (AES17), and what people get wrong at the bench."""

import math
from datetime import date

import numpy as np
import pytest

from epidote.core.analysis.spectral.weighting import Weighting
from epidote.core.calibration.guided_steps import GUIDES, CapturedLevel
from epidote.core.calibration.methods import (
    damping_factor,
    from_two_loads,
    full_scale,
    loading_error_db,
    parse_correction,
    plausibility,
    sensitivity,
    steadiness,
    through_series,
    tone_level,
    weighted_level,
)
from epidote.core.calibration.microphone_correction import apply_microphone_correction
from epidote.core.chain.chain import Calibration, Chain
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.live.level_meter import LevelMeter
from epidote.core.results.result import Curve, Result
from tests.conftest import sine

TODAY = date(2026, 11, 23)
CALIBRATED = Chain(output_full_scale=4.0, input_full_scale=8.0, output_ohms=22.0)


def taken(level, played=-20.0):
    return CapturedLevel(level, 0.0005, played, -100.0)


def test_full_scale_from_a_meter():
    """0 dBFS is a full-scale sine (AES17): 0.4 V at -20 dBFS are 4 V at 0 dBFS."""
    assert full_scale(0.4, -20) == pytest.approx(4.0)


def test_sensitivity_from_a_calibrator():
    """94 dB SPL are 1.00237 Pa re 20 µPa; 114 dB are ten times as much."""
    assert sensitivity(0.05, 94) == pytest.approx(0.05 / 1.0023745, rel=1e-6)
    assert sensitivity(0.5, 114) == pytest.approx(sensitivity(0.05, 94))


@pytest.mark.parametrize("unit_ohms", [100.0, 10_200.0, 1e6])
def test_a_resistance_behind_a_series_resistor(unit_ohms):
    """Ohm's law: the divider's output is Z / (Z + R)."""
    assert through_series(10_000, 1.0, unit_ohms / (unit_ohms + 10_000)) == pytest.approx(unit_ohms)


def test_no_drop_across_the_resistor_is_said():
    with pytest.raises(UnusableInputError, match="use a larger value"):
        through_series(10, 1.0, 1.0)


@pytest.mark.parametrize(("low", "high"), [(4.0, 8.0), (4.0, math.inf), (8.0, 4.0)])
def test_output_resistance_by_two_loads(low, high):
    """Second way: the voltages a source of 0.32 Ω gives."""

    def volts(r):
        return 10 * (1 if r == math.inf else r / (r + 0.32))

    found = from_two_loads(low, volts(low), high, volts(high))
    assert found == pytest.approx(0.32, rel=1e-9)
    assert damping_factor(8, found) == pytest.approx(25.0)


def test_loads_that_tell_nothing():
    with pytest.raises(UnusableInputError, match="Both loads are equal"):
        from_two_loads(8, 1, 8, 1)
    with pytest.raises(UnusableInputError, match="higher with the heavier load"):
        from_two_loads(4, 1.1, 8, 1.0)
    assert damping_factor(8, 0) is None


def test_loading_error():
    assert loading_error_db(22, 10_200) == pytest.approx(-0.0187, abs=1e-4)


@pytest.mark.parametrize(
    ("ratio", "words"),
    [
        (2.0, "a factor of 2"),
        (math.sqrt(2), "RMS and peak volts"),
        (0.1, "a factor of 10"),
        (1.3, "is a large change"),
        (1e-3, "millivolts"),
    ],
)
def test_slips_are_named(ratio, words):
    plausible, said = plausibility(8.0 * ratio, 8.0)
    assert not plausible
    assert words in said


def test_small_changes_are_plausible():
    assert plausibility(8.01, 8.0)[0]
    assert plausibility(8.0, None)[0]


def test_tone_level_of_a_dithered_tone_in_noise():
    """Second way: amplitude of the formula. RMS re full-scale sine."""
    x = sine(997.3, 0.25, 12000, 48000) + 1e-5 * np.random.default_rng(1).standard_normal(12000)
    found = tone_level(x, 48000)
    assert found.level == pytest.approx(20 * math.log10(0.25), abs=1e-4)
    assert found.frequency == pytest.approx(997.3, abs=1e-3)
    assert found.rest == pytest.approx(20 * math.log10(1e-5 * math.sqrt(2) / 0.25), abs=0.3)


def test_noise_is_no_tone():
    assert tone_level(np.random.default_rng(1).standard_normal(12000), 48000) is None
    assert tone_level(np.zeros(12000), 48000) is None


def test_weighted_level_of_tones():
    """IEC 61672-1 table: 0 dB at 1 kHz; at 100 Hz A is -19.1 dB, C is -0.3 dB."""
    for f, a, c in ((1000, 0.0, 0.0), (100, -19.1, -0.3)):
        x = sine(f, 0.5, 48000, 48000)
        assert weighted_level(x, 48000, Weighting.A) == pytest.approx(-6.02 + a, abs=0.06)
        assert weighted_level(x, 48000, Weighting.C) == pytest.approx(-6.02 + c, abs=0.06)


def test_steadiness_needs_three_seconds():
    t = np.arange(0, 2, 0.1)
    assert not steadiness(t.tolist(), [0.0] * t.size).steady
    t = np.arange(0, 4, 0.1)
    assert steadiness(t.tolist(), [0.0] * t.size).steady
    assert not steadiness(t.tolist(), (0.02 * t).tolist()).steady, "it drifts"


class TestGuides:
    def test_output(self):
        found = GUIDES["output_full_scale"].reckon(CALIBRATED, 1, {"volts": 0.4004}, {}, TODAY)
        assert found.chain.output_full_scale == pytest.approx(4.004)
        assert found.plausible
        assert found.chain.calibrations[-1] == Calibration(
            what="output_full_scale",
            value=found.chain.output_full_scale,
            unit="V",
            on=TODAY,
            how="a meter at the output",
            channel=1,
        )

    def test_peak_volts_typed_for_rms_are_noticed(self):
        found = GUIDES["output_full_scale"].reckon(CALIBRATED, 1, {"volts": 0.4 * math.sqrt(2)}, {}, TODAY)
        assert not found.plausible
        assert "peak" in found.judgement

    def test_input_by_a_known_voltage(self):
        found = GUIDES["input_full_scale"].reckon(CALIBRATED, 2, {"volts": 1.0}, {"level": taken(-18.06)}, TODAY)
        assert found.chain.input_full_scale == pytest.approx(7.998, abs=1e-3)

    def test_input_by_the_output_and_a_wire(self):
        guide = GUIDES["input_by_wire"]
        found = guide.reckon(CALIBRATED, 1, {}, {"level": taken(-26.0206, played=-20.0)}, TODAY)
        assert found.chain.input_full_scale == pytest.approx(8.0, rel=1e-5)
        with pytest.raises(SettingError, match="Calibrate the output first"):
            guide.reckon(Chain(), 1, {}, {"level": taken(-26)}, TODAY)

    def test_wire_into_a_stated_input_resistance_loses_a_little(self):
        chain = CALIBRATED.model_copy(update={"output_ohms": 100.0, "input_ohms": 10_000.0})
        found = GUIDES["input_by_wire"].reckon(chain, 1, {}, {"level": taken(-26.0206)}, TODAY)
        assert found.chain.input_full_scale == pytest.approx(8.0 / 1.01, rel=1e-4)

    def test_probe_and_preamplifier(self):
        """8 V full scale at -20 dBFS are 0.8 V at the input; 8 V stood at the tip, 80 mV before the preamplifier."""
        probe = GUIDES["probe_ratio"].reckon(CALIBRATED, 1, {"volts": 8.0}, {"level": taken(-20.0)}, TODAY)
        assert probe.chain.probe_ratio == pytest.approx(10.0)
        gain = GUIDES["preamp_gain_db"].reckon(CALIBRATED, 1, {"volts": 0.08}, {"level": taken(-20.0)}, TODAY)
        assert gain.chain.preamp_gain_db == pytest.approx(20.0)
        with pytest.raises(SettingError, match="probe ratio is 0.125, below 1"):
            GUIDES["probe_ratio"].reckon(CALIBRATED, 1, {"volts": 0.1}, {"level": taken(-20.0)}, TODAY)

    def test_microphones_one_by_one(self):
        chain = CALIBRATED
        for channel, level in ((1, -44.08), (2, -38.06)):
            chain = GUIDES["microphone"].reckon(chain, channel, {"spl": 94.0}, {"level": taken(level)}, TODAY).chain
        one, two = chain.microphone_sensitivities
        assert one == pytest.approx(0.0500 / 1.00237 * 1.0, rel=2e-3)
        assert two == pytest.approx(2 * one, rel=1e-2)
        full, unit = chain.scale(2)
        assert unit == "Pa"
        assert full == pytest.approx(8.0 / two)

    def test_a_sound_level_meter_agrees_with_a_calibrator(self):
        one = GUIDES["microphone"].reckon(CALIBRATED, 1, {"spl": 94.0}, {"level": taken(-40.0)}, TODAY)
        other = GUIDES["sound_level_a"].reckon(CALIBRATED, 1, {"spl": 74.0}, {"level": taken(-60.0)}, TODAY)
        assert one.chain.microphone_sensitivities[0] == pytest.approx(other.chain.microphone_sensitivities[0])

    def test_unit_resistances(self):
        found = GUIDES["unit_input_ohms"].reckon(
            CALIBRATED, 1, {"ohms": 10_000.0}, {"without": taken(-20), "with": taken(-26.0206)}, TODAY
        )
        assert found.chain.unit_input_ohms == pytest.approx(10_000, rel=1e-4)
        assert "22 Ω output resistance: -0.019 dB" in found.note
        four, eight = (20 * math.log10(r / (r + 0.04)) for r in (4, 8))
        found = GUIDES["unit_output_ohms"].reckon(
            CALIBRATED, 1, {"first_ohms": 4, "second_ohms": 8}, {"first": taken(four), "second": taken(eight)}, TODAY
        )
        assert found.chain.latest("unit_output_ohms").value == pytest.approx(0.04, rel=1e-4)
        assert "Damping factor 100 at 4 Ω" in found.note

    def test_a_measured_load_is_confirmed(self):
        chain = GUIDES["load_ohms"].reckon(CALIBRATED, 1, {"ohms": 7.94}, {}, TODAY).chain
        assert (chain.load_ohms, chain.load_confirmed) == (7.94, True)


class TestChain:
    def test_history_survives_the_file(self):
        chain = GUIDES["input_full_scale"].reckon(CALIBRATED, 1, {"volts": 1.0}, {"level": taken(-18.06)}, TODAY).chain
        chain = chain.model_copy(
            update={
                "microphone_correction": ((20.0, -0.5), (1000.0, 0.0)),
                "input_names": ('the "left" one',),
                "outputs": (3, 4),
            }
        )
        assert chain_from_toml(chain_to_toml(chain)) == chain

    def test_age_and_staleness(self):
        chain = Chain(input_full_scale=8.0, calibrated_on=date(2026, 6, 1))
        assert chain.age_days(TODAY) == 175
        assert chain.stale(TODAY)
        assert not chain.stale(date(2026, 6, 20))
        assert Chain().age_days(TODAY) is None
        old = Calibration(what="output_full_scale", value=4, unit="V", on=date(2026, 1, 1))
        new = Calibration(what="input_full_scale", value=8, unit="V", on=TODAY)
        assert Chain(input_full_scale=8.0, calibrations=(old, new)).age_days(TODAY) == 326, "the oldest counts"

    def test_the_lower_ceiling_holds(self):
        assert Chain(output_full_scale=4.0, output_ceiling=-3, output_ceiling_volts=0.4).ceiling_dbfs == pytest.approx(
            -20
        )
        assert Chain(output_ceiling=-3, output_ceiling_volts=0.4).ceiling_dbfs == -3, (
            "volts mean nothing before the output is calibrated"
        )

    def test_what_a_baseline_depends_on(self):
        assert CALIBRATED.differs_from(CALIBRATED.wired()) == ()
        other = CALIBRATED.model_copy(
            update={"rate": 96000, "device": "sound:jack/system", "buffer": 64, "preamp_gain_db": 20}
        )
        assert other.differs_from(CALIBRATED.model_copy(update={"device": "sound:alsa/x"})) == (
            "rate",
            "device",
            "gain",
            "buffer",
        )
        benches = [CALIBRATED.model_copy(update={"device": f"standin:{b}"}) for b in ("wire", "ostrel-p40")]
        assert benches[0].differs_from(benches[1]) == ()

    def test_faulty_chains_are_refused(self):
        for words in (
            "outputs = [1, 1]",
            "inputs = [0]",
            "microphone_sensitivities = [-1.0]",
            "microphone_correction = [[100, 1], [50, 1]]",
        ):
            with pytest.raises(UnusableInputError):
                chain_from_toml(words)


class TestCorrection:
    @pytest.mark.parametrize(
        "text",
        [
            "20 -1.0\n1000 0\n",
            "* made by hand\n20;-1,0;12\n1000;0;0",
            "Hz\tdB\n20\t-1.0\n1000\t0.0",
            "20, -1.0\n1000, 0",
        ],
    )
    def test_many_ways_to_write_it(self, text):
        rows = parse_correction(text)
        assert [r[:2] for r in rows] == [(20.0, -1.0), (1000.0, 0.0)]

    @pytest.mark.parametrize(
        ("text", "words"),
        [
            ("", "contains no correction"),
            ("20 -1\n10 0", "frequencies must ascend"),
            ("20 x\n30 1", "line 1"),
            ("20 -1\n40 nan", "line 2"),
            ("hello", "no correction"),
            ("20\n30", "line 1"),
        ],
    )
    def test_what_is_none_is_refused(self, text, words):
        with pytest.raises(UnusableInputError, match=words):
            parse_correction(text)

    def test_it_is_taken_out(self):
        """A microphone 1 dB low at 20 Hz hears a flat field as -1 dB there: taken out, it is flat again."""
        f = np.geomspace(20, 20000, 300)
        heard = np.interp(np.log(f), np.log([20, 1000]), [-1.0, 0.0])
        chain = Chain(microphone_sensitivities=(0.01,), microphone_correction=((20.0, -1.0), (1000.0, 0.0)))
        result = apply_microphone_correction(Result((Curve("level", 1, f, heard, "Hz", "dB"),), (), ()), chain)
        assert np.abs(result.curve("level").y).max() < 1e-12
        assert apply_microphone_correction(Result(), Chain()).curves == ()

    def test_each_microphone_has_its_own_and_the_average_is_made_again(self):
        """Two microphones, 1 dB and 3 dB high at all frequencies, one without; by hand 10 lg of the mean power."""
        f = np.array([100.0, 1000.0, 10000.0])
        levels = {1: 81.0, 2: 83.0, 3: 80.0}
        curves = [Curve("level", n, f, np.full(3, v), "Hz", "dB") for n, v in levels.items()]
        powers = [10 ** (v / 10) for v in levels.values()]
        average = Curve(
            "level", 0, f, np.full(3, 10 * np.log10(np.mean(powers))), "Hz", "dB", None, {"average_of": "1, 2, 3"}
        )
        flat = ((20.0, 1.0), (20000.0, 1.0)), ((20.0, 3.0), (20000.0, 3.0))
        chain = Chain(inputs=(1, 2, 3), microphone_sensitivities=(0.01,) * 3, microphone_corrections=flat)
        result = apply_microphone_correction(Result((average, *curves), (), ()), chain)
        for number in (0, 1, 2, 3):
            np.testing.assert_allclose(result.curve("level", number).y, 80.0, atol=1e-9)
        assert result.curve("level", 0).meta["microphone"] == "corrected"

    def test_serial_and_correction_of_one_input(self):
        chain = Chain(inputs=(1, 2, 3), microphone_sensitivities=(0.01,) * 3)
        chain = chain.with_microphone(2, serial="KM-0173", correction=((20.0, -1.0), (1000.0, 0.0)))
        assert chain.microphone_serials == ("", "KM-0173", "")
        assert chain.correction_of(1) == ()
        assert chain.correction_of(2)[0] == (20.0, -1.0)
        assert chain_from_toml(chain_to_toml(chain)) == chain
        with pytest.raises(SettingError, match="no channel 4"):
            chain.with_microphone(4, serial="x")


def test_levels_as_they_move():
    """A tone that rises by 0.5 dB half-way: steady before, not steady after, steady again 3 s later."""
    rate = 8000
    t = np.arange(8 * rate) / rate
    x = np.where(t < 4, 0.1, 0.1 * 10 ** (0.5 / 20)) * np.sin(2 * np.pi * 440 * t)
    watch, seen = LevelMeter(rate, 2, watched=1), []
    for i in range(0, t.size, 400):
        now = watch.feed(np.column_stack([x, np.zeros_like(x)])[i : i + 400])
        if now is not None:
            seen.append((i / rate, now))
    at = {round(when, 1): now.channels[0] for when, now in seen}
    assert at[3.8].steadiness.steady
    assert at[3.8].level == pytest.approx(-20, abs=1e-3)
    assert not at[5.0].steadiness.steady
    assert at[7.8].steadiness.steady
    assert at[7.8].level == pytest.approx(-19.5, abs=1e-3)
    assert seen[-1][1].channels[1].level is None
    assert seen[-1][1].levels.size == seen[-1][1].times.size


class TestSeveralMicrophones:
    def test_one_after_the_other_leaves_the_others_uncalibrated(self):
        """94 dB SPL is 1.0024 Pa; the third input reads 0.05 V: 49.9 mV/Pa, and nothing is said of the first two."""
        from epidote.core.calibration.guided_steps import GUIDES, CapturedLevel

        chain = Chain(inputs=(1, 2, 3, 4), input_full_scale=1.0)
        level = CapturedLevel(20 * math.log10(0.05), 0.01, 0.0)
        outcome = GUIDES["microphone"].reckon(chain, 3, {"spl": 94.0}, {"level": level}, date(2026, 11, 28))
        assert outcome.chain.microphone_sensitivities == (0.0, 0.0, pytest.approx(0.05 / 1.0024, rel=1e-3))
        assert outcome.chain.scale(1) == (None, "Pa")
        assert outcome.chain.scale(3)[0] == pytest.approx(1.0 / 0.04988, rel=1e-3)
        assert outcome.chain.scale(4) == (None, "Pa")

    def test_a_single_sensitivity_holds_for_all_inputs(self):
        chain = Chain(inputs=(1, 2, 3), input_full_scale=1.0, microphone_sensitivities=(0.05,))
        assert chain.scale(3)[0] == pytest.approx(20.0)

    def test_the_input_that_hears_the_calibrator_is_found(self):
        """A tone of 1 kHz on the second of three inputs, and a neighbour that hears it 30 dB weaker; then on two."""
        from epidote.core.live.level_meter import LevelMeter

        rate = 48000
        tone = 0.1 * np.sin(2 * np.pi * 1000 * np.arange(rate) / rate)
        rng = np.random.default_rng(0)

        def hearing(gains):
            meter = LevelMeter(rate, 3)
            block = tone[:, None] * np.array(gains) + 1e-4 * rng.standard_normal((rate, 3))
            return meter.feed(block).hearing

        assert hearing([0.03, 1.0, 0.0]) == 2
        assert hearing([0.8, 1.0, 0.0]) is None
        assert hearing([0.0, 0.0, 0.0]) is None
