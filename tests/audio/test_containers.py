"""Audio out of containers: tracks made here by FFmpeg's libraries, in a lossless codec, so that what comes back is
known to the bit.
"""

import json

import av
import numpy as np
import pytest
import soundfile

from epidote.audio.files.sound_file import read_sound, read_tracks
from epidote.core.errors import UnusableInputError

RATE = 48000


def pcm(frames, seed=0):
    """16-bit numbers, as whole steps."""
    return np.random.default_rng(seed).integers(-8000, 8000, (1, frames)).astype(np.int16)


def written(path, tracks, titles=(), picture=False):
    with av.open(str(path), "w") as container:
        streams = []
        for n, _ in enumerate(tracks):
            stream = container.add_stream("flac", rate=RATE, layout="mono")
            stream.format = "s16"
            if titles:
                stream.metadata["title"] = titles[n]
            streams.append(stream)
        if picture:
            video = container.add_stream("mpeg4", rate=25)
            video.width = video.height = 64
            video.pix_fmt = "yuv420p"
        for stream, numbers in zip(streams, tracks, strict=True):
            for first in range(0, numbers.shape[1], 4096):
                frame = av.AudioFrame.from_ndarray(
                    np.ascontiguousarray(numbers[:, first : first + 4096]), format="s16", layout="mono"
                )
                frame.rate, frame.pts = RATE, first
                container.mux(stream.encode(frame))
            container.mux(stream.encode(None))
        if picture:
            frame = av.VideoFrame.from_ndarray(np.zeros((64, 64, 3), np.uint8), format="rgb24")
            container.mux(video.encode(frame))
            container.mux(video.encode(None))
    return path


def test_each_track_with_its_name(tmp_path):
    tracks = [pcm(30000, 0), pcm(30000, 1)]
    found = read_tracks(written(tmp_path / "two.mkv", tracks, ("presenter", "guide"), picture=True))
    assert [t.name for t in found] == ["presenter", "guide"]
    for track, numbers in zip(found, tracks, strict=True):
        assert track.signal.rate == RATE
        assert np.array_equal(track.signal.channel(1)[:30000], numbers[0] / 2**15)


def test_a_stretch(tmp_path):
    numbers = pcm(48000)
    container = written(tmp_path / "one.mka", [numbers])
    wave = tmp_path / "one.wav"
    soundfile.write(wave, numbers[0], RATE, subtype="PCM_16")
    for path in (container, wave):
        (track,) = read_tracks(path, 0.25, 0.75)
        assert np.array_equal(track.signal.channel(1), numbers[0, 12000:36000] / 2**15)
    with pytest.raises(UnusableInputError, match="is empty"):
        read_tracks(wave, 2, 1)
    with pytest.raises(UnusableInputError, match="after 5 s"):
        read_tracks(wave, 5)


@pytest.mark.parametrize("ending", ["aiff", "ogg", "flac"])
def test_other_sound_files(tmp_path, ending):
    path = tmp_path / f"a.{ending}"
    soundfile.write(path, pcm(9600)[0] / 2**15, RATE)
    assert read_sound(path).frames == 9600


def test_a_container_without_sound_and_one_that_is_none(tmp_path):
    silent = tmp_path / "film.mkv"
    written(silent, [], picture=True)
    with pytest.raises(UnusableInputError, match="contains no audio, only video"):
        read_tracks(silent)
    letter = tmp_path / "letter.mkv"
    letter.write_text("Dear all, " * 500)
    with pytest.raises(UnusableInputError, match="cannot be decoded"):
        read_tracks(letter)


def test_tracks_of_a_film_against_each_other(tmp_path, run):
    numbers = pcm(96000)
    late = np.concatenate([np.zeros((1, 480), np.int16), numbers[:, :-480]], axis=1)
    path = written(tmp_path / "film.mkv", [numbers, late])
    code, out, err = run("analyse", "paths", str(path), "--json")
    assert code == 0, err
    found = next(r for r in json.loads(out)["readings"] if r["key"] == "delay_samples")
    assert (found["channel"], found["value"]) == (2, pytest.approx(480, abs=1e-3))
