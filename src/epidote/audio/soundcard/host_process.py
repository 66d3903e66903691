"""The process that holds the sound card. It is started by ``soundcard`` and speaks ``frames``.

PortAudio lives here and not in the application: a sound server that dies can hang PortAudio or abort its process, a
window that is being painted must not hold up a block of sound, and a fresh process sees the devices as they are now.
"""

from __future__ import annotations

import collections
import contextlib
import gc
import json
import os
import socket
import sys
import threading
import time
from collections.abc import Iterator
from typing import Any

import numpy as np

from epidote.audio.soundcard import host_protocol as frames
from epidote.core.errors import SettingError
from epidote.core.live.clip_player import ClipPlayer, PlayOrder
from epidote.core.quantities.units import from_db
from epidote.core.signals.signal import Samples
from epidote.core.signals.stimulus import on_outputs
from epidote.core.stimuli.generator import GeneratorSettings, SignalGenerator

RATES = (8000, 16000, 22050, 32000, 44100, 48000, 88200, 96000, 176400, 192000, 352800, 384000)
_LOOKS = 4
_SETTLE = 0.25  # seconds of silence after opening in which complaints are part of starting


def _found(sd: Any) -> Iterator[tuple[int, str, Any]]:
    """(PortAudio's number, host in one word, what it says) of each device."""
    hosts = sd.query_hostapis()
    for index, d in enumerate(sd.query_devices()):
        yield index, str(hosts[d["hostapi"]]["name"]).split()[0], d


def listed() -> list[dict[str, Any]]:
    """Every device with inputs or outputs: host, name, channels, rates it takes."""
    import sounddevice as sd

    result = []
    for index, host, d in _found(sd):
        outputs, inputs = int(d["max_output_channels"]), int(d["max_input_channels"])
        rates = [r for r in RATES if _takes(sd, index, r, min(outputs, 2), min(inputs, 2))]
        result.append(
            {
                "host": host,
                "name": str(d["name"]),
                "outputs": outputs,
                "inputs": inputs,
                "rates": rates,
                "default_rate": float(d["default_samplerate"]),
            }
        )
    return result


def _takes(sd: Any, index: int, rate: int, outputs: int, inputs: int) -> bool:
    try:
        if outputs:
            sd.check_output_settings(index, channels=outputs, dtype="float32", samplerate=rate)
        if inputs:
            sd.check_input_settings(index, channels=inputs, dtype="float32", samplerate=rate)
    except (sd.PortAudioError, ValueError):
        return False
    return True


def _index(sd: Any, options: list[str]) -> int:
    """PortAudio's number of a device, given as host and name: numbers change from process to process, and a busy
    server may not answer at once.
    """
    for _ in range(_LOOKS):
        for index, host, d in _found(sd):
            if [host, str(d["name"])] == options:
                return index
        sd._terminate()
        time.sleep(0.2)
        sd._initialize()
    raise SettingError(f"“{options[1]}” is not connected")


class Host:
    """One open stream: plays a stimulus once or a programme, and sends what comes in while somebody wants it."""

    def __init__(self, to: socket.socket, order: dict[str, Any]) -> None:
        self._to = to
        self._outputs, self._inputs = order["outputs"], order["inputs"]
        self._ceiling = from_db(order["ceiling"])
        self._rate, self._ceiling_dbfs = order["rate"], order["ceiling"]
        self._generator = SignalGenerator(self._rate, len(self._outputs), self._ceiling_dbfs)
        self._clips: ClipPlayer | None = None
        self._gathered: list[Samples] = []  # clips that arrived so far
        self._outgoing: collections.deque[tuple[bytes, bytes]] = collections.deque()
        self._some = threading.Event()
        self._stimulus: Samples | None = None
        self._place = 0
        self._capturing = self._begin = self._muted = False
        import sounddevice as sd

        device = (
            _index(sd, order["recording"]) if order["inputs"] else None,
            _index(sd, order["playing"]) if order["outputs"] else None,
        )
        channels = (max(self._inputs, default=0), max(self._outputs, default=0))
        common: dict[str, Any] = {
            "samplerate": order["rate"],
            "blocksize": order["buffer"] or 0,
            "dtype": "float32",
            "latency": "high",
        }
        if channels[0] and channels[1]:
            self._stream = sd.Stream(device=device, channels=channels, callback=self._both, **common)
        elif channels[0]:
            self._stream = sd.InputStream(device=device[0], channels=channels[0], callback=self._in, **common)
        else:
            self._stream = sd.OutputStream(device=device[1], channels=channels[1], callback=self._out, **common)
        self._stream.start()
        time.sleep(_SETTLE)
        threading.Thread(target=self._send, daemon=True).start()
        latency = self._stream.latency
        frames.send_words(to, {"opened": True, "latency": sum(latency) if isinstance(latency, tuple) else latency})

    # -- on the sound card's thread ----------------------------------------------------------------

    def _in(self, incoming: Any, count: int, when: Any, status: Any) -> None:
        self._both(incoming, None, count, when, status)

    def _out(self, outgoing: Any, count: int, when: Any, status: Any) -> None:
        self._both(None, outgoing, count, when, status)

    def _both(self, incoming: Any, outgoing: Any, count: int, when: Any, status: Any) -> None:
        if self._begin:
            self._begin, self._place, self._capturing = False, 0, True
            self._outgoing.append((frames.BEGUN, b""))
        elif status and self._capturing:
            self._outgoing.append((frames.FAULT, str(status).encode()))
        if outgoing is not None:
            outgoing[:] = 0
            if self._clips is not None:
                self._outgoing.append((frames.PLACE, frames.place_to_bytes(self._clips.place)))
            made = self._next(count)
            np.clip(made, -self._ceiling, self._ceiling, out=made)
            for column, number in enumerate(self._outputs):
                outgoing[:, number - 1] = made[:, column]
        if self._capturing:
            if incoming is not None:
                block = incoming[:, [n - 1 for n in self._inputs]]
            else:
                block = np.zeros((count, 0))
            self._outgoing.append((frames.SAMPLES, frames.to_bytes(block)))
            self._some.set()

    def _next(self, count: int) -> Samples:
        if self._stimulus is None:
            return (self._clips or self._generator).next(count)
        made = np.zeros((count, len(self._outputs)))
        part = self._stimulus[self._place : self._place + count]
        made[: part.shape[0]] = part
        self._place += count
        if self._muted:
            made *= np.linspace(1, 0, count)[:, None]
            self._stimulus, self._muted = None, False
        return made

    # -- on their own threads ----------------------------------------------------------------------

    def _send(self) -> None:
        """Hand on what came in. Runs apart from the sound card's thread, so that a slow reader holds up nothing."""
        while True:
            self._some.wait(0.2)
            self._some.clear()
            while self._outgoing:
                try:
                    frames.send(self._to, *self._outgoing.popleft())
                except OSError:
                    os._exit(0)
            if not self._stream.active:
                with contextlib.suppress(OSError):
                    frames.send_words(self._to, {"lost": True})
                os._exit(0)

    def obey(self) -> None:
        """Take orders until the other side is gone."""
        samples: Samples | None = None
        while (message := frames.receive(self._to)) is not None:
            kind, content = message
            if kind == frames.SAMPLES:
                samples = frames.from_bytes(content, 1)[:, 0]
                continue
            self._carry_out(json.loads(content), samples)
            samples = None

    def _carry_out(self, order: dict[str, Any], samples: Samples | None) -> None:
        match order["do"]:
            case "exchange" if samples is not None:
                self._exchange(samples.reshape(-1, order["columns"]), order["channels"])
            case "listen":
                self._stimulus, self._begin = None, True
            case "play":
                try:
                    self._generator.play(GeneratorSettings.from_json(order["programme"]), samples)
                    self._clips = None
                except SettingError as error:
                    frames.send_words(self._to, {"refused": str(error)})
            case "clip" if samples is not None:
                self._take_clip(samples.reshape(-1, order["columns"]), order["number"], order["of"])
            case "order":
                if self._clips is not None:
                    self._clips.order(PlayOrder.from_json(order["order"]))
            case "mute":
                self._muted = True
                (self._clips or self._generator).mute()
            case "stop":
                self._begin = self._capturing = False
                self._stimulus = self._clips = None
                self._outgoing.append((frames.WORDS, b'{"stopped": true}'))
                self._some.set()

    def _take_clip(self, samples: Samples, number: int, count: int) -> None:
        """Gather clips; with the last one, they take the place of what was played."""
        self._gathered = [*self._gathered[:number], samples]
        if len(self._gathered) == count:
            self._stimulus = None
            self._clips = ClipPlayer(self._rate, len(self._outputs), self._ceiling_dbfs, self._gathered)
            self._gathered = []

    def _exchange(self, samples: Samples, channels: list[int]) -> None:
        """Play samples (frames, 1), the same for all channels, or (frames, channels)."""
        whole = on_outputs(samples, channels, len(self._outputs))
        self._muted = False
        self._stimulus, self._begin = whole, True


def main() -> None:
    """``list`` prints the devices; ``FD`` opens what is ordered over the socket of that number."""
    if sys.argv[1] == "list":
        json.dump(listed(), sys.stdout)
        sys.stdout.flush()
        os._exit(0)
    # a block of sound must not wait for the interpreter's usual turn of 5 ms, nor for its clearing up
    sys.setswitchinterval(2e-4)
    gc.freeze()
    gc.disable()
    to = socket.socket(fileno=int(sys.argv[1]))
    message = frames.receive(to)
    if message is not None:
        try:
            Host(to, json.loads(message[1])).obey()
        except Exception as error:  # noqa: BLE001  whatever PortAudio says goes to the user in words
            with contextlib.suppress(OSError):
                frames.send_words(to, {"refused": f"{error}"})
    os._exit(0)  # PortAudio's own leaving aborts when its server is gone


if __name__ == "__main__":
    main()
