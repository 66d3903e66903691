#!/usr/bin/env python3
"""A coverage-guided search (Atheris, from PyPI; not installed with Epidote) for texts and files that a parser cannot
take.

Each parser reads the input, or refuses it with one of our errors; an input that takes more than 5 s is a fault as well.

    pip install atheris
    tools/trials/fuzz.py PARSER --seconds 600      (without PARSER: lists them)
"""

from __future__ import annotations

import argparse
import io
import json
import sys
import tempfile
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).resolve().parents[2]))

SLOWEST_SECONDS = 5


def parsers() -> dict[str, tuple[Callable[[bytes], object], tuple[str, ...]]]:
    """What is searched by name, with texts to begin from.

    Imported late, so that the search can instrument the modules.
    """
    from epidote.audio.files.headers import announced
    from epidote.core.calibration.methods import parse_correction
    from epidote.core.chain.chain_toml import chain_from_toml
    from epidote.core.comparison.claims.parser import parse_claim
    from epidote.core.comparison.differences.operating_points import parse_point
    from epidote.core.quantities.column_text import decoded
    from epidote.core.quantities.outside import load_json
    from epidote.core.quantities.units import parse_as
    from epidote.core.stimuli.every import stimulus_from_json
    from epidote.core.stimuli.marked_sequence import MarkedSequence
    from epidote.core.text import spreadsheet_cell, visible
    from epidote.study.interchange.claims_csv import claims_in
    from epidote.study.interchange.curve_text import text_readings
    from epidote.study.stored_json import points_from_json, readings_from_json

    def stimulus(content: bytes) -> object:
        told = load_json(decoded(content), "stimulus")
        made = (
            MarkedSequence.from_json(told) if isinstance(told, dict) and "stimuli" in told else stimulus_from_json(told)
        )
        if made.rate * 2 < 400_000 and getattr(made, "frames", 0) < 400_000:
            made.samples()
        return made

    def words(content: bytes) -> object:
        text = decoded(content)
        return visible(text), visible(text, lines=True), spreadsheet_cell(text)

    def rows(content: bytes) -> object:
        text = decoded(content)
        return readings_from_json(text), points_from_json(text)

    tone = (
        '{"kind": "tone", "rate": 48000, "channels": [1], "parameters": {"frequency": 1000, "level": -20, "lead": 10,'
        ' "sounding": 100, "frames": 200}}'
    )
    return {
        "quantity": (
            lambda b: for_each(("V", "dBFS", "Hz", "%", "s"), lambda unit: parse_as(decoded(b), unit)),
            ("1 kHz", "-20 dBFS", "1,5 mV", "1e3", "10 W"),
        ),
        "claim": (
            lambda b: parse_claim(decoded(b)),
            ("SNR 110 dB(A)", "THD+N < 0,005 %, 1 kHz, 1 W, 8 Ω", "Bandwidth 5 Hz - 80 kHz (-3 dB)", "29 dB ±0.5 dB"),
        ),
        "claims file": (
            lambda b: claims_in(decoded(b)),
            ("claim;source\nSNR 110 dB(A);data sheet\n", "claim,source\nx,y\n"),
        ),
        "curve": (
            lambda b: text_readings(decoded(b), "curve.txt"),
            ("20 -1.5\n1000 0\n", "# kHz\tdB\n0,02\t-1,5\n1\t0\n", "20;-1,5;3\n1000;0;4\n"),
        ),
        "correction": (
            lambda b: parse_correction(decoded(b)),
            ("20 -1.0\n1000 0\n", "* by hand\n20;-1,0;12\n1000;0;0"),
        ),
        "point": (
            lambda b: for_each(("level", "thd_n"), lambda key: parse_point(decoded(b), key, ["Hz", "W"], "dB")),
            ("1 kHz", "1 W", "-3 dB", "1 %"),
        ),
        "chain": (
            lambda b: chain_from_toml(decoded(b)),
            ('name = "Bench"\nrate = 96000.0\n[[calibration]]\nwhat = "load_ohms"\nvalue = 8.0\non = 2026-11-21\n',),
        ),
        "stimulus": (stimulus, (tone, '{"stimuli": [' + tone + "]}")),
        "rows": (
            rows,
            (
                json.dumps(
                    [
                        {
                            "key": "thd",
                            "channel": 1,
                            "value": -80.0,
                            "unit": "dB",
                            "at": {},
                            "floor": None,
                            "spread": None,
                            "cautions": [],
                        }
                    ]
                ),
                "[[0, 1]]",
            ),
        ),
        "words": (words, ("a\x1bb", "=1+1", "x\u202ey")),
        "header": (
            lambda b: announced(io.BytesIO(b), len(b)),
            (
                "RIFF\x24\x00\x00\x00WAVEdata\x10\x00\x00\x00",
                "FORM\x00\x00\x00\x20AIFFSSND\x00\x00\x00\x10",
                "caff\x00\x01",
            ),
        ),
    }


def for_each(options: tuple[str, ...], read: Callable[[str], object]) -> None:
    """Read with each of the options, also where the one before it was refused."""
    from epidote.core.errors import EpidoteError

    for option in options:
        try:
            read(option)
        except EpidoteError as error:
            assert str(error), "an error without words"


def search(name: str, seconds: int, seed: int) -> None:
    """Search one parser; the process ends with a code other than 0 at the first fault."""
    import atheris

    with atheris.instrument_imports(include=["epidote"]):
        from epidote.core.errors import EpidoteError

        read, begin_from = parsers()[name]

    def one(content: bytes) -> None:
        try:
            read(content)
        except EpidoteError as error:
            assert str(error), "an error without words"

    with tempfile.TemporaryDirectory() as corpus:
        for n, text in enumerate(begin_from):
            (Path(corpus) / str(n)).write_bytes(text.encode())
        options = [
            f"-max_total_time={seconds}",
            f"-timeout={SLOWEST_SECONDS}",
            f"-seed={seed}",
            "-max_len=4000",
            "-rss_limit_mb=2000",
            "-print_final_stats=1",
            "-verbosity=0",
        ]
        atheris.Setup([sys.argv[0], *options, corpus], one)
        atheris.Fuzz()


def main() -> int:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("parser", nargs="?")
    parser.add_argument("--seconds", type=int, default=600)
    parser.add_argument("--seed", type=int, default=1)
    given = parser.parse_args()
    if given.parser is None:
        print("\n".join(parsers()))
        return 0
    search(given.parser, given.seconds, given.seed)
    return 0


if __name__ == "__main__":
    sys.exit(main())
