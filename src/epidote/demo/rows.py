"""A row of the demo as data."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from epidote.core.chain.chain import Chain


@dataclass(frozen=True)
class Row:
    """measured: the columns that are measured of it; chain: its own, None for the study's."""

    maker: str
    model: str
    conditions: Mapping[str, str]
    device: str
    measured: tuple[str, ...]
    notes: str = ""
    chain: Chain | None = None
