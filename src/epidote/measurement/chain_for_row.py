"""The chain with the conditions of a row applied."""

from __future__ import annotations

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml
from epidote.study.models import Subject
from epidote.study.store import Study


def chain_for_subject(study: Study, subject: Subject) -> Chain:
    """Return the chain that a row's new runs use: the study's own; for the baseline without probe and load, otherwise
    with the row's load, probe (as 10:1), rate and buffer.
    """
    return chain_of_row(chain_from_toml(study.chain_toml), subject)


def chain_of_row(chain: Chain, subject: Subject) -> Chain:
    """Return the study's chain as a row uses it."""
    if subject.is_baseline:
        return chain.wired()
    return chain.with_conditions(subject.conditions)
