"""What can go wrong, as one small tree. A message says what happened, what was kept, and what to do."""


class EpidoteError(Exception):
    """Any failure that is the input's, the device's or the disk's and not a mistake in the program."""

    exit_code = 4


class UnusableInputError(EpidoteError):
    """Something handed in cannot be read or does not fit: a recording, a chain, a study folder."""

    exit_code = 3


class SettingError(EpidoteError):
    """A setting that does not exist, or a value it cannot take."""

    exit_code = 2


class MeasurementError(EpidoteError):
    """The measurement could not be carried out."""

    exit_code = 4


class CancelledError(MeasurementError):
    """The user stopped the run; nothing of it was kept."""
