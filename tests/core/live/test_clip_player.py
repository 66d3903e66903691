"""Clips on one time axis: what sounds when, without a click. Expected values by hand from the clips themselves."""

import numpy as np
import pytest

from epidote.core.errors import SettingError
from epidote.core.live.clip_player import CROSSFADE, ClipPlayer, PlayOrder
from tests.conftest import sine

RATE = 48000
FADE = round(CROSSFADE * RATE)
FRAMES = RATE


def played(player, frames, block=512):
    return np.concatenate([player.next(min(block, frames - done)) for done in range(0, frames, block)])


@pytest.fixture
def tones():
    """Three clips (frames, 2) of peak 0.5: the same tone, half of it, and another tone."""
    first = sine(1000.0, 0.5, FRAMES, RATE, 0.0)
    return [np.stack([x, -x], axis=1) for x in (first, 0.5 * first, sine(1500.0, 0.5, FRAMES, RATE, 0.0))]


def test_a_clip_sounds_at_the_wished_peak_once_the_gate_is_open(tones):
    player = ClipPlayer(RATE, 2, 0.0, tones)
    assert not played(player, 1000).any()
    player.order(PlayOrder(0, True, level=-20.0))
    out = played(player, 4800)
    np.testing.assert_allclose(out[FADE:], 0.2 * tones[0][FADE:4800], atol=1e-9)
    assert np.abs(np.diff(out[:, 0])).max() < 0.1 * 2 * np.pi * 1000 / RATE * 1.2


def test_switching_goes_on_at_the_same_place_within_the_crossfade(tones):
    player = ClipPlayer(RATE, 2, 0.0, tones)
    player.order(PlayOrder(0, True, level=0.0))
    begin = played(player, 10_000)
    player.order(PlayOrder(1, True, level=0.0))
    after = played(player, 5_000)
    np.testing.assert_allclose(after[FADE:], 2 * tones[1][10_000 + FADE : 15_000], atol=1e-9)
    # on the way from a clip to half of it, what sounds is the tone times what the raised cosine says
    share = 0.5 - 0.5 * np.cos(np.pi * np.arange(1, FADE + 1) / FADE)
    np.testing.assert_allclose(after[:FADE, 0], 2 * tones[0][10_000 : 10_000 + FADE, 0] * (1 - share / 2), atol=1e-9)
    assert np.array_equal(begin[-1], 2 * tones[0][9_999])


def test_switching_among_equal_clips_changes_nothing_at_all(tones):
    """However quickly one switches: a listener must not hear the switch itself."""
    player = ClipPlayer(RATE, 2, 0.0, [tones[0]] * 3)
    player.order(PlayOrder(0, True, level=0.0))
    played(player, 2048)
    out = []
    for number in (1, 2, 0, 2, 1, 0):
        player.order(PlayOrder(number, True, level=0.0))
        out.append(played(player, 300, block=100))
    joined = np.concatenate(out)
    np.testing.assert_allclose(joined, 2 * tones[0][2048 : 2048 + joined.shape[0]], atol=1e-9)


def test_the_loop_comes_back_without_a_click(tones):
    player = ClipPlayer(RATE, 2, 0.0, tones)
    player.order(PlayOrder(2, True, 0.25, 0.5, 0.0))
    out = played(player, 60_000)
    assert 12_000 <= player.place < 24_000
    steepest = 2 * np.pi * 1500 / RATE
    assert np.abs(np.diff(out[:, 0])).max() < 1.1 * steepest
    inside = out[FADE + 12_000 : 24_000, 0]  # the second time round, after its crossfade
    np.testing.assert_allclose(inside, 2 * tones[2][12_000 + FADE : 24_000, 0], atol=1e-9)


def test_pausing_keeps_the_place_and_a_jump_leaves_it(tones):
    player = ClipPlayer(RATE, 2, 0.0, tones)
    player.order(PlayOrder(0, True))
    played(player, 10_000)
    player.order(PlayOrder(0, False))
    out = played(player, 4_800)
    assert not out[FADE:].any()
    assert player.place == pytest.approx(10_000 + FADE, abs=512)
    player.order(PlayOrder(0, False, jump=0.625))
    assert player.place == 30_000
    player.order(PlayOrder(0, True))
    played(player, 512)
    player.mute()
    assert not played(player, 1024)[512:].any()


def test_no_clip_exceeds_the_ceiling_and_all_share_one_level(tones):
    player = ClipPlayer(RATE, 2, -12.0, tones)
    player.order(PlayOrder(0, True, level=0.0))
    loud = played(player, 9600)
    assert np.abs(loud).max() <= 10 ** (-12 / 20) + 1e-12
    player.order(PlayOrder(1, True, level=0.0))
    half = played(player, 9600)[4800:]
    assert np.abs(half).max() == pytest.approx(10 ** (-12 / 20) / 2, rel=1e-6)


def test_channels_and_outputs(tones):
    mono = [clip[:, :1] for clip in tones]
    player = ClipPlayer(RATE, 3, 0.0, mono)
    player.order(PlayOrder(0, True, level=0.0))
    out = played(player, 4800)
    assert np.array_equal(out[:, 0], out[:, 2])
    one = ClipPlayer(RATE, 1, 0.0, tones)
    one.order(PlayOrder(0, True, level=0.0))
    assert played(one, 4800).shape == (4800, 1)


def test_clips_that_are_not_alike_are_refused(tones):
    with pytest.raises(SettingError, match="equal length"):
        ClipPlayer(RATE, 2, 0.0, [tones[0], tones[1][:-1]])
    with pytest.raises(SettingError, match="equal length"):
        ClipPlayer(RATE, 2, 0.0, [tones[0][:100]])
    with pytest.raises(SettingError, match="no clip 4"):
        ClipPlayer(RATE, 2, 0.0, tones).order(PlayOrder(3))
