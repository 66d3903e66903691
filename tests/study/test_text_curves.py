"""Curves as text: what people's programs write, invented here, and what is no curve.

Separators and commas: common practice, no source.
"""

from __future__ import annotations

import time

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from epidote.core.errors import UnusableInputError
from epidote.core.results.result import Curve, curve_fault
from epidote.study.interchange.claims_csv import read_claims
from epidote.study.interchange.curve_text import TextOptions, parse_text_curve, read_text_curve, text_of, text_readings

WRITTEN = {
    "tabs": "20\t-1.5\t12\n1000\t0\t0\n20000\t-3.25\t-40\n",
    "semicolons and commas": "Frequenz;Pegel;Phase\n20,0;-1,5;12\n1000,0;0,0;0\n20000,0;-3,25;-40\n",
    "spaces, decimal commas": "* made by hand\n20,0 -1,5 12,0\n1000,0  0,0 0,0\n20000,0 -3,25 -40,0\n",
    "commas": '"Freq (Hz)","dB","deg"\n20,-1.5,12\n1000,0,0\n20000,-3.25,-40\n',
    "comma and space": "# x\n20, -1.5, 12\n1000, 0, 0\n20000, -3.25, -40\n",
    "kHz, out of order": "freq [kHz]\tlevel [dB]\tphase\n1\t0\t0\n0.02\t-1.5\t12\n20\t-3.25\t-40\n",
    "exponents, a remark in between, DC": "! head\n0 -60 0\n2.0e1 -1.5 12\n# here\n1e3 0 0\n2E4 -3.25 -40\n",
    "windows line ends and a mark": "\ufeff20\t-1.5\t12\r\n1000\t0\t0\r\n\r\n20000\t-3.25\t-40\r\n",
    "radians": f"Hz dB rad\n20 -1.5 {np.radians(12)}\n1000 0 0\n20000 -3.25 {np.radians(-40)}\n",
}


@pytest.mark.parametrize("name", WRITTEN)
def test_read_alike(name):
    level, phase = parse_text_curve(WRITTEN[name], name)
    assert level.x == pytest.approx([20, 1000, 20000])
    assert level.y == pytest.approx([-1.5, 0, -3.25])
    assert phase.y == pytest.approx([12, 0, -40])


def test_without_a_phase_and_with_a_unit():
    level, phase = parse_text_curve("Hz dB SPL\n100 80\n200 85\n", "x")
    assert (level.y_unit, phase) == ("dB SPL", None)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("", "no curve"),
        ("hello\nworld\n", "no curve"),
        ("1\n2\n3\n", "line 1"),
        ("100 1\n100 2\n", "one frequency"),
        ("20 1\n30 x\n", "line 2"),
    ],
)
def test_what_is_no_curve_is_refused_by_its_line(text, words):
    with pytest.raises(UnusableInputError, match=words):
        parse_text_curve(text, "file.txt")


@pytest.mark.parametrize("separator", ["\t", " ", ";", ", "])
def test_out_and_in_again(separator):
    x = np.geomspace(20, 20000, 50)
    level = Curve("level", 1, x, np.sin(np.log(x)), "Hz", "dB")
    phase = Curve("phase", 1, x, 90 * np.cos(np.log(x)), "Hz", "°")
    again, turned = parse_text_curve(text_of(level, phase, ["a note; with a semicolon"], separator), "again")
    assert again.y == pytest.approx(level.y, abs=1e-8)
    assert turned.y == pytest.approx(phase.y, abs=1e-7)


@pytest.mark.parametrize(
    ("text", "words"),
    [
        ("{}", "no “level” curve"),
        ('{"curves": [{"key": "level"}]}', "not a JSON file of curves"),
        ("{", "not valid JSON"),
    ],
)
def test_json_that_holds_no_curve(tmp_path, text, words):
    (tmp_path / "a.json").write_text(text)
    with pytest.raises(UnusableInputError, match=words):
        read_text_curve(tmp_path / "a.json")


def test_our_own_csv_comes_in_again(tmp_path):
    """The first curve of an exported CSV, under its comments."""
    (tmp_path / "c.csv").write_text(
        '# P40: response {"a": 1, "b": 2}\nx (Hz),"P40, channel 1, level (dB)"\n20.0,-1.5\n1000.0,0.0\n'
    )
    assert read_text_curve(tmp_path / "c.csv")[0].y == pytest.approx([-1.5, 0])


def test_claims_from_files(tmp_path):
    (tmp_path / "a.csv").write_text("claim;source\nSNR 110 dB(A);leaflet\nTHD 0,01 %;leaflet\n")
    (tmp_path / "b.csv").write_text("# leaflet\nTHD+N < 0.005 %, 1 kHz, 1 W\nGain 26 dB\n")
    (tmp_path / "c.csv").write_text('quantity,figure,conditions,source\nTHD+N,< 0.005 %,"1 kHz, 1 W",page 3\n')
    assert read_claims(tmp_path / "a.csv") == [("SNR 110 dB(A)", "leaflet"), ("THD 0,01 %", "leaflet")]
    assert read_claims(tmp_path / "b.csv") == [("THD+N < 0.005 %, 1 kHz, 1 W", ""), ("Gain 26 dB", "")]
    assert read_claims(tmp_path / "c.csv") == [("THD+N, < 0.005 %, 1 kHz, 1 W", "page 3")]
    (tmp_path / "d.csv").write_text("\n")
    with pytest.raises(UnusableInputError, match="no claims"):
        read_claims(tmp_path / "d.csv")


SAME = ([20, 1000, 20000], [-1.5, 0, -3.25])


@pytest.mark.parametrize(
    "text",
    [
        "20, -1.5\n1000, 0\n20000, -3.25\n",
        "20,-1.5\n1000,0\n20000,-3.25\n",
        "20 \u22121.5\n1000 0\n20000 \u22123.25\n",
        "20\u00a0-1.5\n1000\u00a00\n20000\u00a0-3.25\n",
        "20.0\t-1.5\t\n1000\t0\t\n20000\t-3.25\t\n",
        "1,000 0\n20.0 -1.5\n20,000 -3.25\n",
        "# every 0.5 kHz or so\n20 -1.5\n1000 0\n20000 -3.25\n",
        '"20","-1.5"\n"1000","0"\n"20000","-3.25"\n',
        "20;-1,5\n1000;0\n20000;-3,25\n",
        "20.5e0 -1\n20 -1.5\n1000 0\n20000 -3.25\n".replace("20.5e0 -1\n", ""),
    ],
)
def test_common_ways_of_writing_are_read(text):
    level, phase = parse_text_curve(text, "x")
    assert (level.x.tolist(), level.y.tolist(), phase) == (*SAME, None)


@pytest.mark.parametrize("coding", ["utf-16", "utf-16-le", "utf-16-be", "utf-8-sig", "cp1252"])
def test_codings(tmp_path, coding):
    (tmp_path / "a.txt").write_bytes("* Größe\n20 -1.5\n1000 0\n20000 -3.25\n".encode(coding))
    assert read_text_curve(tmp_path / "a.txt")[0].y.tolist() == SAME[1]


@pytest.mark.parametrize(
    ("text", "option", "answers"),
    [
        ("20,0, -1,5\n1000,0, 0,0\n20000,0, -3,25\n", "--decimal", {TextOptions(decimal="comma"): SAME[1]}),
        (
            "20,0,-1,5\n1000,0,0,0\n20000,0,-3,25\n",
            "--decimal",
            {TextOptions(decimal="comma"): SAME[1], TextOptions(decimal="point"): [0, 0, 0]},
        ),
        ("1,000 0\n2,000 -1\n20,000 -3\n", "--decimal", {TextOptions(decimal="comma"): [0, -1, -3]}),
        (
            "1 20 -1.5\n2 1000 0\n3 20000 -3.25\n",
            "--frequency-column",
            {TextOptions(first=2): SAME[1], TextOptions(first=1): [20, 1000, 20000]},
        ),
        (
            "0.02 -1.5\n1 0\n20 -3.25\n",
            "--frequency-unit",
            {TextOptions(frequency="kHz"): SAME[1], TextOptions(frequency="Hz"): SAME[1]},
        ),
    ],
)
def test_where_two_readings_are_possible_nothing_is_guessed(text, option, answers):
    with pytest.raises(UnusableInputError, match=f"Nothing was read; decide with .*{option}") as caught:
        parse_text_curve(text, "file.txt")
    assert "ways:" in str(caught.value)
    for options, expected in answers.items():
        assert parse_text_curve(text, "file.txt", options)[0].y.tolist() == expected


def test_khz_counts_only_in_the_head_of_the_column():
    assert parse_text_curve("# measured to 20 kHz\n20 1\n1000 2\n", "x")[0].x.tolist() == [20, 1000]
    assert parse_text_curve("f/kHz;dB\n0.02;1\n1;2\n", "x")[0].x.tolist() == [20, 1000]


def test_every_reading_says_what_was_understood():
    found = text_readings("20,0,-1,5\n1000,0,0,0\n20000,0,-3,25\n30000,0,-4,25\n", "x")
    assert [r.words for r in found] == [
        "comma-separated, decimal point, frequency in Hz",
        "comma-separated, decimal comma, frequency in Hz",
    ]
    assert found[1].preview == "20 Hz: -1.5 dB, 1 kHz: 0 dB … 30 kHz: -4.25 dB"


def test_the_time_grows_with_the_length_only():
    """Many columns took a time that doubled with each of them."""

    def seconds(columns: int) -> float:
        text = "\n".join(" ".join(["1"] * (columns - 1) + ["x"]) for _ in range(20))
        begun = time.process_time()
        with pytest.raises(UnusableInputError):
            parse_text_curve(text, "x")
        return time.process_time() - begun

    assert seconds(4000) < 100 * seconds(40) + 1


@given(st.text(alphabet="0123456789.,;+-eE \t\n#kHz\u2212", max_size=300))
def test_any_text_gives_curves_or_words(text):
    try:
        found = text_readings(text, "file")
    except UnusableInputError as error:
        assert str(error).endswith(".")
    else:
        assert all(curve_fault(r.level) == "" for r in found)
