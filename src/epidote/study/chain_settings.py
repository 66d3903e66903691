"""Names of the study's settings that hold chains, as TOML: the study's, and those that rows have of their own."""

from __future__ import annotations

from collections.abc import Mapping

from epidote.study.models import Subject

STUDY_CHAIN = "chain"
_OWN = "chain of row {}"


def chain_setting(subject: Subject) -> str:
    """Return the name of the study's setting that holds a row's own chain, as TOML; empty for the study's chain."""
    return _OWN.format(subject.id)


def setting_in_use(settings: Mapping[str, str], subject: Subject) -> str:
    """Return the name of the setting that holds the chain a row uses: its own, or the study's."""
    own = chain_setting(subject)
    if settings.get(own):
        return own
    return STUDY_CHAIN
