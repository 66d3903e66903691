"""Asks for the band and the limit of an inverse response."""

from __future__ import annotations

from PySide6.QtWidgets import QWidget

from epidote.core.quantities.formatting import format_plain
from epidote.core.quantities.units import QuantityError, parse_as
from epidote.desktop.widgets.dialogs import FormDialog

_MOST_DB = 40.0


class InverseDialog(FormDialog):
    """Band and limit, checked while they are typed."""

    def __init__(self, parent: QWidget | None, low: float, high: float, limit: float) -> None:
        super().__init__(parent, "Inverse response", "Save…")
        self.setProperty("help", "programme")
        self.explain(
            "Inverse of this response, as a text file of frequency and gain. Enter the file in “Equalise with”"
            " of the procedure"
            " “Programme material” to hear and measure whether the correction brings the sound nearer to the original."
        )
        self._low = self.line("From", format_plain(low, "Hz"))
        self._high = self.line("To", format_plain(high, "Hz"))
        self._limit = self.line("Limit", format_plain(limit, "dB"))
        self.check()

    def band(self) -> tuple[float, float] | None:
        """Return the band in Hz; None while it is none."""
        low, high = _parsed(self._low.text(), "Hz"), _parsed(self._high.text(), "Hz")
        if low is None or high is None or not 0 < low < high:
            return None
        return low, high

    def limit(self) -> float | None:
        """Return the limit in dB; None while it is none."""
        limit = _parsed(self._limit.text(), "dB")
        return limit if limit is not None and 0 < limit <= _MOST_DB else None

    def check(self) -> None:
        """Say what is wrong."""
        if self.band() is None:
            self.say("Enter a band from a lower to a higher frequency, such as 40 Hz to 16 kHz.")
        elif self.limit() is None:
            self.say(f"Enter a limit up to {_MOST_DB:g} dB.")
        else:
            self.say("")


def _parsed(text: str, unit: str) -> float | None:
    try:
        return parse_as(text, unit)
    except QuantityError:
        return None
