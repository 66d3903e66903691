"""Published figures as people write them.

The list is the project's own invention; what each means is common practice, no source.
"""

from __future__ import annotations

import time

import pytest
from hypothesis import given
from hypothesis import strategies as st

from epidote.core.claims import claimed_quantity as q
from epidote.core.claims.claimed_quantity import Bound as S
from epidote.core.comparison.claims.amounts import number_of
from epidote.core.comparison.claims.parser import parse_claim

CLAIMS = [
    (
        "THD+N < 0.005 %, 1 kHz, 1 W, 8 Ω, 20 kHz bandwidth",
        q.THD_N,
        S.AT_MOST,
        {"high": 0.005, "unit": "%", "frequency": 1000, "level": "1 W", "load_ohms": 8, "band_high": 20000},
    ),
    (
        "frequency response 20 Hz-20 kHz ±0.5 dB",
        q.RESPONSE,
        S.WITHIN,
        {"low": -0.5, "high": 0.5, "frequency": 20, "frequency_high": 20000},
    ),
    ("SNR 117 dB(A)", q.SNR, S.AT_LEAST, {"low": 117, "unit": "dB", "weighting": "A"}),
    ("4 × 50 W at 1 %", q.POWER, S.AT_LEAST, {"low": 50, "unit": "W", "channels": 4, "limit_percent": 1}),
    ("latency 3.4 ms at 64 samples", q.LATENCY, S.TYPICAL, {"low": 0.0034, "unit": "s", "buffer": 64}),
    ("THD: 0,003 %", q.THD, S.AT_MOST, {"high": 0.003, "unit": "%"}),
    (
        "Total harmonic distortion less than 0.1% (1 kHz, 10 W, 4 ohms)",
        q.THD,
        S.AT_MOST,
        {"high": 0.1, "load_ohms": 4, "level": "10 W"},
    ),
    ("THD -100 dB @ 1 kHz", q.THD, S.AT_MOST, {"high": -100, "unit": "dB", "frequency": 1000}),
    ("THD+N −94 dB, 1 kHz, −1 dBFS", q.THD_N, S.AT_MOST, {"high": -94, "level": "-1 dBFS"}),
    ("THD and noise ≤ 0.01 % at 2 Vrms", q.THD_N, S.AT_MOST, {"high": 0.01, "level": "2 Vrms"}),
    ("THD + noise: 0.0008 % typ.", q.THD_N, S.TYPICAL, {"low": 0.0008, "high": 0.0008}),
    (
        "THD+N, 20 Hz - 20 kHz, 25 W into 8 Ω: < 0.05 %",
        q.THD_N,
        S.AT_MOST,
        {"frequency": 20, "frequency_high": 20000, "level": "25 W", "high": 0.05},
    ),
    (
        "THD+N at 1 kHz (22 Hz – 22 kHz) 0.002 %",
        q.THD_N,
        S.AT_MOST,
        {"frequency": 1000, "band_low": 22, "band_high": 22000},
    ),
    ("thd+n 3 ppm", q.THD_N, S.AT_MOST, {"high": 3, "unit": "ppm"}),
    ("Harmonic distortion under 1 % up to 90 W", q.THD, S.AT_MOST, {"high": 1, "level": "90 W"}),
    ("THD+N: 100 dB", q.THD_N, S.AT_MOST, {"high": -100}),
    (
        "Frequency response: 10 Hz to 40 kHz (+0/-3 dB)",
        q.RESPONSE,
        S.WITHIN,
        {"low": -3, "high": 0, "frequency": 10, "frequency_high": 40000},
    ),
    ("Frequency response 5 Hz … 80 kHz, -3 dB", q.RESPONSE, S.WITHIN, {"low": -3, "high": None}),
    (
        "Freq. response 20-20,000 Hz +/- 0.2 dB",
        q.RESPONSE,
        S.WITHIN,
        {"low": -0.2, "high": 0.2, "frequency_high": 20000},
    ),
    ("response 20 Hz–20 kHz +0.1, −0.3 dB", q.RESPONSE, S.WITHIN, {"low": -0.3, "high": 0.1}),
    ("Frequency range 40 Hz to 22 kHz ±3dB", q.RESPONSE, S.WITHIN, {"frequency": 40, "high": 3}),
    ("Passband 1–20 kHz ± 0,05 dB", q.RESPONSE, S.WITHIN, {"frequency": 1000, "frequency_high": 20000, "high": 0.05}),
    (
        "Signal to noise ratio: > 110 dB, A-weighted, re 1 W",
        q.SNR,
        S.AT_LEAST,
        {"low": 110, "weighting": "A", "level": "1 W"},
    ),
    ("S/N 98 dB (unweighted)", q.SNR, S.AT_LEAST, {"low": 98, "weighting": "none"}),
    ("S/N ratio ≥ 105 dBA", q.SNR, S.AT_LEAST, {"low": 105, "weighting": "A"}),
    ("SNR, 20 Hz-20 kHz, 2 V: 112 dB", q.SNR, S.AT_LEAST, {"band_low": 20, "band_high": 20000, "level": "2 V"}),
    ("Signal-to-noise ratio better than 100 dB", q.SNR, S.AT_LEAST, {"low": 100}),
    ("Dynamic range 120 dB (A)", q.DYNAMIC_RANGE, S.AT_LEAST, {"low": 120, "weighting": "A"}),
    ("DNR: 113 dB typ", q.DYNAMIC_RANGE, S.TYPICAL, {"low": 113, "high": 113}),
    ("Dynamic range >= 108 dB, CCIR", q.DYNAMIC_RANGE, S.AT_LEAST, {"weighting": "468"}),
    ("SINAD 96 dB", q.SINAD, S.AT_LEAST, {"low": 96}),
    ("Output noise 12 µV A-weighted", q.NOISE, S.AT_MOST, {"high": 12e-6, "unit": "V", "weighting": "A"}),
    ("Noise < -95 dBu, 20 kHz BW", q.NOISE, S.AT_MOST, {"high": -95, "unit": "dBu", "band_high": 20000}),
    ("residual noise max. 40 uV", q.NOISE, S.AT_MOST, {"high": 40e-6}),
    ("Noise floor −118 dBV (A)", q.NOISE, S.AT_MOST, {"high": -118, "weighting": "A"}),
    ("Hum and noise 0.3 mV", q.NOISE, S.AT_MOST, {"high": 0.3e-3}),
    ("Idle noise -109 dBFS, bandwidth 22 kHz", q.NOISE, S.AT_MOST, {"high": -109, "unit": "dBFS", "band_high": 22000}),
    ("Crosstalk -90 dB at 1 kHz", q.CROSSTALK, S.AT_MOST, {"high": -90, "frequency": 1000}),
    ("Channel separation > 75 dB @ 10 kHz", q.CROSSTALK, S.AT_MOST, {"high": -75, "frequency": 10000}),
    ("Cross-talk: < −100 dB", q.CROSSTALK, S.AT_MOST, {"high": -100}),
    (
        "Separation 60 dB, 20 Hz to 20 kHz",
        q.CROSSTALK,
        S.AT_MOST,
        {"high": -60, "frequency": 20, "frequency_high": 20000},
    ),
    (
        "2x100 W into 4 Ω at 1% THD+N",
        q.POWER,
        S.AT_LEAST,
        {"low": 100, "channels": 2, "load_ohms": 4, "limit_percent": 1},
    ),
    (
        "Output power: 40 W per channel, 8 ohm, 0.1 % THD, 1 kHz",
        q.POWER,
        S.AT_LEAST,
        {"low": 40, "limit_percent": 0.1, "frequency": 1000, "load_ohms": 8},
    ),
    ("Rated power 1.2 kW @ 2 Ω", q.POWER, S.AT_LEAST, {"low": 1200, "load_ohms": 2}),
    ("Power 250 mW into 32 Ω", q.POWER, S.AT_LEAST, {"low": 0.25, "load_ohms": 32}),
    ("60 watts into 8 ohms", q.POWER, S.AT_LEAST, {"low": 60, "load_ohms": 8}),
    ("Max. output level +24 dBu", q.OUTPUT, S.AT_LEAST, {"low": 24, "unit": "dBu"}),
    ("Output level 2.1 Vrms, 10 kΩ", q.OUTPUT, S.AT_LEAST, {"low": 2.1, "load_ohms": 10000}),
    ("Maximum output voltage 11 V at 0.1 % THD", q.OUTPUT, S.AT_LEAST, {"low": 11, "limit_percent": 0.1}),
    ("Gain 26 dB", q.GAIN, S.TYPICAL, {"low": 26, "high": 26}),
    ("Voltage gain: 29 dB ± 0.5 dB", q.GAIN, S.WITHIN, {"low": 28.5, "high": 29.5, "unit": "dB"}),
    ("29 ±1 dB gain, 1 kHz", q.GAIN, S.WITHIN, {"low": 28, "high": 30, "frequency": 1000}),
    (
        "Round trip latency 3.4 ms ± 0.2 ms at 64 samples",
        q.LATENCY,
        S.WITHIN,
        {"low": 0.0032, "high": 0.0036, "buffer": 64},
    ),
    ("Output level 4 dBu ±1 dB", q.OUTPUT, S.WITHIN, {"low": 3, "high": 5, "unit": "dBu"}),
    (
        "Input sensitivity 1.2 V for 40 W",
        q.SENSITIVITY,
        S.TYPICAL,
        {"low": 1.2, "high": 1.2, "unit": "V", "level": "40 W"},
    ),
    ("Sensitivity: 775 mV ± 10 % for 20 V", q.SENSITIVITY, S.WITHIN, {"low": 0.6975, "high": 0.8525, "level": "20 V"}),
    (
        "Bandwidth 5 Hz - 80 kHz (-3 dB)",
        q.RESPONSE,
        S.WITHIN,
        {"low": -3, "high": None, "frequency": 5, "frequency_high": 80000},
    ),
    ("20 Hz - 20 kHz, +0/-0.5 dB", q.RESPONSE, S.WITHIN, {"low": -0.5, "high": 0, "frequency": 20}),
    (
        "Dynamic range 120 dB A, 20 kHz bandwidth",
        q.DYNAMIC_RANGE,
        S.AT_LEAST,
        {"low": 120, "weighting": "A", "band_high": 20000},
    ),
    ("Gain 20x", q.GAIN, S.TYPICAL, {"unit": "dB", "low": pytest.approx(26.0206, abs=1e-4)}),
    ("Channel balance ±0.2 dB", q.BALANCE, S.WITHIN, {"low": -0.2, "high": 0.2}),
    ("Channel matching < 0.1 dB", q.BALANCE, S.AT_MOST, {"high": 0.1}),
    (
        "Round-trip latency 5.1 ms (128 samples, 48 kHz)",
        q.LATENCY,
        S.TYPICAL,
        {"low": 0.0051, "buffer": 128, "rate": 48000},
    ),
    ("Latency < 2 ms @ 96 kHz, buffer 32", q.LATENCY, S.AT_MOST, {"high": 0.002, "rate": 96000, "buffer": 32}),
    ("Latency: 37 samples", q.LATENCY, S.TYPICAL, {"low": 37, "unit": "samples"}),
    ("Delay max 900 µs", q.LATENCY, S.AT_MOST, {"high": pytest.approx(900e-6)}),
    (
        "IMD < 0.01 %, 60 Hz + 7 kHz, 4:1",
        q.MODULATION,
        S.AT_MOST,
        {"high": 0.01, "frequency": 60, "frequency_high": 7000},
    ),
    ("Intermodulation distortion 0.02 %", q.MODULATION, S.AT_MOST, {"high": 0.02}),
    ("CCIF 19+20 kHz: -90 dB", q.DIFFERENCE, S.AT_MOST, {"high": -90, "frequency": 19000, "frequency_high": 20000}),
    ("SMPTE 0.005 % at 10 W", q.MODULATION, S.AT_MOST, {"level": "10 W"}),
    (
        "THD+N 0.9 % max, 1 kHz, 0.5 W, 16 Ω, A-weighted",
        q.THD_N,
        S.AT_MOST,
        {"weighting": "A", "load_ohms": 16, "level": "0.5 W"},
    ),
    ("THD+N (1 kHz, 1 W): typically 0.004 %", q.THD_N, S.TYPICAL, {"low": 0.004, "frequency": 1000}),
    ("SNR 96.5 dB, 468", q.SNR, S.AT_LEAST, {"low": 96.5, "weighting": "468"}),
    (
        "Frequency response 20 Hz to 20 kHz, ± 1 dB, 1 W, 8 Ω",
        q.RESPONSE,
        S.WITHIN,
        {"high": 1, "level": "1 W", "load_ohms": 8},
    ),
]


@pytest.mark.parametrize(("text", "claimed", "sense", "fields"), CLAIMS, ids=[c[0] for c in CLAIMS])
def test_understood(text, claimed, sense, fields):
    found = parse_claim(text)
    if sense is None:  # two figures: it asks
        assert found.claim is None
        assert "Which" in found.words
        return
    assert found.claim is not None, found.words
    assert (found.claim.claimed, found.claim.sense) == (claimed, sense), found.words
    for name, value in fields.items():
        assert getattr(found.claim, name) == (pytest.approx(value) if isinstance(value, float) else value), (
            name,
            found.words,
        )


def test_there_are_enough_of_them():
    assert len({c[0] for c in CLAIMS}) >= 60


@pytest.mark.parametrize(
    ("text", "asks"),
    [
        ("very low distortion", "The value is missing"),
        ("0.005 %", "The quantity is missing"),
        ("THD+N excellent at 1 W", "The value is missing"),
        ("SNR 110 dB / 98 dB", "More than one value"),
        ("THD 0.1 %, 5 W, 2 V", "More than one level found: 5 W, 2 V"),
        ("THD 0.01 %, mode 7b", "“mode 7b” was not understood"),
        ("Gain 29 dB ±5 %", "“29 dB ±5 %” was not understood"),
        ("THD 0.1 % ±1 dB", "“0.1 % ±1 dB” was not understood"),
        ("20 Hz - 20 kHz", "The quantity is missing"),
        ("", "The quantity is missing"),
    ],
)
def test_what_is_not_clear_is_asked(text, asks):
    found = parse_claim(text)
    assert found.claim is None
    assert asks.lower() in found.words.lower()


@pytest.mark.parametrize("row", CLAIMS, ids=[c[0] for c in CLAIMS])
def test_its_own_words_mean_the_same_again(row):
    """What is shown as understood reads back as the same claim."""
    claim = parse_claim(row[0]).claim
    again = parse_claim(claim.words).claim
    assert again is not None, parse_claim(claim.words).words
    for name in (
        "claimed",
        "sense",
        "low",
        "high",
        "unit",
        "frequency",
        "frequency_high",
        "band_high",
        "weighting",
        "load_ohms",
    ):
        assert getattr(again, name) == (pytest.approx(v) if isinstance(v := getattr(claim, name), float) else v), (
            name,
            claim.words,
        )


@pytest.mark.parametrize(
    ("text", "unit", "value"),
    [
        ("20,000", "Hz", 20000),
        ("0,005", "%", 0.005),
        ("1.234,5", "Hz", 1234.5),
        ("1,234.5", "W", 1234.5),
        ("2,5", "V", 2.5),
        ("1e-3", "V", 1e-3),
    ],
)
def test_commas(text, unit, value):
    assert number_of(text, unit) == value


@given(
    st.lists(
        st.sampled_from(
            [
                "1",
                "0.",
                "1,",
                "THD",
                "SNR",
                " dB",
                "%",
                " at ",
                "±",
                "-",
                "Hz",
                "k",
                " 1 W",
                "Ω",
                "e",
                "to ",
                "<",
                "(",
                "/",
                "+",
                "bandwidth ",
                "typ",
                "9" * 30,
            ]
        ),
        max_size=150,
    ).map("".join)
)
def test_any_text_is_understood_or_asked_about(text):
    found = parse_claim(text)
    assert (found.claim is None) == bool(found.questions)
    assert all(q.endswith((".", "?")) for q in found.questions)


@pytest.mark.parametrize(
    "make",
    [lambda n: "1" * n, lambda n: "THD " + "0." * n, lambda n: "SNR " + "1," * n, lambda n: "THD 0.1 %" + " 1 W" * n],
)
def test_the_time_does_not_grow_with_the_digits(make):
    """Work counted by the clock of the process, long texts compared with short ones: quadratic would be a hundred
    times as much.
    """

    def seconds(n: int) -> float:
        begun = time.process_time()
        for _ in range(20):
            parse_claim(make(n))
        return time.process_time() - begun

    assert seconds(2000) < 20 * seconds(20) + 0.2


def test_what_is_too_long_is_said_with_its_number():
    assert "has 500 characters; a claim has at most 400" in parse_claim("THD " + "x" * 496).words
    assert "too many digits" in parse_claim("THD 0." + "1" * 40 + " %").words
    assert "“1.2.3” is not a number" in parse_claim("THD 1.2.3 %").words
