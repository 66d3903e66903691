"""Setting a level by hand: targets as they are typed, and how the indication moves."""

import math

import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.live.aim import SETTLING_S, AimKind, AimMeter, AimState, parse_aim
from epidote.core.quantities.units import QuantityError

CHAIN = Chain(name="Bench", rate=48000, output_full_scale=4.0, input_full_scale=2.0)


@pytest.mark.parametrize(
    ("text", "kind", "wanted"),
    [
        ("0 dB", AimKind.GAIN, 0.0),
        ("-6", AimKind.GAIN, -6.0),
        ("-45 dBFS", AimKind.LEVEL, -45.0),
        # 2 V read 0 dBFS, so 100 mV are 20 lg (0.1 / 2)
        ("100 mV", AimKind.LEVEL, 20 * math.log10(0.05)),
        # 0 dBu is 0.7746 V (IEC 60268-2 has it from 1 mW in 600 Ω)
        ("0 dBu", AimKind.LEVEL, 20 * math.log10(math.sqrt(0.6) / 2)),
    ],
)
def test_targets(text, kind, wanted):
    aim = parse_aim(text, CHAIN.conversion())
    assert aim.kind is kind
    assert aim.wanted == pytest.approx(wanted, abs=1e-4)


@pytest.mark.parametrize("text", ["", "loud", "100 mm", "1 kHz"])
def test_what_is_no_target_is_refused(text):
    with pytest.raises(QuantityError):
        parse_aim(text, CHAIN.conversion())


def test_volts_need_a_calibration():
    with pytest.raises(QuantityError):
        parse_aim("100 mV", Chain(name="Bare", rate=48000).conversion())


def test_small_changes_are_followed_as_a_first_order_average():
    """After one time constant 63.2 % of a step is left behind (1 - 1/e, any textbook of control)."""
    meter, step = AimMeter(), 0.01
    meter.push(0.0, 0.0)
    for n in range(1, round(SETTLING_S / step) + 1):
        state = meter.push(0.5, n * step)
    assert state.off == pytest.approx(0.5 * (1 - 1 / math.e), abs=0.005)
    assert not state.steady


def test_a_turn_of_the_knob_is_followed_at_once_and_then_stands_still():
    meter = AimMeter()
    meter.push(0.0, 0.0)
    assert meter.push(-8.0, 0.2).off == -8.0
    states = [meter.push(-8.0, 0.2 + 0.2 * n) for n in range(1, 12)]
    assert states[-1].steady and states[-1].off == -8.0


def test_noise_of_the_level_hardly_moves_it():
    meter = AimMeter()
    offs = [meter.push(0.3 * (-1) ** n, 0.1 * n).off for n in range(60)]
    assert max(abs(off) for off in offs[30:]) < 0.05


def test_silence_shows_nothing_and_starts_anew():
    meter = AimMeter()
    meter.push(3.0, 0.0)
    assert meter.push(-math.inf, 0.1) is None
    assert meter.push(0.4, 0.2).off == 0.4


def test_tolerances():
    assert AimState(0.49, True).within(0.5)
    assert not AimState(-0.51, True).within(0.5)
    with pytest.raises(SettingError):
        AimState(0.0, True).within(0.0)
