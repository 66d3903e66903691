"""The path as data: seven blocks with what each says of itself, and the fields of the chain that belong to it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import date
from typing import TYPE_CHECKING

from epidote.core.quantities.formatting import format_quantity
from epidote.core.quantities.units import from_db, to_db

if TYPE_CHECKING:
    from epidote.core.chain.chain import Chain


@dataclass(frozen=True)
class Block:
    """weak: in words, why what it says is worth less than it could be; empty when nothing is."""

    key: str
    title: str
    kind: str
    lines: tuple[str, ...]
    fields: tuple[str, ...]
    guides: tuple[str, ...] = ()
    weak: str = ""


def blocks(chain: Chain, today: date, headroom: float | None) -> tuple[Block, ...]:
    """Return the chain as blocks, left to right; headroom: of the last capture, in dB."""
    rate = f"{chain.rate / 1000:g} kHz"
    device = chain.device.partition(":")[2].rpartition("/")[2]
    if device:
        device += ": "
    else:
        device += ""
    return (
        Block(
            "source",
            "Source",
            "Sound device",
            (rate, f"Buffer: {chain.buffer}" if chain.buffer else "Buffer: default"),
            ("name", "device", "rate", "buffer"),
        ),
        _output(chain, today, device),
        _unit(chain),
        _load(chain),
        _pickup(chain, today),
        _input(chain, today, device),
        Block(
            "numbers",
            "Recording",
            "Saved in study",
            (rate, "No recording yet" if headroom is None else f"Headroom {headroom:.1f} dB"),
            (),
            weak="the last recording peaked within 1 dB of full scale" if headroom is not None and headroom < 1 else "",
        ),
    )


def _volts(value: float | None) -> str:
    if value:
        return f"0 dBFS = {format_quantity(value, 'V')}"
    return "0 dBFS: unknown"


def _stale(chain: Chain, what: str, today: date) -> str:
    entry = chain.latest(what)
    day = entry.on if entry else chain.calibrated_on
    if day is None:
        return ""
    age = (today - day).days
    if chain.stale(today) and age > 0:
        return f"last calibrated {age} days ago"
    return ""


def _output(chain: Chain, today: date, device: str) -> Block:
    ceiling = chain.ceiling_dbfs
    if ceiling >= 0:
        words = "no maximum set"
    else:
        words = f"max. {ceiling:g} dBFS"
    if chain.output_full_scale and ceiling < 0:
        words = f"max. {format_quantity(chain.output_full_scale * from_db(ceiling), 'V', digits=3)}"
    if chain.output_ohms is not None:
        own = f"{format_quantity(chain.output_ohms, 'Ω', digits=3)}, {words}"
    else:
        own = words[:1].upper() + words[1:]
    if chain.output_full_scale is None:
        weak = "not calibrated"
    else:
        weak = _stale(chain, "output_full_scale", today)
    return Block(
        "output",
        "Output",
        f"{device}Out {_numbers(chain.outputs)}",
        (_volts(chain.output_full_scale), own),
        ("outputs", "output_full_scale", "output_ohms", "output_ceiling", "output_ceiling_volts"),
        ("output_full_scale",),
        weak,
    )


def _unit(chain: Chain) -> Block:
    lines = ["Input Z not measured"]
    if chain.unit_input_ohms:
        lines = [f"Input {format_quantity(chain.unit_input_ohms, 'Ω', digits=3)}"]
        if chain.output_ohms:
            lines.append(f"Loading {to_db(chain.unit_input_ohms / (chain.unit_input_ohms + chain.output_ohms)):.2f} dB")
    return Block("unit", "Unit", "Under test", tuple(lines), ("unit_input_ohms",), ("unit_input_ohms",))


def _load(chain: Chain) -> Block:
    if chain.load_ohms is None:
        return Block(
            "load",
            "Load",
            "Not specified",
            ("No power readings",),
            ("load_ohms", "load_watts", "load_confirmed"),
            ("load_ohms", "unit_output_ohms"),
        )
    if chain.load_confirmed:
        confirmed = "measured"
    else:
        confirmed = "not measured"
    lines = [f"{chain.load_ohms:g} Ω, {confirmed}"]
    if chain.load_watts:
        lines.append(f"Rated {chain.load_watts:g} W")
    own = chain.latest("unit_output_ohms")
    if own is not None:
        lines.append(f"Unit output {format_quantity(own.value, 'Ω', digits=3)}")
    if chain.load_confirmed:
        weak = ""
    else:
        weak = f"resistance entered, not measured; power readings assume {chain.load_ohms:g} Ω"
    return Block(
        "load",
        "Load",
        "Resistive",
        tuple(lines),
        ("load_ohms", "load_watts", "load_confirmed"),
        ("load_ohms", "unit_output_ohms"),
        weak,
    )


def _pickup(chain: Chain, today: date) -> Block:
    fields: tuple[str, ...] = ("probe_ratio", "preamp_gain_db", "microphone_sensitivities")
    guides = ("probe_ratio", "preamp_gain_db", "microphone", "sound_level_a", "sound_level_c")
    if chain.acoustic:
        fields = (*fields, "microphone_serials")
        count = len(chain.microphone_sensitivities)
        lines = (
            f"{format_quantity(chain.microphone_sensitivities[0], 'V', digits=3)}/Pa"
            + (f", {count} microphones" if count > 1 else ""),
            _corrections(chain),
            *_source_words(chain),
        )
        return Block(
            "probe", "Microphone", "Acoustic", lines, fields, guides, _stale(chain, "microphone_sensitivities", today)
        )
    if chain.probe_ratio == 1:
        ratio = "Direct, 1:1"
    else:
        ratio = f"{chain.probe_ratio:.5g}:1"
    if chain.preamp_gain_db:
        gain = f"Preamp {chain.preamp_gain_db:+.4g} dB"
    else:
        gain = "No preamp"
    return Block("probe", "Probe", "Divider", (ratio, gain), fields, guides)


def _corrections(chain: Chain) -> str:
    own = sum(bool(rows) for rows in chain.microphone_corrections)
    if own:
        return f"Corrections of {own} of {len(chain.inputs)} applied"
    if chain.microphone_correction:
        return "Correction applied"
    return "No correction curve"


def _source_words(chain: Chain) -> tuple[str, ...]:
    """Return where and when the kept source was measured; nothing without one."""
    if chain.source is None:
        return ()
    where = chain.source.place or "no place noted"
    return (f"Source {chain.source.on}, {where}",)


def _input(chain: Chain, today: date, device: str) -> Block:
    if chain.input_full_scale is None:
        weak = "not calibrated: levels in dBFS"
    else:
        weak = _stale(chain, "input_full_scale", today)
    names = ", ".join(chain.input_names[:2])
    if chain.input_ohms:
        own = f"{format_quantity(chain.input_ohms, 'Ω', digits=3)}"
    else:
        own = chain.gain_setting or names or "Gain not noted"
    return Block(
        "input",
        "Input",
        f"{device}In {_numbers(chain.inputs)}",
        (_volts(chain.input_full_scale), own),
        ("inputs", "input_names", "input_full_scale", "input_ohms", "path_delay", "gain_setting"),
        ("input_full_scale", "input_by_wire"),
        weak,
    )


def _numbers(values: tuple[int, ...]) -> str:
    return "+".join(str(v) for v in values[:4]) + ("…" if len(values) > 4 else "")
