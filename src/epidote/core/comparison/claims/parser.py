"""Reading published figures as people write them: "THD+N < 0.005 %, 1 kHz, 1 W, 8 Ω, 20 kHz bandwidth"."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

from pydantic import ValidationError

from epidote.core.claims.claim import Claim
from epidote.core.claims.claimed_quantity import (
    POWER,
    RESPONSE,
    Bound,
    ClaimedQuantity,
    declared_quantities,
)
from epidote.core.comparison.claims.amounts import NotANumberError, hertz, in_base_unit, number_of
from epidote.core.procedures.registry import procedures
from epidote.core.quantities.units import to_db
from epidote.core.settings import validation_words

_REPLACED = (
    (r"[−–—‒]", "-"),
    ("…", "..."),
    ("≤|=<", "<="),
    ("≥|=>", ">="),
    ("[×✕]", "x"),
    ("μ", "µ"),
    ("Ω|(?<![a-z])ohms?(?![a-z])", "Ω"),
    (r"(?<=[k\d])\s*ohms?\b", "Ω"),
    (r"\+\s*/\s*-|\+-", "±"),
    ("[\u00a0\u202f\t]", " "),
    (r"(?<=\d)r?ms\s+(?=watts?)", " "),
)
_LONGEST, _LONGEST_NUMBER = 400, 24  # characters: what is longer is no specification, and would be slow to look through
_NUMBER = rf"\d[\d.,]{{0,{_LONGEST_NUMBER}}}(?:e[+-]?\d{{1,3}})?"
_UNIT = (
    r"dB\s?SPL|dBFS|dBV|dBu|dBr|dB|%|ppm|[mk]?W(?:atts?|rms)?(?![a-z])|[mµu]?V(?:rms|olts?|pp)?(?![a-z])|[kM]?Hz|k?Ω|ms|µs|us|s(?![a-z])"
    r"|samples?|smp|frames?|x(?![\w])"
)
_QUANTITY = re.compile(rf"(?P<sign>[<>]=?|±|~)?\s*(?P<number>[+-]?\s?{_NUMBER})\s*(?P<unit>{_UNIT})", re.I)
_CENTRED = rf"(?P<number>[+-]?\s?{_NUMBER})\s*(?P<unit>{_UNIT})?\s*±\s*(?P<slack>{_NUMBER})\s*(?P<slack_unit>{_UNIT})"
_JOIN = r"\s*(?:-|to|\.\.\.?|up to|through)\s*"
_SPAN = rf"(?P<low>{_NUMBER})\s*(?P<low_unit>k?Hz)?{_JOIN}(?P<high>{_NUMBER})\s*(?P<high_unit>k?Hz)"
_BAND_WORD = r"\(?(?:measurement |measuring |meas\.? |noise )?(?:bandwidth|bw|band|low-?pass|filter|brick ?wall)\)?"
_MOST = r"\b(max(imum)?\.?|up to|less than|below|under|at most|not more than|no more than)(?=\W|$)"
_LEAST = r"\b(min(imum)?\.?|at least|more than|above|over|greater than|not less than)(?=\W|$)"
_FILLERS = (
    r"\b("
    r"at|re|ref\.?|rel\.?|relative to|into|in|of|for|with|and|or|the|is|are|per|each|both|"
    r"all|a|an|from|to|channels?|ch|driven|output|input|rms|load|full|scale|typ(ical)?\.?|"
    r"nom(inal)?\.?|approx\.?|approximately|about|ca\.?|better|than|max(imum)?\.?|min(imum)?\.?|up|"
    r"less|more|below|under|least|most|not|no|level|signal|ratio|tone|sine|measured|value|"
    r"rated|audio|stereo|mono|buffer|size|sample|rate|sampling|fs|between|thd(\+n)?|continuous|"
    r"iec|aes17|aes-?17|through"
    r")\b"
)


@dataclass(frozen=True)
class ParsedClaim:
    """What a text was taken for: the claim, or the questions that keep it from being one."""

    claim: Claim | None
    questions: tuple[str, ...] = ()

    @property
    def words(self) -> str:
        if self.claim is None:
            return " ".join(self.questions)
        return self.claim.words


@dataclass
class _Reading:
    """A text being read: what is left of it, and what was found."""

    left: str
    found: dict[str, Any] = field(default_factory=dict)

    def take(self, pattern: str, use: Callable[[re.Match[str]], None]) -> bool:
        """Return the first place that the pattern fits is used and struck out."""
        match = re.search(pattern, self.left, re.I)
        if match is None:
            return False
        use(match)
        self.left = f"{self.left[: match.start()]} ; {self.left[match.end() :]}"
        return True


def parse_claim(text: str, source: str = "") -> ParsedClaim:
    """Return a published figure as typed. Nothing is guessed: what is not clear comes back as questions."""
    cleaned = " ".join(text.split())
    if len(cleaned) > _LONGEST:
        return ParsedClaim(
            None, (f"The text has {len(cleaned)} characters; a claim has at most {_LONGEST}. Shorten it.",)
        )
    too_long = re.search(rf"[\d.,]{{{_LONGEST_NUMBER + 1}}}", cleaned)
    if too_long is not None:
        return ParsedClaim(None, (f"“{too_long[0]}…” has too many digits for a value. Shorten it.",))
    for pattern, by in _REPLACED:
        cleaned = re.sub(pattern, by, cleaned, flags=re.I)
    try:
        return _understood(text, cleaned, source)
    except NotANumberError as error:
        return ParsedClaim(None, (f"“{error}” is not a number. Correct it.",))


def _understood(text: str, cleaned: str, source: str) -> ParsedClaim:
    reading = _Reading(cleaned)
    claimed = _claimed(reading)
    if claimed is None:
        return ParsedClaim(
            None,
            (
                (
                    "The quantity is missing. Start with its name, e.g. THD+N, SNR, frequency response, output power or"
                    " latency."
                ),
            ),
        )
    _weighting(reading)
    _counts(reading, claimed)
    _places(reading, claimed)
    sense = _sense(reading, claimed)
    questions = _figure(reading, claimed, sense)
    strange = re.sub(_FILLERS, " ", reading.left, flags=re.I)
    strange = " ".join(re.sub(r"[;,:()\[\]/@=|.+~-]", " ", strange).split())
    if re.search(r"\d", strange):
        questions.append(f"“{strange}” was not understood. Rephrase or remove it.")
    if questions:
        return ParsedClaim(None, tuple(questions))
    try:
        return ParsedClaim(Claim(claimed=claimed, text=text.strip()[:400], source=source, **reading.found))
    except ValidationError as error:
        return ParsedClaim(None, (f"Invalid claim: {validation_words(error)}.",))


def _names() -> list[tuple[ClaimedQuantity, str]]:
    """Quantities and the patterns of their names, in the order in which they are looked for."""
    quantities = declared_quantities()
    names = [(quantity, quantity.pattern) for quantity in quantities]
    return names + [(quantity, quantity.last_pattern) for quantity in quantities if quantity.last_pattern]


def _claimed(reading: _Reading) -> ClaimedQuantity | None:
    procedures()  # those of other packages declare quantities of their own
    for claimed, pattern in _names():
        # the name stands before the figures; behind them such words are conditions ("50 W at 1 % THD")
        match = re.search(pattern, reading.left, re.I)
        if match and not re.search(r"\d\s*(W|watts?|m?V(rms)?|volts?)\b", reading.left[: match.start()], re.I):
            reading.take(pattern, lambda _: None)
            return claimed
    if re.search(r"\d\s*W(atts?)?\b", reading.left, re.I):
        return POWER
    # a range of frequencies with a tolerance is a response, whoever leaves out its name
    if re.search(_SPAN, reading.left, re.I) and _is_tolerance(reading.left):
        return RESPONSE
    return None


def _is_tolerance(text: str) -> bool:
    """Whether a text holds "±0.5 dB" or "+0.1/-0.3 dB"."""
    return "±" in text or bool(re.search(r"\+\s?[\d.,]+\s*(?:dB)?\s*[,/]\s*-\s?[\d.,]+", text))


def _weighting(reading: _Reading) -> None:
    for pattern, weighting, unit in (
        (r"dB\s*\(\s*A\s*\)|\bdBA\b", "A", "dB"),
        (r"\(?\bA[- ]?(weighted|wtd\.?|weighting|wght?d?\.?)\)?|\(A\)|(?<=dB )A\b(?!-| ?w)|\bIEC[- ]A\b", "A", ""),
        (r"\(?(ITU-R )?(BS\.?)?\s?468(-4)?( weighted| weighting)?\)?|\bCCIR([-/ ]?468)?\b", "468", ""),
        (r"\(?\b(unweighted|un-?wtd\.?|no weighting|not weighted|Z-?weighted|linear)\b\)?", "none", ""),
    ):
        match = re.search(pattern, reading.left, re.I)
        if match:
            reading.found["weighting"] = weighting
            reading.left = f"{reading.left[: match.start()]} {unit} {reading.left[match.end() :]}"
            return


def _counts(reading: _Reading, claimed: ClaimedQuantity) -> None:
    """Channels, load, buffer, rate."""
    fields = reading.found
    reading.take(r"\b(\d{1,2})\s*x\s*(?=\d)", lambda m: fields.update(channels=int(m[1])))
    if "channels" not in fields:
        reading.take(r"\b(\d{1,2}) channels( driven)?", lambda m: fields.update(channels=int(m[1])))
    reading.take(
        rf"({_NUMBER})\s*(k?)Ω",
        lambda m: fields.update(load_ohms=number_of(m[1], "Ω") * (1000 if m[2].lower() == "k" else 1)),
    )
    if claimed.at_buffer:
        buffer = (
            rf"(?:at|@|with|,|\()\s*(?:a )?({_NUMBER})[- ]?(?:samples?|smp|frames?)(?: buffer)?\)?|(?:buffer|block)(?:"
            rf" size)?(?: of)?[ :=]*({_NUMBER})(?: samples?| frames?)?|({_NUMBER})[- ]?(?:samples?|frames?)? buffer"
        )
        reading.take(buffer, lambda m: fields.update(buffer=round(number_of(m[1] or m[2] or m[3], "samples"))))
    rate = (
        rf"({_NUMBER})\s*(k?)(?:S/s|Hz\s*(?:sampling|sample)(?: rate| frequency)?|Hz fs\b)|(?:fs|sample rate|sampling"
        rf" rate)[ :=]*({_NUMBER})\s*(k?)Hz"
    )
    if claimed.at_buffer:
        rate += rf"|({_NUMBER})\s*(k?)Hz"

    def use_rate(m: re.Match[str]) -> None:
        number, kilo = next((m[i], m[i + 1]) for i in range(1, m.re.groups + 1, 2) if m[i])
        fields["rate"] = number_of(number, "Hz") * (1000 if kilo.lower() == "k" else 1)

    reading.take(rate, use_rate)


def _span(m: re.Match[str]) -> tuple[float, float]:
    """Return a range of frequencies; "10-20 kHz" is in kHz on both sides."""
    high = hertz(m["high"], m["high_unit"])
    low = hertz(m["low"], m["low_unit"])
    if m["low_unit"] is None and m["high_unit"].lower() == "khz" and low * 1000 < high and number_of(m["low"]) < 10:
        low *= 1000
    return low, high


def _places(reading: _Reading, claimed: ClaimedQuantity) -> None:
    """Bandwidth, frequency or range of frequencies."""
    fields = reading.found

    def use_band(m: re.Match[str]) -> None:
        fields["band_low"], fields["band_high"] = _span(m)

    def use_span(m: re.Match[str]) -> None:
        low, high = _span(m)
        alone = re.search(rf"{_NUMBER}\s*k?Hz", reading.left[: m.start()] + " ; " + reading.left[m.end() :], re.I)
        if claimed.band_is_condition or (alone and not claimed.deviation):
            fields["band_low"], fields["band_high"] = (
                low,
                high,
            )  # a tone has one frequency: then the range is what was measured in
        else:
            fields["frequency"], fields["frequency_high"] = low, high

    if claimed.two_tones:
        reading.take(
            rf"({_NUMBER})\s*(k?Hz)?\s*(?:\+|/|and|&)\s*({_NUMBER})\s*(k?Hz)(\s*,?\s*\d:\d)?",
            lambda m: _pair(m, fields),
        )
    if claimed is not RESPONSE:
        with_word = (
            rf"{_BAND_WORD}\s*(?:of|:|=)?\s*{_SPAN}|{_SPAN.replace('low', 'l2').replace('high', 'h2')}\s*{_BAND_WORD}"
        )
        match = re.search(with_word, reading.left, re.I)
        if match:
            named = re.search(_SPAN, match[0], re.I)
            if named:
                use_band(named)
            reading.left = f"{reading.left[: match.start()]} ; {reading.left[match.end() :]}"
        else:
            reading.take(
                rf"({_NUMBER})\s*(k?Hz)\s*{_BAND_WORD}|{_BAND_WORD}\s*(?:of|:|=)?\s*({_NUMBER})\s*(k?Hz)",
                lambda m: fields.update(band_high=hertz(m[1] or m[3], m[2] or m[4])),
            )
    reading.take(_SPAN, use_span)
    if "frequency" not in fields:
        reading.take(rf"({_NUMBER})\s*(k?Hz)", lambda m: fields.update(frequency=hertz(m[1], m[2])))


def _pair(m: re.Match[str], fields: dict[str, Any]) -> None:
    second = hertz(m[3], m[4])
    if m[2]:
        first = hertz(m[1], m[2])
    else:
        first = number_of(m[1]) * (1000 if second >= 2000 and number_of(m[1]) < 20 else 1)
    fields["frequency"], fields["frequency_high"] = min(first, second), max(first, second)


def _sense(reading: _Reading, claimed: ClaimedQuantity) -> Bound:
    text = reading.left
    if _is_tolerance(text):
        return Bound.WITHIN
    if re.search(r"\btyp(ical(ly)?)?\b|~|\bnom(inal)?\b|\bapprox|\babout\b|\bca\b", text, re.I):
        return Bound.TYPICAL
    usual = claimed.bound
    if claimed.below_zero:
        return usual  # however the sign is written
    if re.search(rf"<|{_MOST}", text, re.I) and not (claimed.stated_at_distortion and "<" not in text):
        return Bound.AT_MOST
    if re.search(rf">|{_LEAST}", text, re.I):
        return Bound.AT_LEAST
    return usual


_Amount = tuple[re.Match[str], float, str]


def _figure(reading: _Reading, claimed: ClaimedQuantity, sense: Bound) -> list[str]:
    """Return the figure itself, its level and its limit; questions where it is not clear."""
    fields = reading.found
    fields["sense"] = sense
    allowed = claimed.units
    if sense is Bound.WITHIN and reading.take(
        r"\+\s?([\d.,]+)\s*(?:dB)?\s*[,/]\s*-\s?([\d.,]+)\s*dB",
        lambda m: fields.update(low=-number_of(m[2]), high=number_of(m[1]), unit="dB"),
    ):
        return []
    if claimed.stated_at_distortion:
        reading.take(
            rf"(?:[<@]|at|with)?\s*({_NUMBER})\s*%\s*(THD(\s*\+\s*N)?)?",
            lambda m: fields.update(limit_percent=number_of(m[1])),
        )
    questions = None
    if not claimed.deviation:
        questions = _centred(reading, allowed)
    if questions:
        return questions
    return _amounts(reading, claimed, sense, () if questions is not None else allowed)


def _amounts(reading: _Reading, claimed: ClaimedQuantity, sense: Bound, allowed: tuple[str, ...]) -> list[str]:
    """Return the figure among the amounts that are left, and its level.

    ``allowed``: units of the figure, none where it is known already.
    """
    fields = reading.found
    centred = not allowed
    candidates, levels = _candidates_and_levels(reading, allowed)
    if not candidates and not centred:
        return [f"The value is missing: {claimed} needs a number in {' or '.join(allowed)}."]
    signed = [c for c in candidates if c[0]["sign"]]
    # a noise at a level, an output at another: the first is the figure, as people write it
    first = signed[0] if len(signed) == 1 else next(iter(candidates), None)
    others = [c for c in candidates if c is not first]
    if others and not claimed.level_in_units:
        return [f"More than one value found: {' and '.join(c[0][0].strip() for c in candidates)}. Keep one."]
    levels += others
    if len(levels) > 1:
        return [f"More than one level found: {', '.join(m[0].strip() for m, *_ in levels)}. Keep one."]
    if levels:
        fields["level"] = levels[0][0][0].strip(" <>=~")
    for match, *_ in (*([first] if first else []), *levels):
        reading.left = reading.left.replace(match[0], " ; ", 1)
    if first is not None:
        _limits(fields, claimed, sense, first[1], first[2])
    return []


def _candidates_and_levels(reading: _Reading, allowed: tuple[str, ...]) -> tuple[list[_Amount], list[_Amount]]:
    """Return the amounts that may be the figure, since their unit is allowed; and the others, which are levels."""
    candidates: list[_Amount] = []
    levels: list[_Amount] = []
    for match in _QUANTITY.finditer(reading.left):
        value, unit = in_base_unit(number_of(match["number"], match["unit"]), match["unit"])
        (candidates if unit in allowed else levels).append((match, value, unit))
    return candidates, levels


def _centred(reading: _Reading, allowed: tuple[str, ...]) -> list[str] | None:
    """Return a figure with its tolerance, "29 dB ±0.5 dB" or "1.2 V ±10 %": what is not clear about it.

    None where there is none.
    """
    match = re.search(_CENTRED, reading.left, re.I)
    if match is None:
        return None
    reading.left = f"{reading.left[: match.start()]} ; {reading.left[match.end() :]}"
    value, unit = in_base_unit(number_of(match["number"]), match["unit"] or match["slack_unit"])
    slack, slack_unit = in_base_unit(number_of(match["slack"]), match["slack_unit"])
    if slack_unit == "%" and not unit.startswith(("dB", "%")):
        slack, slack_unit = abs(value) * slack / 100, unit
    if unit not in allowed or slack_unit != ("dB" if unit.startswith("dB") else unit):
        return [f"“{match[0].strip()}” was not understood. Rephrase or remove it."]
    reading.found.update(low=value - slack, high=value + slack, unit=unit)
    return []


def _limits(fields: dict[str, Any], claimed: ClaimedQuantity, sense: Bound, value: float, unit: str) -> None:
    if unit == "dB" and claimed.below_zero:
        value = -abs(value)
    if unit == "x":
        value, unit = to_db(value), "dB"
    fields["unit"] = unit
    if sense is Bound.WITHIN:
        if claimed is RESPONSE and value < 0:
            fields["low"] = value  # "(-3 dB)": how far it may fall
        else:
            fields["low"], fields["high"] = -abs(value), abs(value)
    elif sense is Bound.TYPICAL:
        fields["low"] = fields["high"] = value
    else:
        fields["high" if sense is Bound.AT_MOST else "low"] = value
