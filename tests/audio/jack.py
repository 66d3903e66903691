"""A JACK server of our own with the dummy driver, and a patch bay: the one real sound device that every machine has."""

from __future__ import annotations

import os
import subprocess
import threading
import time
import uuid
from collections.abc import Iterator
from contextlib import contextmanager

PERIOD, RATE = 256, 48000


class Server:
    """Runs until closed; ``loop`` keeps wiring every application's outputs to its own inputs, as somebody with two cables would."""

    def __init__(self, rate: int = RATE, period: int = PERIOD) -> None:
        self.name = f"epidote-{uuid.uuid4().hex[:8]}"
        self._env = {**os.environ, "JACK_DEFAULT_SERVER": self.name, "JACK_NO_START_SERVER": "1"}
        # real-time priority where the machine grants it; without it a loaded machine drops periods, which is no fault of ours
        self.process = subprocess.Popen(
            ["jackd", "-n", self.name, "-r", "-d", "dummy", "-r", str(rate), "-p", str(period), "-C", "2", "-P", "2"],
            stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL,
        )  # fmt: skip
        for _ in range(100):
            if self._ask("jack_lsp").returncode == 0:
                return
            time.sleep(0.1)
        raise RuntimeError("jackd did not come up")

    def _ask(self, *command: str) -> subprocess.CompletedProcess[str]:
        return subprocess.run(command, env=self._env, capture_output=True, text=True, timeout=10, check=False)

    def ports(self) -> list[str]:
        return self._ask("jack_lsp").stdout.split()

    def wire(self, source: str, target: str) -> None:
        self._ask("jack_connect", source, target)

    def unwire(self, source: str, target: str) -> None:
        self._ask("jack_disconnect", source, target)

    @contextmanager
    def loop(self) -> Iterator[None]:
        stop = threading.Event()

        def keep_wired() -> None:
            done: set[str] = set()
            while not stop.wait(0.02):
                ports = set(self.ports())
                for port in ports - done:
                    client, _, name = port.partition(":")
                    if client != "system" and name.startswith("in_") and f"{client}:out_{name[3:]}" in ports:
                        self.unwire(f"system:capture_{int(name[3:]) + 1}", port)
                        self.wire(f"{client}:out_{name[3:]}", port)
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

    close = kill
