"""Files that were cut off, or damaged in the middle, in every format that the library writes.

Source: libsndfile writes them.
"""

import random

import numpy as np
import pytest
import soundfile

from epidote.audio.files.sound_file import read_sound
from epidote.core.errors import UnusableInputError

FORMATS = ("WAV", "AIFF", "W64", "RF64", "CAF", "AU", "FLAC")
SAMPLES = np.random.default_rng(1).uniform(-0.5, 0.5, (20000, 2))


@pytest.fixture(params=FORMATS)
def file(request, tmp_path):
    path = tmp_path / f"take.{request.param.lower()}"
    soundfile.write(path, SAMPLES, 48000, format=request.param, subtype="PCM_24")
    return path


def test_a_whole_file_is_read_whole(file):
    assert read_sound(file).samples == pytest.approx(SAMPLES, abs=2**-23)


@pytest.mark.parametrize("share", [0.25, 0.6, 0.95])
def test_a_file_that_was_cut_off(file, share):
    content = file.read_bytes()
    file.write_bytes(content[: int(share * len(content))])
    with pytest.raises(UnusableInputError, match="truncated|damaged") as caught:
        read_sound(file)
    assert str(caught.value).endswith("copy or export it again.")


def test_a_flac_damaged_in_the_middle(tmp_path):
    """Whatever the decoder makes of it: the samples as they were, or words."""
    path = tmp_path / "take.flac"
    soundfile.write(path, SAMPLES, 48000, subtype="PCM_24")
    whole = path.read_bytes()
    rng = random.Random(1)
    refused = 0
    for _ in range(30):
        content = bytearray(whole)
        at = rng.randrange(len(whole) // 3, len(whole) - 10)
        content[at : at + 8] = bytes(rng.randrange(256) for _ in range(8))
        path.write_bytes(content)
        try:
            read_sound(path)
        except UnusableInputError as error:
            refused += 1
            assert "Nothing was computed" in str(error)
    assert refused > 10


def test_more_after_the_sound_is_no_fault(tmp_path):
    path = tmp_path / "take.wav"
    soundfile.write(path, SAMPLES, 48000, subtype="PCM_24")
    path.write_bytes(path.read_bytes() + b"LIST\x04\x00\x00\x00abcd")
    assert read_sound(path).frames == 20000
