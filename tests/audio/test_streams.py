"""Sound files read a stretch at a time: the same samples as libsndfile gives in one go, wherever the stretch lies."""

import os

import numpy as np
import pytest
import soundfile

from epidote.audio.files.streams import SoundStream
from epidote.core.errors import UnusableInputError

RATE, FRAMES = 48000, 150_000


@pytest.fixture
def file(tmp_path):
    path = tmp_path / "long.flac"
    samples = np.random.default_rng(0).integers(-(2**23), 2**23, (FRAMES, 3)) / 2**23
    soundfile.write(path, samples, RATE, subtype="PCM_24")
    return path


@pytest.mark.parametrize(
    "stretch", [(0, FRAMES), (-500, 1000), (32760, 20), (65000, 70000), (FRAMES - 10, 100), (FRAMES + 5, 8), (-20, 10)]
)
def test_any_stretch_of_any_channel(file, stretch):
    whole, _ = soundfile.read(file)
    first, frames = stretch
    padded = np.concatenate([np.zeros((1000, 3)), whole, np.zeros((1000, 3))])
    wanted = padded[1000 + first : 1000 + first + frames]
    with SoundStream(file) as stream:
        (track,) = stream.tracks
        for number in (1, 2, 3):
            # 24-bit numbers pass the 32-bit floats that are kept without loss
            assert np.array_equal(track.channel(number).read(first, frames), wanted[:, number - 1])
        assert np.array_equal(track.read(first, frames), wanted)


def test_from_and_to(file):
    whole, _ = soundfile.read(file)
    with SoundStream(file, 0.5, 1.25) as stream:
        assert stream.tracks[0].frames == 36000
        assert np.array_equal(stream.tracks[0].channel(2).read(0, 100), whole[24000:24100, 1])
        assert np.array_equal(stream.tracks[0].signal().samples, whole[24000:60000])


def test_what_is_too_long_for_the_machine_is_refused_not_tried(file, monkeypatch):
    with SoundStream(file) as stream:
        monkeypatch.setattr(os, "sysconf", lambda name: 4096 if name == "SC_PAGE_SIZE" else 100)
        with pytest.raises(UnusableInputError, match="too long to load at once"):
            stream.tracks[0].signal()


def test_a_file_that_somebody_writes_to(file):
    with SoundStream(file) as stream:
        stream.require_still()
        with file.open("ab") as out:
            out.write(b"more")
        with pytest.raises(UnusableInputError, match="changed while it was being read"):
            stream.require_still()
