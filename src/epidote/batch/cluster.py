"""Jobs on a Dask cluster, whose workers must run the same version of Epidote."""

from __future__ import annotations

import pathlib
from collections.abc import Callable, Iterable, Iterator
from contextlib import suppress
from typing import Any, TypeVar

from epidote import __version__
from epidote.batch.failure import JobFailure
from epidote.core.errors import CancelledError, MeasurementError, SettingError

J = TypeVar("J")
R = TypeVar("R")
_CONNECT_SECONDS = 10
_IN_HAND = 3  # jobs per thread of a worker
_LOST_AFTER = 30.0  # s without any worker
_RETRIES = 3


def version_here() -> str:
    """Return the version that a worker runs."""
    return __version__


def sees(path: str) -> bool:
    """Whether a worker sees a folder under the same path."""
    return pathlib.Path(path).is_dir()


class DaskCluster:
    """A scheduler at an address such as tcp://10.0.0.5:8786. Raises SettingError, MeasurementError where it cannot be
    used.
    """

    def __init__(self, address: str) -> None:
        try:
            from distributed import Client
        except ImportError as error:
            raise SettingError(
                "The packages for a cluster are not installed. Install them with “pip install epidote[cluster]”, or use"
                " --jobs."
            ) from error
        self.address = address
        try:
            self._client: Any = Client(address, timeout=_CONNECT_SECONDS)
        except (OSError, ValueError, TimeoutError, ImportError) as error:
            raise MeasurementError(
                f"There is no cluster at {address}. Nothing was computed; start its scheduler, or use --jobs."
            ) from error
        self._require_same_version()

    def _require_same_version(self) -> None:
        """Raise MeasurementError naming every worker that runs another version, or none at all."""
        with suppress(Exception):
            self._client.wait_for_workers(1, timeout=_CONNECT_SECONDS)
        versions = self._answers(version_here)
        if not versions:
            self.close()
            raise MeasurementError(
                f"The cluster at {self.address} has no workers. Nothing was computed; start some, or use --jobs."
            )
        others = {name: found for name, found in versions.items() if found != __version__}
        if others:
            self.close()
            listed = ", ".join(f"{name} ({found})" for name, found in others.items())
            raise MeasurementError(
                f"These workers do not run Epidote {__version__}: {listed}. Nothing was computed; install the same"
                " version there."
            )

    def _answers(self, question: Callable[..., Any], *arguments: Any) -> dict[str, Any]:
        """Return what each worker answers, an error as its words."""
        try:
            return dict(self._client.run(question, *arguments, on_error="return"))
        except Exception as error:
            raise MeasurementError(
                f"The cluster at {self.address} does not answer ({type(error).__name__}). Nothing was computed; start"
                " it again, or use --jobs."
            ) from error

    def sees(self, path: str) -> bool:
        """Whether every worker sees a folder under the same path, so that recordings need not travel."""
        return all(answer is True for answer in self._answers(sees, path).values())

    def run(
        self, jobs: Iterable[J], work: Callable[[J], R | JobFailure], cancelled: Callable[[], bool]
    ) -> Iterator[tuple[J, R | JobFailure]]:
        """Yield each job with its result. Raises MeasurementError when the cluster disappears, CancelledError."""
        waiting = iter(jobs)
        in_hand: dict[Any, J] = {}
        try:
            while True:
                self._fill(waiting, in_hand, work)
                if not in_hand:
                    return
                done = self._wait(in_hand)
                if cancelled():
                    raise CancelledError(
                        "Stopped. What was computed is saved; run the same command again to go on from here."
                    )
                for future in done:
                    yield in_hand.pop(future), self._result(future)
        finally:
            with suppress(Exception):
                self._client.cancel(list(in_hand))

    def _threads(self) -> int:
        workers = self._client.scheduler_info(n_workers=-1).get("workers", {})
        return sum(int(worker.get("nthreads", 1)) for worker in workers.values())

    def _fill(self, waiting: Iterator[J], in_hand: dict[Any, J], work: Callable[[J], R | JobFailure]) -> None:
        most = max(1, self._threads()) * _IN_HAND
        while len(in_hand) < most:
            job = next(waiting, None)
            if job is None:
                return
            in_hand[self._client.submit(work, job, pure=False, retries=_RETRIES)] = job

    def _wait(self, in_hand: dict[Any, J]) -> list[Any]:
        """Return the futures that are done; wait a little for one. Raises MeasurementError when nobody is left."""
        from distributed import CancelledError as LostError
        from distributed import wait

        try:
            with suppress(TimeoutError):
                wait(list(in_hand), timeout=1, return_when="FIRST_COMPLETED")
        except LostError as lost:
            raise self._gone() from lost
        done = [future for future in in_hand if future.done()]
        if not done and self._client.status not in ("running", "connecting"):
            raise self._gone()
        return done

    def _result(self, future: Any) -> Any:
        from distributed import CancelledError as LostError

        if future.status in {"cancelled", "lost"}:
            raise self._gone()
        try:
            error = future.exception()
            if error is None:
                return future.result()
        except LostError as lost:
            raise self._gone() from lost
        return JobFailure(f"The worker that computed it failed ({type(error).__name__}: {error}). Try again.")

    def _gone(self) -> MeasurementError:
        return MeasurementError(
            f"The cluster at {self.address} disappeared. What was computed is saved; start the cluster again and repeat"
            " the command, which goes on from here."
        )

    def close(self) -> None:
        """Leave the cluster."""
        with suppress(Exception):
            self._client.close(timeout=2)
