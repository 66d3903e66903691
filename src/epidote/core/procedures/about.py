"""What a procedure answers, in words for somebody who chooses one."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from enum import StrEnum
from typing import Any


class QuestionGroup(StrEnum):
    """What is asked; the order is that of the chooser."""

    LEVEL = "Level and response"
    DISTORTION = "Distortion"
    NOISE = "Noise"
    TIME = "Time"
    IMPEDANCE = "Impedance"
    OTHER = "Other"


@dataclass(frozen=True)
class About:
    """question: that it answers. played: what comes out. gives: what it measures. needs: "" where nothing special.

    sketch: points of a small drawing of a typical curve, both from 0 to 1.
    """

    group: QuestionGroup
    question: str
    played: str
    gives: str
    needs: str = ""
    sketch: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True)
class Preset:
    """Settings by name that differ from the defaults, and why somebody would take them."""

    name: str
    settings: Mapping[str, Any]
    why: str = ""
