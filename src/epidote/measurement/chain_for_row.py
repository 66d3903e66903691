"""The chain of a row: its own where it has one, else the study's, with the row's conditions applied."""

from __future__ import annotations

from collections.abc import Mapping

from epidote.core.chain.chain import Chain
from epidote.core.chain.chain_toml import chain_from_toml, chain_to_toml
from epidote.study.chain_settings import STUDY_CHAIN, chain_setting, setting_in_use
from epidote.study.models import Subject
from epidote.study.store import Study


def chain_from_settings(settings: Mapping[str, str], subject: Subject) -> Chain:
    """Return the chain that a row's new runs use, from a study's settings: its own or the study's; for the baseline
    without probe and load, otherwise with the row's load, probe (as 10:1), rate and buffer.
    """
    return chain_of_row(chain_from_toml(settings.get(setting_in_use(settings, subject), "")), subject)


def chain_of_study(settings: Mapping[str, str]) -> Chain:
    """Return the study's own chain from its settings, as a unit without conditions uses it."""
    return chain_from_toml(settings.get(STUDY_CHAIN, ""))


def chain_for_subject(study: Study, subject: Subject) -> Chain:
    """Return the same from the study."""
    names = (chain_setting(subject), STUDY_CHAIN)
    return chain_from_settings({name: study.setting(name) for name in names}, subject)


def set_chain_of_subject(study: Study, subject: Subject, chain: Chain | None) -> None:
    """Give a row a chain of its own, such as one with microphones; None: it uses the study's again."""
    study.set_setting(chain_setting(subject), chain_to_toml(chain) if chain is not None else "")


def chain_of_row(chain: Chain, subject: Subject) -> Chain:
    """Return the study's chain as a row uses it."""
    if subject.is_baseline:
        return chain.wired()
    return chain.with_conditions(subject.conditions)
