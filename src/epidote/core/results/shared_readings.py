"""Readings that several procedures have."""

from __future__ import annotations

from epidote.core.results.kinds import ChainShare, ReadingKind, Shown

HEADROOM = ReadingKind(
    "headroom",
    "Headroom",
    compared=False,
    meaning="Distance of the highest sample of the recording to full scale.",
)
DELAY = ReadingKind(
    "delay",
    "Delay",
    chain=ChainShare.SUBTRACTS,
    meaning="Time from output to input, less the baseline where there is one.",
)
POLARITY = ReadingKind(
    "polarity",
    "Polarity",
    shown=Shown.POLARITY,
    compared=False,
    meaning="Whether a positive input gives a positive output.",
)
DISTURBED = ReadingKind(
    "disturbed",
    "Disturbed",
    compared=False,
    meaning="Time in which something else sounded; it is left out where enough remains.",
)
SECOND_ARRIVAL = (
    ReadingKind(
        "arrival_separation",
        "Second arrival, delay",
        former=("apart",),
        meaning="By how much a second arrival of the same sound is later than the first.",
    ),
    ReadingKind("second_level", "Second arrival, level", meaning="Level of the fainter arrival re the louder."),
    ReadingKind(
        "comb_null", "First comb-filter null", meaning="Lowest frequency that the two arrivals cancel when added."
    ),
    ReadingKind("comb_depth", "Comb filter, depth", meaning="How deep they cancel there."),
)
