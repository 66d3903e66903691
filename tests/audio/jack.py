"""A JACK server of our own with the dummy driver, and a patch bay: the one real sound device that every machine has."""

from __future__ import annotations

import os
import shutil
import subprocess
import tempfile
import threading
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path

import pytest

PERIOD, RATE = 1024, 48000  # long periods, which a loaded machine without real-time priority can keep


class Server:
    """Runs until closed; ``loop`` keeps wiring every application's outputs to its own inputs, as somebody with two
    cables would.
    """

    def __init__(self, rate: int = RATE, period: int = PERIOD) -> None:
        self.name = f"epidote-{uuid.uuid4().hex[:8]}"
        self._env = {**os.environ, "JACK_DEFAULT_SERVER": self.name, "JACK_NO_START_SERVER": "1"}
        # -r: no real-time priority, which few machines grant; a loaded machine then reports dropouts, and is right to
        self._command = [
            "jackd",
            "-n",
            self.name,
            "-r",
            "-d",
            "dummy",
            "-r",
            str(rate),
            "-p",
            str(period),
            "-C",
            "2",
            "-P",
            "2",
        ]
        if not any(self._started() for _ in range(3)):
            raise RuntimeError(f"jackd did not come up: {self.said.read_text()[-600:]}")

    def _started(self) -> bool:
        _sweep_registry()
        self.said = Path(tempfile.gettempdir()) / f"{self.name}.log"
        with self.said.open("w") as log:
            self.process = subprocess.Popen(self._command, stdout=log, stderr=log)
        for _ in range(200):
            if self._ask("jack_lsp").returncode == 0:
                return True
            if self.process.poll() is not None:
                break
            time.sleep(0.1)
        self.kill()
        return False

    def _ask(self, *command: str) -> subprocess.CompletedProcess[str]:
        try:
            return subprocess.run(command, env=self._env, capture_output=True, text=True, timeout=10, check=False)
        except subprocess.TimeoutExpired:  # a server that was killed meanwhile never answers
            return subprocess.CompletedProcess(command, 1, "", "")

    def ports(self) -> list[str]:
        return self._ask("jack_lsp").stdout.split()

    def wire(self, source: str, target: str) -> bool:
        """Whether it is wired now."""
        return self._ask("jack_connect", source, target).returncode == 0

    def unwire(self, source: str, target: str) -> None:
        self._ask("jack_disconnect", source, target)

    @contextmanager
    def loop(self) -> Iterator[None]:
        stop = threading.Event()

        def keep_wired() -> None:
            done: set[str] = set()
            while (
                not stop.wait(0.02) and self.process.poll() is None
            ):  # whoever asks a dead server waits, and may lock out those that follow
                ports = set(self.ports())
                for port in ports - done:
                    client, _, name = port.partition(":")
                    if client != "system" and name.startswith("in_") and f"{client}:out_{name[3:]}" in ports:
                        self.unwire(f"system:capture_{int(name[3:]) + 1}", port)
                        if self.wire(f"{client}:out_{name[3:]}", port):
                            done.add(port)
                done &= ports

        thread = threading.Thread(target=keep_wired)
        thread.start()
        try:
            yield
        finally:
            stop.set()
            thread.join()

    def kill(self) -> None:
        self.process.kill()
        self.process.wait()

    def close(self) -> None:
        self.process.terminate()
        try:
            self.process.wait(5)
        except subprocess.TimeoutExpired:  # it waits for a client that was killed
            self.kill()
        self.said.unlink(missing_ok=True)


@pytest.fixture(scope="session")
def jack() -> Iterator[Server]:
    server = Server()
    yield server
    server.close()


@pytest.fixture
def served(jack: Server, monkeypatch: pytest.MonkeyPatch) -> Server:
    """The server, as the one that the sound library finds."""
    monkeypatch.setenv("JACK_DEFAULT_SERVER", jack.name)
    return jack


def _sweep_registry() -> None:
    """JACK has room for eight servers, and one that was killed keeps its place: clear them when no server runs at
    all.
    """
    if _running() & {"jackd", "jackdbus"}:
        return
    for left in Path("/dev/shm").glob("jack*"):
        if left.is_dir():
            # a client of another test that finds no server takes its own folder away while this one goes through it
            shutil.rmtree(left, ignore_errors=True)
        else:
            left.unlink(missing_ok=True)


def _running() -> set[str]:
    """The names of all processes; one may end while its name is read."""
    names = set()
    for entry in Path("/proc").glob("[0-9]*/comm"):
        with suppress(OSError):
            names.add(entry.read_text().strip())
    return names
