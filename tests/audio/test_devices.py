"""The simulated devices' own ways, and sound files with every doubt.

What every device keeps to is in contracts/test_device_contract.py.
"""

import struct
import subprocess
import sys

import numpy as np
import pytest
import soundfile

from epidote.audio.device import Wiring
from epidote.audio.files.sound_file import DiskError, encode, is_24_bit, read_sound, write_whole
from epidote.audio.registry import open_device
from epidote.core.errors import SettingError, UnusableInputError
from epidote.core.stimuli.tone import tone
from tests.conftest import dithered, sine

SHORT = tone(rate=48000, frequency=997, duration=0.2, level=-20)


def play(name="standin:wire", stimulus=SHORT, **options):
    device = open_device(
        name,
        Wiring(48000),
        options.pop("conditions", {}),
        seed=options.pop("seed", 1),
        real_time=options.pop("real_time", False),
    )
    told = []
    arguments = {"ceiling_dbfs": 0.0, "progress": told.append, "cancelled": lambda: False} | options
    return device.exchange(stimulus, **arguments), told


def test_a_device_that_is_not_there_names_those_that_are():
    with pytest.raises(SettingError, match="standin:wire"):
        open_device("hw:7", Wiring(48000), {})


def test_the_same_seed_repeats_a_run_exactly():
    one, same, other = (play("standin:ostrel-p40", seed=s)[0].signal.samples for s in (4, 4, 5))
    assert np.array_equal(one, same)
    assert not np.array_equal(one, other)


def test_the_stand_in_is_set_to_the_conditions():
    high, low = (np.std(play("standin:ostrel-p40", conditions={"gain": g})[0].signal.samples) for g in ("high", "low"))
    assert 20 * np.log10(high / low) == pytest.approx(12, abs=0.1)
    eight, two = (np.std(play("standin:havelmar-a25", conditions={"load": f"{r} Ω"})[0].signal.samples) for r in (8, 2))
    assert eight / two == pytest.approx((8 / 8.32) / (2 / 2.32), rel=0.01)


@pytest.mark.parametrize(
    ("kind", "bits", "error"),
    [("WAV", "16", 2.0**-16), ("WAV", "24", 2.0**-24), ("FLAC", "24", 2.0**-24), ("WAV", "32f", 1e-7)],
)
def test_sound_there_and_back(tmp_path, kind, bits, error):
    """Source of the second reading: libsndfile."""
    x = np.column_stack([sine(997, 0.5, 4800, 48000), sine(100, 0.9, 4800, 48000)])
    path = tmp_path / f"a.{kind.lower()}"
    path.write_bytes(encode(x, 48000, kind, bits))
    signal = read_sound(path)
    assert signal.rate == 48000
    assert np.abs(signal.samples - x).max() <= error * 1.01
    assert soundfile.info(path).channels == 2


def test_24_bit_numbers_come_back_exactly(tmp_path):
    x = dithered(sine(997, 0.5, 4800, 48000), 24)[:, None]
    assert is_24_bit(x)
    assert not is_24_bit(x * 0.3)
    path = tmp_path / "a.flac"
    path.write_bytes(encode(x, 48000, "FLAC", "24"))
    assert np.array_equal(read_sound(path).samples, x)


def wav(frames: int) -> bytes:
    return encode(np.zeros((frames, 1)), 48000, "WAV", "16")


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "is empty"),
        (b"this is text, whatever the name says" * 20, "is not a readable audio file"),
        (wav(48000)[:20000], "truncated: only 21 %"),
        (wav(48000)[:30], "is not a readable audio file|no samples|truncated"),
        (wav(0), "contains no samples"),
        (b"RIFF" + struct.pack("<I", 4) + b"WAVE", "is not a readable audio file"),
    ],
    ids=["empty", "text", "cut off", "header only", "no samples", "no format"],
)
def test_bad_files(tmp_path, content, words):
    path = tmp_path / "bad.wav"
    path.write_bytes(content)
    with pytest.raises(UnusableInputError, match=words):
        read_sound(path)


def test_missing_files_and_folders(tmp_path):
    with pytest.raises(UnusableInputError, match="No such file"):
        read_sound(tmp_path / "nowhere.wav")
    with pytest.raises(UnusableInputError, match="is a folder"):
        read_sound(tmp_path)


def test_writing_replaces_whole_files_only(tmp_path, monkeypatch):
    path = tmp_path / "a.txt"
    write_whole(path, b"one")
    monkeypatch.setattr("os.fsync", lambda _: (_ for _ in ()).throw(OSError(28, "No space left on device")))
    with pytest.raises(DiskError, match="The disk is full: a.txt.*Any existing file is unchanged"):
        write_whole(path, b"two")
    assert path.read_bytes() == b"one"
    assert [f.name for f in tmp_path.iterdir() if f.suffix in (".txt", ".part")] == ["a.txt"]


def test_no_code_of_the_current_folder_runs(tmp_path):
    """The process that owns the sound card is a Python of its own: modules that lie where the user happens to be are
    not imported.
    """
    for name in ("json", "sounddevice", "numpy", "epidote", "struct"):
        (tmp_path / f"{name}.py").write_text("open('ran', 'w').close()\n")
    code = "from epidote.audio.soundcard import device; print(len(device.listed_devices()))"
    subprocess.run([sys.executable, "-P", "-c", code], cwd=tmp_path, check=True, capture_output=True)
    assert not (tmp_path / "ran").exists()
