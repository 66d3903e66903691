"""What can go wrong, as one small tree. A message says what happened, what was kept, and what to do."""

from __future__ import annotations

from collections.abc import Mapping


class EpidoteError(Exception):
    """Any failure that is the input's, the device's or the disk's and not a mistake in the program."""

    exit_code = 4


class UnusableInputError(EpidoteError):
    """Something handed in cannot be read or does not fit: a recording, a chain, a study folder."""

    exit_code = 3


class SettingError(EpidoteError, ValueError):
    """A setting that does not exist, or a value it cannot take.

    The text may hold names of settings in braces: ``SettingError("{band_low} must be lower than {band_high}.",
    "band_low", "band_high")``. As a string, and so on the command line, they are the names; ``in_window`` shows the
    labels of the form instead. It is a ValueError too, so that a validator of a settings model may raise it.
    """

    exit_code = 2

    def __init__(self, text: str, *settings: str) -> None:
        self.text, self.settings = text, settings
        self.labels: Mapping[str, str] = {}
        super().__init__(self._worded({}))

    @property
    def in_window(self) -> str:
        """The message with the labels that the window shows."""
        return self._worded(self.labels)

    def _worded(self, labels: Mapping[str, str]) -> str:
        words = self.text
        for name in self.settings:
            words = words.replace(f"{{{name}}}", labels.get(name, name))
        return words


def in_window(error: Exception) -> str:
    """Return an error's message as the window shows it."""
    if isinstance(error, SettingError):
        return error.in_window
    return str(error)


class MeasurementError(EpidoteError):
    """The measurement could not be carried out."""

    exit_code = 4


class CancelledError(MeasurementError):
    """The user stopped the run; nothing of it was kept."""
