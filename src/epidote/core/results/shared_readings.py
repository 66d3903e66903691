"""Readings that several procedures have."""

from __future__ import annotations

from epidote.core.results.kinds import ChainShare, ReadingKind, Shown

HEADROOM = ReadingKind(
    "headroom",
    "Headroom",
    compared=False,
    meaning="Margin of the peak sample of the recording to full scale.",
)
DELAY = ReadingKind(
    "delay",
    "Delay",
    chain=ChainShare.SUBTRACTS,
    meaning="Time from output to input, minus that of the baseline if measured.",
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
    meaning="Total time of disturbances; excluded where enough of the recording remains.",
)
SECOND_ARRIVAL = (
    ReadingKind(
        "arrival_separation",
        "Second arrival, delay",
        former=("apart",),
        meaning="Delay of a second arrival of the same signal re the first.",
    ),
    ReadingKind("second_level", "Second arrival, level", meaning="Level of the fainter arrival re the louder."),
    ReadingKind(
        "comb_null", "First comb-filter null", meaning="Lowest frequency that the two arrivals cancel when added."
    ),
    ReadingKind("comb_depth", "Comb filter, depth", meaning="Depth of the cancellation there."),
)
