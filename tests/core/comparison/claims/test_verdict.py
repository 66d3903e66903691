"""Claims held against made-up runs of known truth. What a claim means: common practice, no source."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
import pytest
from scipy import signal

from epidote.core.chain.chain import Chain
from epidote.core.claims.conditions import Condition
from epidote.core.comparison.claims.parser import parse_claim
from epidote.core.comparison.claims.verdict import Outcome, Reason, judge
from epidote.core.procedures.registry import procedure
from epidote.core.results.caution import Caution
from epidote.core.results.reading import Reading
from epidote.core.results.result import Curve
from epidote.core.settings import make_settings
from epidote.core.wording.verdicts import verdict_words
from tests.core.comparison.evidence import CHAIN, response, run, staircase, thd_n


def verdict(text, *runs):
    claim = parse_claim(text).claim
    assert claim is not None, parse_claim(text).words
    return judge(claim, list(runs))


def test_met_with_its_margin_and_not_met():
    """0.005 % is -86.02 dB; 20 lg."""
    text = "THD+N < 0.005 %, 1 kHz, 1 W, 8 Ω, 20 kHz bandwidth"
    met = verdict(text, run(readings=thd_n(-90.0, spread=0.01)))
    assert met.outcome is Outcome.MET
    assert met.margin == pytest.approx(20 * np.log10(0.005e-2) + 90, abs=1e-9) or met.margin == pytest.approx(
        3.9794, abs=1e-4
    )
    assert met.value == pytest.approx(100 * 10 ** (-90 / 20))
    missed = verdict(text, run(readings=thd_n(-80.0, spread=0.01)))
    assert missed.outcome is Outcome.NOT_MET
    assert "misses by" in verdict_words(missed)


def test_the_worst_channel_counts_and_the_latest_run():
    text = "THD+N < 0.005 %, 1 kHz, 1 W"
    both = run(readings=[*thd_n(-90.0), *thd_n(-85.0, channel=2)])
    assert (verdict(text, both).outcome, verdict(text, both).channel) == (Outcome.NOT_MET, 2)
    assert verdict(text, both, run(readings=thd_n(-95.0), number=2)).run == 2


def test_too_near_to_tell_within_its_uncertainty():
    found = verdict("THD+N < 0.01 %, 1 kHz, 1 W", run(readings=thd_n(-80.02, spread=0.05)))
    assert found.outcome is Outcome.INCONCLUSIVE
    assert "too close to the limit" in verdict_words(found)
    repeated = run(readings=thd_n(-80.5), spreads={("thd_n", 1): 1.0})
    assert verdict("THD+N < 0.01 %, 1 kHz, 1 W", repeated).outcome is Outcome.INCONCLUSIVE


def test_the_chain_s_floor_stands_in_the_way():
    near = {"floor": -91.0, "cautions": (Caution.NEAR_FLOOR,)}
    found = verdict("THD+N < 0.001 %, 1 kHz, 1 W", run(readings=thd_n(-88.0, **near)))
    assert found.outcome is Outcome.INCONCLUSIVE
    assert "chain-limited" in verdict_words(found)
    assert found.proposal is not None
    # what the chain adds can only have made it worse, so a limit that is kept is met
    assert verdict("THD+N < 0.01 %, 1 kHz, 1 W", run(readings=thd_n(-88.0, **near))).outcome is Outcome.MET


def test_other_conditions_are_named_and_a_measurement_offered():
    found = verdict("THD+N < 0.01 %, 1 kHz, 5 W, 4 Ω, A-weighted", run(readings=thd_n(-90.0)))
    assert found.outcome is Outcome.INCONCLUSIVE
    for words in ("load 8", "level", "weighting none instead of A"):
        assert words in verdict_words(found)
    nothing = verdict("SNR 100 dB(A)")
    assert "not measured" in verdict_words(nothing)
    assert nothing.proposal.procedure == "noise"


def test_a_claim_without_conditions_is_judged_at_the_usual_ones_and_says_so():
    found = verdict("THD+N 0.01 %", run(readings=thd_n(-90.0)))
    assert found.outcome is Outcome.MET
    assert "Assumed, as not stated in the claim" in verdict_words(found)
    assert Condition.FREQUENCY in [one.condition for one in found.assumed]


def test_the_usual_band_and_the_unit_s_first_row_are_taken_first():
    """Without a bandwidth in the claim 20 kHz is usual; without a setting of the unit its first row is."""
    wide = [Reading("thd_n", 1, -70.0, "dB", {"frequency_hz": 1000.0, "band_low_hz": 20.0, "band_high_hz": 80000.0})]
    text = "THD+N 0.01 %"
    assert verdict(text, run(readings=thd_n(-90.0), number=1), run(readings=wide, number=9)).run == 1
    low = run(
        "gain",
        [Reading("gain", 1, 14.0, "dB", {"frequency_hz": 1000.0})],
        number=5,
        conditions={"gain": "low"},
        place=1,
    )
    high = run(
        "gain", [Reading("gain", 1, 26.1, "dB", {"frequency_hz": 1000.0})], number=2, conditions={"gain": "high"}
    )
    found = verdict("Gain 26 dB", low, high)
    assert (found.outcome, found.run) == (Outcome.MET, 2)
    assert "gain high" in verdict_words(found)


def test_a_spoilt_recording_shows_nothing():
    found = verdict("THD+N 0.01 %", run(readings=thd_n(-90.0), cautions=("clipped",)))
    assert (found.outcome, "clipped" in verdict_words(found)) == (Outcome.INCONCLUSIVE, True)


@pytest.mark.parametrize(
    ("text", "outcome"),
    [("30 W at 1 %", "met"), ("50 W at 1 %", "not met"), ("20 W at 0.1 %", "not met"), ("3 W at 0.1 %, 8 Ω", "met")],
)
def test_power_at_a_limit(text, outcome):
    """THD+N ∝ P here: 1 % at 40 W, so 0.1 % at 4 W."""
    found = verdict(text, run("distortion-level", curves=[staircase()], settings={"frequency": 1000.0, "stop_at": 5.0}))
    assert found.outcome == outcome
    expected = 4.0 if "0.1 %" in text else 40.0
    assert found.value == pytest.approx(expected, rel=1e-3)
    assert found.margin == pytest.approx(10 * np.log10(found.value / float(text.split()[0])), abs=1e-6)


def test_a_staircase_that_ended_too_early_shows_what_it_reached():
    short = staircase()
    kept = short.x <= 10
    early = Curve("thd_n", 1, short.x[kept], short.y[kept], "W", "dB")
    low, high = (
        verdict(t, run("distortion-level", curves=[early], settings={"frequency": 1000.0}))
        for t in ("5 W at 1 %", "30 W at 1 %")
    )
    assert low.outcome is Outcome.MET
    assert (high.outcome, "raise the stop level" in verdict_words(high)) == (Outcome.INCONCLUSIVE, True)


def test_distortion_at_a_level_from_a_staircase():
    """At 4 W: -40 + 20 lg(4/40) = -60 dB."""
    found = verdict(
        "THD+N < 0.2 %, 1 kHz, 4 W, 8 Ω", run("distortion-level", curves=[staircase()], settings={"frequency": 1000.0})
    )
    assert found.value == pytest.approx(0.1, rel=1e-3)


@pytest.mark.parametrize(("tolerance", "outcome"), [(0.5, "not met"), (1.2, "met")])
def test_response_within_a_tolerance(tolerance, outcome):
    """A first-order corner at 40 kHz is 0.97 dB down at 20 kHz. Source: scipy.signal.freqs of 1/(1+s/w)."""
    f = np.geomspace(10, 30000, 900)
    _, h = signal.freqs([1], [1 / (2 * np.pi * 40000), 1], 2 * np.pi * f)
    _, at = signal.freqs([1], [1 / (2 * np.pi * 40000), 1], 2 * np.pi * np.array([1000.0, 20000.0]))
    found = verdict(
        f"frequency response 20 Hz-20 kHz ±{tolerance} dB",
        run("response", curves=[response(f, 20 * np.log10(abs(h)) + 26)]),
    )
    down = 20 * np.log10(abs(at[1] / at[0]))
    assert found.outcome == outcome
    assert found.margin == pytest.approx(tolerance + down, abs=1e-4)


def test_a_band_that_was_not_swept_is_not_shown():
    found = verdict(
        "frequency response 5 Hz-80 kHz, -3 dB", run("response", curves=[response([20, 1000, 20000], [0, 0, 0])])
    )
    assert found.outcome is Outcome.INCONCLUSIVE
    assert found.proposal.settings == {"start_frequency": 5.0, "stop_frequency": 80000.0}


def test_noise_in_volts_against_a_level_and_a_weighting():
    """-95 dBu = sqrt(0.6) 10^(-95/20) V = 13.77 µV."""
    readings = [
        Reading("noise", 1, 20e-6, "V", {"band_low_hz": 20.0, "band_high_hz": 20000.0}),
        Reading("noise_a", 1, 12e-6, "V", {"band_low_hz": 20.0, "band_high_hz": 20000.0}),
    ]
    noise = run("noise", readings, settings={"reference_level": "12.65 V"})
    assert verdict("Noise < -95 dBu, 20 kHz BW", noise).outcome is Outcome.NOT_MET
    assert verdict("Noise < -95 dBu A-weighted", noise).outcome is Outcome.MET
    assert verdict("Noise < -95 dBu, bandwidth 80 kHz", noise).outcome is Outcome.INCONCLUSIVE


def test_snr_crosstalk_gain_latency_and_modulation():
    at = {"band_low_hz": 20.0, "band_high_hz": 20000.0, "reference": "12.65 V"}
    noise = run(
        "noise",
        [Reading("snr", 1, 100.0, "dB", at), Reading("snr_a", 1, 103.0, "dB", at)],
        settings={"reference_level": "12.65 V"},
    )
    reached = replace(noise, highest_output=lambda: 12.7)
    assert verdict("SNR 102 dB(A) re 20 W", reached).margin == pytest.approx(1.0)
    assert verdict("SNR 102 dB, 20 W", reached).outcome is Outcome.NOT_MET  # 12.65 V into 8 Ω are 20 W
    assert verdict("SNR 102 dB(A) re 1 W", reached).outcome is Outcome.INCONCLUSIVE
    cross = run(
        "crosstalk",
        [Reading("crosstalk", 2, -83.0, "dB", {"frequency_hz": 1000.0})],
        [Curve("crosstalk", 2, np.array([20.0, 1000, 20000]), np.array([-90.0, -83, -60]), "Hz", "dB")],
    )
    assert verdict("Channel separation > 80 dB", cross).margin == pytest.approx(3.0)
    assert verdict("Separation 65 dB, 20 Hz to 20 kHz", cross).margin == pytest.approx(-5.0)
    gain = run(
        "gain",
        [
            Reading("gain", 1, 26.3, "dB", {"frequency_hz": 1000.0}),
            Reading("balance", 2, -0.15, "dB", {"frequency_hz": 1000.0}),
        ],
    )
    assert [
        verdict(t, gain).outcome
        for t in ("Gain 26 dB", "Gain 29 dB", "Channel balance ±0.2 dB", "Channel matching < 0.1 dB")
    ] == ["met", "not met", "met", "not met"]
    assert [verdict(t, gain).outcome for t in ("Gain 26 dB ±0.5 dB", "Gain 27 dB ±0.5 dB", "Gain 25.5 dB ±0.5 dB")] == [
        "met",
        "not met",
        "not met",
    ]
    late = run("latency", [Reading("latency", 1, 0.0033, "s")], chain=CHAIN.model_copy(update={"buffer": 64}))
    assert verdict("latency 3.4 ms at 64 samples", late).outcome is Outcome.MET
    assert verdict("latency 2.5 ms at 64 samples", late).outcome is Outcome.NOT_MET
    assert "buffer 64 instead of 128" in verdict_words(verdict("latency 5 ms at 128 samples", late))
    assert verdict("latency 400 samples", late).value == pytest.approx(0.0033 * 96000)
    tones = {"frequency_1_hz": 60.0, "frequency_2_hz": 7000.0}
    imd = run("intermodulation", [Reading("modulation_distortion", 1, -73.0, "dB", tones)])
    assert verdict("IMD < 0.05 %", imd).outcome is Outcome.MET
    assert verdict("CCIF 19+20 kHz: -90 dB", imd).outcome is Outcome.INCONCLUSIVE


def test_sensitivity_is_the_input_that_the_measured_gain_needs():
    """40 W into 8 Ω are sqrt(320) V; through 26 dB that takes sqrt(320) / 10^(26/20) V = 0.8966 V.

    Watts double with 3.01 dB.
    """
    at = {"frequency_hz": 1000.0}
    gain = run("gain", [Reading("gain", 1, 26.0, "dB", at, None, 0.05)], settings={"output_level": "1 W"})
    found = verdict("Input sensitivity 0.9 V for 40 W", gain)
    assert (found.outcome, found.value) == ("met", pytest.approx(320**0.5 / 10 ** (26 / 20)))
    assert found.uncertainty == pytest.approx(2 * 0.8966 * 0.05 / 8.686, rel=1e-3)
    assert verdict("Input sensitivity 1.2 V for 40 W", gain).outcome is Outcome.NOT_MET
    assert verdict("Input sensitivity 900 mV ±1 % for 40 W", gain).outcome is Outcome.INCONCLUSIVE, (
        "±1.2 % of it is the reading's own"
    )
    alone = verdict("Sensitivity 142 mV", gain)
    assert (alone.outcome, alone.value) == ("met", pytest.approx(8**0.5 / 10 ** (26 / 20)))
    assert "for 1 W" in verdict_words(alone)
    assert verdict("Sensitivity 1 V for 40 W").outcome is Outcome.INCONCLUSIVE
    assert verdict("Sensitivity 1 V for 40 W").proposal.settings == {"output_level": "40 W"}


@pytest.mark.parametrize(
    "text",
    [
        "THD+N < 0.01 %, 1 kHz, 5 W",
        "THD 0.1 %, 20 Hz - 20 kHz, 5 W",
        "SNR 110 dB(A) re 2 V",
        "frequency response 20 Hz-20 kHz ±0.5 dB",
        "4 × 50 W at 10 %",
        "Sensitivity 1.2 V for 40 W",
        "Crosstalk -90 dB at 10 kHz",
        "latency 3.4 ms at 64 samples",
        "CCIF 19+20 kHz: -90 dB",
        "Gain 26 dB",
        "SINAD 96 dB",
        "Noise 12 µV A-weighted",
        "DNR 110 dB (A)",
    ],
)
def test_what_is_offered_can_be_measured(text):
    """The offered settings are settings of the offered procedure."""
    offer = verdict(text).proposal
    made = make_settings(procedure(offer.procedure).Settings, offer.settings)
    assert set(offer.settings) <= set(type(made).model_fields)


def test_a_ratio_re_a_level_that_nobody_named_or_reached_decides_nothing():
    """100 dB re 12.65 V are 81 dB re 1.41 V: which is claimed, and whether the unit delivers it, must be known."""
    at = {"band_low_hz": 20.0, "band_high_hz": 20000.0, "reference": "12.65 V"}
    noise = run("noise", [Reading("snr_a", 1, 100.0, "dB", at)], settings={"reference_level": "12.65 V"})
    for limit in (80, 120):  # neither met nor missed by a level that was only assumed
        found = verdict(f"SNR {limit} dB(A)", noise)
        assert (found.outcome, found.reason) == (Outcome.INCONCLUSIVE, Reason.REFERENCE_ASSUMED)
        assert "does not state the reference level" in verdict_words(found)
        found = verdict(f"SNR {limit} dB(A) re 12.65 V", noise)
        assert (found.outcome, found.reason) == (Outcome.INCONCLUSIVE, Reason.REFERENCE_NOT_REACHED)
        assert "the output reached that level in no run" in verdict_words(found)
    low = replace(noise, highest_output=lambda: 1.41)
    assert verdict("SNR 80 dB(A) re 12.65 V", low).reason is Reason.REFERENCE_NOT_REACHED
    uncalibrated = replace(noise, chain=Chain(rate=48000), highest_output=lambda: 12.7)
    assert verdict("SNR 80 dB(A) re 12.65 V", uncalibrated).outcome is Outcome.INCONCLUSIVE
    high = replace(noise, highest_output=lambda: 12.65)
    assert verdict("SNR 80 dB(A) re 12.65 V", high).outcome is Outcome.MET
    assert verdict("SNR 120 dB(A) re 12.65 V", high).outcome is Outcome.NOT_MET


def test_the_highest_output_is_that_of_tones_and_level_sweeps():
    tone = run(readings=thd_n(-90.0, level=2.0))
    sweep = run("distortion-level", (), [Curve("thd_n", 1, np.array([0.1, 4.5]), np.array([-80.0, -60]), "V", "dB")])
    assert tone.own_highest_output() == 2.0
    assert sweep.own_highest_output() == 4.5
    assert run("noise").own_highest_output() is None
