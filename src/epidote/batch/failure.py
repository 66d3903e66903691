"""A job that has no result. Apart from the jobs themselves: who computes them need not load what they compute with."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class JobFailure:
    """Why a job has no result, in words."""

    words: str
