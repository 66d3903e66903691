"""The chain of a row: its own where it has one, else the study's, with the row's conditions applied."""

from __future__ import annotations

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.study.models import Subject
from epidote.study.store import Study

_OWN = "chain of row {}"  # name of the study's setting that holds it, as TOML


def chain_for_subject(study: Study, subject: Subject) -> Chain:
    """Return the chain that a row's new runs use: its own or the study's; for the baseline without probe and load,
    otherwise with the row's load, probe (as 10:1), rate and buffer.
    """
    own = study.setting(_OWN.format(subject.id))
    return chain_of_row(chain_from_toml(own or study.chain_toml), subject)


def set_chain_of_subject(study: Study, subject: Subject, chain: Chain | None) -> None:
    """Give a row a chain of its own, such as one with microphones; None: it uses the study's again."""
    study.set_setting(_OWN.format(subject.id), chain_to_toml(chain) if chain is not None else "")


def chain_of_row(chain: Chain, subject: Subject) -> Chain:
    """Return the study's chain as a row uses it."""
    if subject.is_baseline:
        return chain.wired()
    return chain.with_conditions(subject.conditions)
