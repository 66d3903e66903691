"""The quantities of which figures are published, and how such figures are written and meant.

The common ones are declared here; a procedure of another package declares its own with ``declare_quantity``.
"""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum

RATIO_UNITS = ("%", "ppm", "dB")


class Bound(StrEnum):
    """How a figure is meant."""

    AT_MOST = "at most"
    AT_LEAST = "at least"
    TYPICAL = "typically"
    WITHIN = "within"


class Better(StrEnum):
    """Which side of a published figure is the better one."""

    LESS = "less"
    MORE = "more"
    NEITHER = "neither"  # a nominal value: a deviation counts on either side


@dataclass(frozen=True)
class ClaimedQuantity:
    """One quantity of which figures are published.

    name: as stored and shown. pattern: regular expression of the names that people write. bound: how a figure without
    a word about it is meant. units: of the figure; in other units an amount is a condition. ratio: a ratio of
    amplitudes, given in dB or percent. below_zero: in dB always negative, whichever sign is written. deviation: how far
    a response or a channel lies off; limits are relative. band_is_condition: a range of frequencies is the bandwidth
    of the measurement. two_tones: two frequencies are a pair of tones. stated_at_distortion: stated at a percentage of
    distortion. level_in_units: its level may have the units of the figure. at_buffer: a number of samples is the
    buffer, a frequency the sample rate. typical_share: a typical figure in volts is judged by share instead of dB.
    last_pattern: a name that counts only after no other name was found.
    """

    name: str
    pattern: str
    bound: Bound
    better: Better
    units: tuple[str, ...] = ("dB",)
    ratio: bool = False
    below_zero: bool = False
    deviation: bool = False
    band_is_condition: bool = False
    two_tones: bool = False
    stated_at_distortion: bool = False
    level_in_units: bool = False
    at_buffer: bool = False
    typical_share: bool = False
    last_pattern: str = ""

    def __str__(self) -> str:
        return self.name


_QUANTITIES: dict[str, ClaimedQuantity] = {}


def declare_quantity(quantity: ClaimedQuantity) -> ClaimedQuantity:
    """Make a quantity known to parser and store. Raises ValueError where its name is taken by another."""
    known = _QUANTITIES.setdefault(quantity.name, quantity)
    if known != quantity:
        raise ValueError(f"the claimed quantity “{quantity.name}” is declared twice")
    return known


def declared_quantities() -> tuple[ClaimedQuantity, ...]:
    """Every quantity, in the order in which their names are looked for in a text."""
    return tuple(_QUANTITIES.values())


def quantity_named(name: str) -> ClaimedQuantity:
    """Return a quantity by its stored name. Raises ValueError for one that no loaded procedure declares."""
    quantity = _QUANTITIES.get(name)
    if quantity is None:
        raise ValueError(f"unknown quantity “{name}”; the procedure that declares it may not be installed")
    return quantity


def _amplitude_ratio(name: str, pattern: str, *, two_tones: bool = False) -> ClaimedQuantity:
    return declare_quantity(
        ClaimedQuantity(
            name,
            pattern,
            Bound.AT_MOST,
            Better.LESS,
            units=RATIO_UNITS,
            ratio=True,
            below_zero=True,
            two_tones=two_tones,
        )
    )


# The order counts: “THD+N” holds “THD”, “dynamic range” and “noise ratio” hold words of others.
# Names and usual senses are common practice, no source.
THD_N = _amplitude_ratio(
    "THD+N",
    r"thd\s*(\+|and|&|plus|/)\s*n(oise)?\b|\bthdn\b|(total )?harmonic distortion\s*(\+|and|plus|&)\s*noise",
)
SINAD = declare_quantity(ClaimedQuantity("SINAD", r"\bsinad\b", Bound.AT_LEAST, Better.MORE))
DIFFERENCE = _amplitude_ratio(
    "difference-frequency distortion",
    r"\bccif\b|difference[- ]frequency( distortion)?|difference tones?|\bdfd\b",
    two_tones=True,
)
MODULATION = _amplitude_ratio(
    "modulation distortion",
    r"\bimd\b( smpte)?( \(smpte\))?|\bsmpte\b|inter-?modulation( distortion)?|modulation distortion",
    two_tones=True,
)
THD = _amplitude_ratio("THD", r"\bthd\b|(total )?harmonic distortion|\bdistortion\b")
RESPONSE = declare_quantity(
    ClaimedQuantity(
        "frequency response",
        (
            r"frequency response|freq\.? ?response|amplitude response|\bresponse\b|frequency range|pass ?band"
            r"|power bandwidth"
        ),
        Bound.WITHIN,
        Better.MORE,
        deviation=True,
        last_pattern=r"^\W*bandwidth\b",
    )
)
DYNAMIC_RANGE = declare_quantity(
    ClaimedQuantity("dynamic range", r"dynamic range|\bdnr\b", Bound.AT_LEAST, Better.MORE, band_is_condition=True)
)
SNR = declare_quantity(
    ClaimedQuantity(
        "SNR",
        r"signal[- ]?(to[- ]?)?noise( ratio)?|\bsnr\b|\bs\s*/\s*n\b( ratio)?",
        Bound.AT_LEAST,
        Better.MORE,
        band_is_condition=True,
    )
)
CROSSTALK = declare_quantity(
    ClaimedQuantity(
        "crosstalk",
        r"cross-?\s?talk|(channel|stereo)? ?separation",
        Bound.AT_MOST,
        Better.LESS,
        below_zero=True,
    )
)
BALANCE = declare_quantity(
    ClaimedQuantity(
        "channel balance",
        r"channel (balance|matching|tracking|difference)|gain matching|level matching|imbalance",
        Bound.AT_MOST,
        Better.LESS,
        deviation=True,
    )
)
LATENCY = declare_quantity(
    ClaimedQuantity(
        "latency",
        r"(round[- ]?trip )?(latency|delay)|round[- ]?trip",
        Bound.TYPICAL,
        Better.LESS,
        units=("s", "samples"),
        at_buffer=True,
    )
)
NOISE = declare_quantity(
    ClaimedQuantity(
        "noise",
        r"(residual|output|idle|background|self)[- ]?noise( voltage| level)?|noise floor|hum (and|&) noise|\bnoise\b",
        Bound.AT_MOST,
        Better.LESS,
        units=("V", "dBV", "dBu", "dBFS", "dB SPL"),
        band_is_condition=True,
        level_in_units=True,
    )
)
SENSITIVITY = declare_quantity(
    ClaimedQuantity(
        "input sensitivity",
        r"(input )?sensitivity|input (level|voltage)",
        Bound.TYPICAL,
        Better.NEITHER,
        units=("V", "dBV", "dBu"),
        level_in_units=True,
    )
)
POWER = declare_quantity(
    ClaimedQuantity(
        "output power",
        r"(rated |continuous |rms |output |max(imum)? )*power( output)?( per channel)?|watts per channel",
        Bound.AT_LEAST,
        Better.MORE,
        units=("W",),
        stated_at_distortion=True,
        typical_share=True,
    )
)
OUTPUT = declare_quantity(
    ClaimedQuantity(
        "output level",
        r"(max(imum)?\.? )?output (level|voltage)|max(imum)?\.? output",
        Bound.AT_LEAST,
        Better.MORE,
        units=("V", "dBV", "dBu"),
        stated_at_distortion=True,
        level_in_units=True,
        typical_share=True,
    )
)
GAIN = declare_quantity(
    ClaimedQuantity("gain", r"(voltage )?gain|amplification", Bound.TYPICAL, Better.NEITHER, units=("dB", "x"))
)
