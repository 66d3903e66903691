"""Real sound devices, each held by a process of its own (see ``host_process``) so that nothing a sound server does
can hang or end the application.
"""

from __future__ import annotations

import contextlib
import json
import os
import socket
import subprocess
import sys
import threading
import time
from collections.abc import Sequence
from dataclasses import replace
from typing import Any

import numpy as np

from epidote.audio.device import (
    Cancelled,
    DeviceInfo,
    DeviceLostError,
    Enough,
    FormatRefusedError,
    Progress,
    Wiring,
    playable,
)
from epidote.audio.soundcard import host_protocol as frames
from epidote.core.errors import CancelledError, MeasurementError, SettingError
from epidote.core.live.clip_player import ClipPlayer, PlayOrder
from epidote.core.signals.recording import Recording
from epidote.core.signals.signal import Samples, Signal
from epidote.core.signals.stimulus import Stimulus
from epidote.core.stimuli.generator import GeneratorSettings

PREFIX = "sound:"
_HOST = "epidote.audio.soundcard.host_process"
_LIST_SECONDS, _OPEN_SECONDS, _SILENCE_SECONDS = 15.0, 15.0, 2.0
_GIVEN_UP = "Earlier runs are saved; this run is not. Reconnect the device and measure again."


def sound_cards() -> list[DeviceInfo]:
    """Return the devices that PortAudio finds now; none when the library, or every sound server, is missing."""
    return [_info(d) for d in listed_devices()]


def listed_devices() -> list[dict[str, Any]]:
    """Return the sound devices as a fresh host process lists them."""
    try:
        done = subprocess.run(
            [sys.executable, "-P", "-m", _HOST, "list"],
            capture_output=True,
            timeout=_LIST_SECONDS,
            env=_environment(),
            check=False,
        )
        if done.returncode == 0:
            return list(json.loads(done.stdout))
        return []
    except (subprocess.TimeoutExpired, OSError, ValueError):
        return []


def _environment() -> dict[str, str]:
    return {**os.environ, "JACK_NO_START_SERVER": "1", "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)}


def _info(d: dict[str, Any]) -> DeviceInfo:
    return DeviceInfo(
        _name(d), f"{d['name']} ({d['host']})", "sound card", d["outputs"], d["inputs"], tuple(d["rates"]), 24
    )


def _name(d: dict[str, Any]) -> str:
    return f"{PREFIX}{d['host'].lower()}/{d['name']}"


class SoundCard:
    """An open sound card. ``name`` is one device, or two as "OUT > IN" where a converter each way is used.

    Raises SettingError for a device that is not there, FormatRefusedError for a rate or channels it does not have.
    """

    def __init__(self, name: str, wiring: Wiring, *, ceiling_dbfs: float = 0.0) -> None:
        out, _, into = (part.strip() for part in name.partition(">"))
        listed = listed_devices()
        if not {out, into or out} <= {_name(d) for d in listed}:
            listed = listed_devices()  # a busy sound server may not have answered in time
        playing, recording = _find(out, listed), _find(into or out, listed)
        self._require_fit(playing, recording, wiring)
        self.info = _info(playing)
        self._wiring, self.rate = wiring, wiring.rate
        self._channels = len(wiring.inputs)
        self._latency: float | None = None
        self._faults: list[str] = []
        self._lock = threading.Lock()
        self._ceiling = ceiling_dbfs
        ours, theirs = socket.socketpair()
        self._socket = ours
        with theirs:
            self.process = subprocess.Popen(
                [sys.executable, "-P", "-m", _HOST, str(theirs.fileno())],
                pass_fds=[theirs.fileno()],
                env=_environment(),
                stdin=subprocess.DEVNULL,
                stdout=subprocess.DEVNULL,
                stderr=subprocess.DEVNULL,
            )
        frames.send_words(
            ours,
            {
                "rate": wiring.rate,
                "outputs": wiring.outputs,
                "inputs": wiring.inputs,
                "buffer": wiring.buffer,
                "ceiling": ceiling_dbfs,
                "playing": [playing["host"], playing["name"]],
                "recording": [recording["host"], recording["name"]],
            },
        )
        try:
            ours.settimeout(_OPEN_SECONDS)
            answer = self._words()
        except (DeviceLostError, TimeoutError) as error:
            self.close()
            raise DeviceLostError(f"{self.info.title} did not respond. {_GIVEN_UP}") from error
        if "refused" in answer:
            self.close()
            raise FormatRefusedError(
                f"{self.info.title} could not be opened: {answer['refused']}. Nothing was played; check the device on"
                " the Chain page."
            )
        self._latency = answer["latency"] or None

    @staticmethod
    def _require_fit(playing: dict[str, Any], recording: dict[str, Any], wiring: Wiring) -> None:
        for d, numbers, what in ((playing, wiring.outputs, "outputs"), (recording, wiring.inputs, "inputs")):
            if numbers and max(numbers) > d[what]:
                raise FormatRefusedError(
                    f"“{d['name']}” has {d[what]} {what}; the chain uses number {max(numbers)}. Nothing was played;"
                    " change the channels on the Chain page."
                )
            if round(wiring.rate) not in d["rates"]:
                if len(d["rates"]) < 2:
                    at = f"{d['default_rate'] / 1000:g} kHz"
                else:
                    at = ", ".join(f"{r / 1000:g}" for r in d["rates"]) + " kHz"
                raise FormatRefusedError(
                    f"“{d['name']}” runs at {at}; the chain uses {wiring.rate / 1000:g} kHz. Nothing was played; change"
                    " the sample rate of the chain or of the device."
                )

    # -- one exchange ------------------------------------------------------------------------------

    def exchange(
        self,
        stimulus: Stimulus,
        *,
        ceiling_dbfs: float,
        progress: Progress,
        cancelled: Cancelled,
        enough: Enough | None = None,
    ) -> Recording:
        played = playable(stimulus, self.rate, min(ceiling_dbfs, self._ceiling))
        return Recording(*self._exchanged(played, stimulus.channels, progress, cancelled, stimulus, enough=enough))

    def record(self, seconds: float, *, progress: Progress, cancelled: Cancelled) -> Recording:
        silence = np.zeros((max(1, round(seconds * self.rate)), 1))
        return Recording(*self._exchanged(silence, (), progress, cancelled, None))

    def _exchanged(
        self,
        played: Samples,
        channels: Sequence[int],
        progress: Progress,
        cancelled: Cancelled,
        stimulus: Stimulus | None,
        *,
        enough: Enough | None = None,
    ) -> tuple[Signal, Stimulus | None, tuple[str, ...]]:
        if cancelled():
            raise CancelledError("Stopped before anything was played. Measure again when ready.")
        self._require_open()
        self._faults = []
        whole = played.shape[0]
        self._order({"do": "exchange", "channels": list(channels), "columns": played.shape[1]}, played)
        recorded = np.zeros((whole, self._channels))
        done, begun = 0, False
        self._socket.settimeout(_SILENCE_SECONDS)
        try:
            while done < whole:
                if cancelled():
                    self._order({"do": "mute"})
                    raise CancelledError("Stopped. This run was not saved.")
                kind, content = self._message()
                if kind == frames.BEGUN:
                    begun, done = True, 0
                elif kind == frames.SAMPLES and begun:
                    block = frames.from_bytes(content, self._channels)[: whole - done]
                    recorded[done : done + block.shape[0]] = block
                    done += block.shape[0]
                    progress(done / whole)
                    if enough is not None and enough(Signal(recorded[:done], self.rate)):
                        self._order({"do": "mute"})
                        break
        except TimeoutError as error:
            self.close()
            raise DeviceLostError(f"{self.info.title} stopped delivering audio during the run. {_GIVEN_UP}") from error
        finally:
            if self.process.poll() is None:
                self._order({"do": "stop"})
        words: tuple[str, ...] = ()
        if self._faults:
            words = (f"{len(self._faults)} dropouts reported by the device ({self._faults[0]})",)
        return Signal(recorded[:done], self.rate), stimulus, words

    # -- continuous --------------------------------------------------------------------------------

    def listen(self, *, ceiling_dbfs: float) -> SoundCardLive:
        self._require_open()
        self._faults = []
        self._order({"do": "listen"})
        self._socket.settimeout(_SILENCE_SECONDS)
        return SoundCardLive(self, min(ceiling_dbfs, self._ceiling))

    def latency(self) -> float | None:
        return self._latency

    def close(self) -> None:
        with contextlib.suppress(OSError):
            self._socket.close()
        try:
            self.process.wait(1.0)
        except subprocess.TimeoutExpired:
            self.process.kill()  # a host that hangs in PortAudio
            self.process.wait()

    def _require_open(self) -> None:
        """Raise DeviceLostError after the device was closed, or once its process is gone."""
        if self._socket.fileno() < 0 or self.process.poll() is not None:
            raise DeviceLostError(f"{self.info.title} is closed. {_GIVEN_UP}")

    # -- talking -----------------------------------------------------------------------------------

    def _order(self, words: dict[str, Any], samples: Samples | None = None) -> None:
        with self._lock, contextlib.suppress(OSError):
            if samples is not None:
                frames.send(self._socket, frames.SAMPLES, frames.to_bytes(samples))
            frames.send_words(self._socket, words)

    def _message(self) -> tuple[bytes, bytes]:
        """Return the next message of the host.

        Raises DeviceLostError when there will be none, TimeoutError when there is none yet.
        """
        try:
            message = frames.receive(self._socket)
        except TimeoutError:
            raise
        except OSError:
            message = None
        if message is None:
            raise DeviceLostError(f"{self.info.title} was disconnected or its sound server stopped. {_GIVEN_UP}")
        kind, content = message
        if kind == frames.FAULT:
            self._faults.append(content.decode())
        if kind == frames.WORDS and json.loads(content).get("lost"):
            raise DeviceLostError(f"{self.info.title} was disconnected or its sound server stopped. {_GIVEN_UP}")
        return message

    def _words(self) -> dict[str, Any]:
        while True:
            kind, content = self._message()
            if kind == frames.WORDS:
                return dict(json.loads(content))


class SoundCardLive:
    """What ``SoundCard.listen`` returns; a thread of its own gathers what comes in."""

    def __init__(self, card: SoundCard, ceiling_dbfs: float) -> None:
        self.rate = card.rate
        self._card, self._ceiling = card, ceiling_dbfs
        self._blocks: list[Samples] = []
        self._lock = threading.Lock()
        self._error: MeasurementError | None = None
        self._open = True
        self._place = 0
        self._thread = threading.Thread(target=self._gather, daemon=True, name="live sound")
        self._thread.start()

    def _gather(self) -> None:
        begun = False
        while True:
            try:
                kind, content = self._card._message()
            except TimeoutError:
                self._error = DeviceLostError(f"{self._card.info.title} stopped delivering audio. {_GIVEN_UP}")
                return
            except DeviceLostError as error:
                self._error = error
                return
            if not self._open and kind == frames.WORDS and json.loads(content).get("stopped"):
                return
            begun = begun or kind == frames.BEGUN
            if kind == frames.PLACE:
                self._place = frames.place_from_bytes(content)
            if kind == frames.SAMPLES and begun and self._open:
                with self._lock:
                    self._blocks.append(frames.from_bytes(content, self._card._channels))
                    if len(self._blocks) > 4096:  # nobody reads: the oldest go
                        del self._blocks[:2048]

    def read(self) -> Samples:
        with self._lock:
            blocks, self._blocks = self._blocks, []
        if not blocks and self._error is not None and self._open:
            raise self._error
        if blocks:
            return np.concatenate(blocks)
        return np.zeros((0, self._card._channels))

    def play(self, programme: GeneratorSettings, samples: Samples | None = None) -> None:
        self._card._order({"do": "play", "programme": programme.below(self._ceiling).to_json()}, samples)

    def play_clips(self, clips: Sequence[Samples]) -> None:
        ClipPlayer(self.rate, len(self._card._wiring.outputs), self._ceiling, clips)  # refuses what does not fit
        for number, clip in enumerate(clips):
            order = {"do": "clip", "number": number, "of": len(clips), "columns": clip.shape[1]}
            self._card._order(order, clip)

    def order(self, order: PlayOrder) -> None:
        below = replace(order, level=min(order.level, self._ceiling))
        self._card._order({"do": "order", "order": below.to_json()})

    def place(self) -> int:
        return self._place

    def mute(self) -> None:
        self._card._order({"do": "mute"})

    def faults(self) -> tuple[str, ...]:
        return tuple(self._card._faults)

    def close(self) -> None:
        self._open = False
        self.mute()
        time.sleep(0.05)  # the gate closes
        self._card._order({"do": "stop"})
        self._thread.join(3)


def _find(name: str, listed: list[dict[str, Any]]) -> dict[str, Any]:
    for d in listed:
        if _name(d) == name:
            return d
    there = ", ".join(_name(d) for d in listed) or "none (is a sound server running and libportaudio2 installed?)"
    raise SettingError(f"Sound device “{name}” is not connected. Available: {there}.")
