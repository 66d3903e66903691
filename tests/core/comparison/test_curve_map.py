"""Maps over a condition, beamwidth and directivity of sources whose patterns are formulas."""

import json

import numpy as np
import pytest
from scipy.special import j1

from epidote.core.comparison.conditions.curve_map import beamwidth, directivity_index, make_map
from epidote.core.errors import UnusableInputError
from epidote.core.results.result import Curve

X = np.geomspace(200, 8000, 60)


def curve(y):
    return Curve("level", 1, X, np.broadcast_to(np.asarray(y, float), X.shape).copy(), "Hz", "dB")


def piston(angle, radius=0.05, sound=343.2):
    """A piston in a baffle: 2 J1(ka sin θ)/(ka sin θ) (Beranek 1954, from memory)."""
    z = 2 * np.pi * X / sound * radius * np.sin(np.radians(angle))
    return 20 * np.log10(np.maximum(np.abs(np.where(np.abs(z) < 1e-6, 1.0, 2 * j1(z) / np.where(z == 0, 1, z))), 1e-4))


def test_rows_are_in_the_order_of_their_values_and_normalised():
    made = make_map([("30°", curve(-3.0)), ("-30°", curve(-4.0)), ("0°", curve(80.0))], "angle", 0.0)
    assert made.values.tolist() == [-30.0, 0.0, 30.0]
    np.testing.assert_allclose(made.levels[:, 5], [-84.0, 0.0, -83.0], atol=1e-9)
    assert made.unit == "dB"


def test_beamwidth_of_a_piston():
    """-6 dB at ka sin θ = 2.215: J1(2.215)/2.215 = 0.2506."""
    angles = np.arange(-90, 91, 5)
    made = make_map([(f"{a}°", curve(piston(a))) for a in angles], "angle")
    found = beamwidth(made)
    for f in (3000.0, 5000.0):
        expected = 2 * np.degrees(np.arcsin(2.215 / (2 * np.pi * f / 343.2 * 0.05)))
        assert np.interp(f, found.x, found.y) == pytest.approx(expected, abs=1.5)
    half = make_map([(f"{a}°", curve(piston(a))) for a in angles if a >= 0], "angle")
    np.testing.assert_allclose(beamwidth(half).y, found.y, atol=1e-6)


@pytest.mark.parametrize(
    ("pattern", "index"),
    [(lambda t: 0 * t, 0.0), (np.cos, 10 * np.log10(3)), (lambda t: 0.5 * (1 + np.cos(t)), 10 * np.log10(3))],
    ids=["all round", "figure of eight", "cardioid"],
)
def test_directivity_of_known_patterns(pattern, index):
    """Integrals over the sphere: 1, 1/3 for cos², 1/3 for the cardioid's square."""
    rows = []
    for angle in range(0, 181, 5):
        theta = np.radians(angle)
        share = 1.0 if index == 0.0 else abs(float(pattern(theta)))
        rows.append((f"{angle}°", curve(20 * np.log10(max(share, 1e-6)))))
    found = directivity_index(make_map(rows, "angle"))
    np.testing.assert_allclose(found.y, index, atol=0.05)


def test_without_an_axis_or_a_whole_orbit_there_is_no_figure():
    made = make_map([("10°", curve(0.0)), ("20°", curve(-1.0))], "angle")
    assert beamwidth(made) is None
    assert directivity_index(made) is None
    assert directivity_index(make_map([("0°", curve(0.0)), ("90°", curve(-1.0))], "angle")) is None


@pytest.mark.parametrize(
    ("rows", "words"),
    [
        ([("left", curve(0.0)), ("0°", curve(0.0))], "needs numbers"),
        ([("0°", curve(0.0))], "at least two rows"),
        ([("0°", curve(0.0)), ("0°", curve(1.0))], "at least two rows"),
    ],
)
def test_what_makes_no_map_is_refused(rows, words):
    with pytest.raises(UnusableInputError, match=words):
        make_map(rows, "angle")
    with pytest.raises(UnusableInputError, match="No row has angle 45"):
        make_map([("0°", curve(0.0)), ("30°", curve(-1.0))], "angle", 45.0)


def test_on_the_command_line(run, tmp_path):
    import soundfile

    path = tmp_path / "Map.epidote"
    run("study", "new", path)
    rng = np.random.default_rng(0)
    x = 0.02 * rng.standard_normal((3 * 48000, 1))
    for angle, gain in ((0, 1.0), (30, 0.5), (60, 0.25)):
        soundfile.write(tmp_path / "x.wav", gain * x, 48000, subtype="FLOAT")
        run("study", "add", path, "--maker", "Kelwin", "--model", "T2", "--condition", f"angle={angle}°")
        run(
            *("study", "import-recording", path, tmp_path / "x.wav", "--procedure", "band-levels"),
            *("--subject", f"Kelwin T2, angle {angle}°"),
        )
    code, out, err = run("compare", "map", path, "band-levels", "--over", "angle", "--to", "0", "--json")
    assert code == 0, err
    data = json.loads(out)
    assert data["values"] == [0.0, 30.0, 60.0]
    np.testing.assert_allclose(data["levels"][1], -6.02, atol=0.01)
    np.testing.assert_allclose(data["beamwidth"], 60.0, atol=0.3)
    assert data["directivity_index"] is None
    assert "Beamwidth" in run("compare", "map", path, "band-levels")[1]
