"""Jobs on processes of this computer. A process that dies costs what it had in hand: that is computed again."""

from __future__ import annotations

import multiprocessing
import os
from collections import deque
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Future, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from contextlib import suppress
from typing import Protocol, TypeVar

from epidote.batch.failure import JobFailure
from epidote.core.errors import CancelledError

J = TypeVar("J")
R = TypeVar("R")
_IN_HAND = 2  # jobs per process, so that none waits for the next one
_MOST_ATTEMPTS = 3
_NICER = 5
Cancelled = Callable[[], bool]


class JobRunner(Protocol):
    """Computes jobs, in any order."""

    def run(
        self, jobs: Iterable[J], work: Callable[[J], R | JobFailure], cancelled: Cancelled
    ) -> Iterator[tuple[J, R | JobFailure]]:
        """Yield each job with its result as it is done. Raises CancelledError."""


def prepare_worker() -> None:
    """Load what every job needs, and give way to whoever works at the computer."""
    from epidote.core.procedures.registry import procedures

    with suppress(OSError):
        os.nice(_NICER)
    procedures()


class InProcess:
    """One job after the other, here."""

    def run(
        self, jobs: Iterable[J], work: Callable[[J], R | JobFailure], cancelled: Cancelled
    ) -> Iterator[tuple[J, R | JobFailure]]:
        for job in jobs:
            if cancelled():
                raise CancelledError(_STOPPED)
            yield job, work(job)


_STOPPED = "Stopped. What was computed is saved; run the same command again to go on from here."


class ProcessPool:
    """So many processes at once."""

    def __init__(self, processes: int, prepare: Callable[[], None] = prepare_worker) -> None:
        """prepare: what each process does before its first job."""
        self._processes, self._prepare = processes, prepare
        self._pool: ProcessPoolExecutor | None = None

    def run(
        self, jobs: Iterable[J], work: Callable[[J], R | JobFailure], cancelled: Cancelled
    ) -> Iterator[tuple[J, R | JobFailure]]:
        waiting = iter(jobs)
        again: deque[tuple[J, int]] = deque()
        in_hand: dict[Future[R | JobFailure], tuple[J, int]] = {}
        try:
            while True:
                self._fill(waiting, again, in_hand, work)
                if not in_hand:
                    return
                done, _ = wait(in_hand, timeout=0.2, return_when=FIRST_COMPLETED)
                if cancelled():
                    raise CancelledError(_STOPPED)
                for future in done:
                    job, attempts = in_hand.pop(future)
                    try:
                        yield job, future.result()
                    except BrokenProcessPool:
                        # every job in hand ends so, the one that broke it among them
                        self._give_up()
                        if attempts >= _MOST_ATTEMPTS:
                            yield job, JobFailure("The process that computed it ended. Check memory, and try again.")
                        else:
                            again.append((job, attempts + 1))
        finally:
            self._give_up()

    def _fill(
        self,
        waiting: Iterator[J],
        again: deque[tuple[J, int]],
        in_hand: dict[Future[R | JobFailure], tuple[J, int]],
        work: Callable[[J], R | JobFailure],
    ) -> None:
        """Hand out jobs until there are enough; after a break one at a time, to find what breaks."""
        most = 1 if again else self._processes * _IN_HAND
        while len(in_hand) < most:
            if again:
                job, attempts = again.popleft()
            else:
                following = next(waiting, None)
                if following is None:
                    return
                job, attempts = following, 1
            try:
                in_hand[self._open().submit(work, job)] = (job, attempts)
            except BrokenProcessPool:
                self._give_up()
                again.appendleft((job, attempts))

    def _open(self) -> ProcessPoolExecutor:
        if self._pool is None:
            self._pool = ProcessPoolExecutor(
                self._processes, multiprocessing.get_context("spawn"), initializer=self._prepare
            )
        return self._pool

    def _give_up(self) -> None:
        """End the processes, each after the job it has in hand."""
        if self._pool is not None:
            self._pool.shutdown(wait=True, cancel_futures=True)
            self._pool = None


def usual_processes() -> int:
    """Return how many processes are used where nothing else is said: one per processor that may be used."""
    return len(os.sched_getaffinity(0))
