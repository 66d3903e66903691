"""Views that several procedures have: one declaration for each."""

from __future__ import annotations

from epidote.core.procedures.protocol import CurveView
from epidote.core.results.kinds import ChainShare, CurveRole, Microphone

GAIN_VIEW = CurveView(
    "level",
    "Level",
    "level",
    "Gain",
    chain=ChainShare.SUBTRACTS,
    microphone=Microphone.LEVEL,
    role=CurveRole.RESPONSE,
)


def spectrum_view(group: str = "Spectrum") -> CurveView:
    """Return the view of a spectrum of one tone, several or none, whose bins are not compared between runs."""
    return CurveView(
        "spectrum",
        group,
        "spectrum",
        "Level",
        compared=False,
        microphone=Microphone.LEVEL,
        role=CurveRole.SPECTRUM,
    )
