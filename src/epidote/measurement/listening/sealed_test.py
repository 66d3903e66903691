"""Listening tests with a sealed key.

Key and nonce are kept in the study; their SHA-256, the commitment, is made before anybody listens, so that nothing can
be changed afterwards without being noticed.
"""

from __future__ import annotations

import hashlib
import json
import secrets
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

from pydantic import BaseModel, ConfigDict

from epidote.core.errors import SettingError
from epidote.core.signals.signal import Samples
from epidote.measurement.listening.clips import Clip, Matched, needs_reason, require_matched
from epidote.measurement.listening.kinds import LETTERS, QUALITY, ListeningDesign, ListeningKind, Target, kind_named
from epidote.study.annotations import valid
from epidote.study.models import StudyError
from epidote.study.store import Study

TEST, REVEAL = "listening test", "listening reveal"
MOST_TRIALS = 100


class SealedTest(BaseModel):
    """A test as the study keeps it. letters: name of the clip under each code; key: what each trial plays, as the kind
    of test reads it; files: SHA-256 of each file that was handed out, by its name; runs: run of each clip by its name.
    """

    model_config = ConfigDict(frozen=True, extra="ignore")

    number: str
    kind: str
    trials: int
    letters: dict[str, str]
    key: list[str]
    nonce: str
    commitment: str
    files: dict[str, str] = {}
    runs: dict[str, int] = {}
    scale: str = QUALITY.key
    matching: str
    overruled: str = ""
    made: str

    @property
    def commitment_kept(self) -> bool:
        """Whether key and nonce still give the commitment."""
        return commitment_of(self.letters, self.key, self.nonce) == self.commitment

    @property
    def test_kind(self) -> ListeningKind:
        """The kind of test. Raises SettingError for one that this version does not know."""
        return kind_named(self.kind)

    def targets(self, trial: int) -> tuple[Target, ...]:
        """Return what can be played in a trial (from 1)."""
        return self.test_kind.targets(self.key[trial - 1], self.letters)


class Reveal(BaseModel):
    """That the key of a test was shown, and when: whoever answers after that may know it."""

    model_config = ConfigDict(frozen=True, extra="ignore")

    test: str
    made: str


def commitment_of(letters: dict[str, str], key: Sequence[str], nonce: str) -> str:
    """Return the SHA-256 of key and nonce, as it is written before the test."""
    text = json.dumps({"letters": letters, "key": list(key)}, sort_keys=True, ensure_ascii=False)
    return hashlib.sha256(f"{nonce}\n{text}".encode()).hexdigest()


@dataclass(frozen=True, eq=False)
class NewTest:
    """A test that was drawn and not kept yet, with the samples (frames, channels) of each code."""

    test: SealedTest
    sounds: dict[str, Samples]
    rate: float


def draw_test(matched: Matched, design: ListeningDesign) -> NewTest:
    """Draw letters and key of a test by a cryptographic generator. Raises SettingError for what does not fit."""
    kind = kind_named(design.kind)
    count = len(matched.clips)
    if not kind.least <= count <= kind.most:
        wanted = f"exactly {kind.least}" if kind.least == kind.most else f"{kind.least} to {kind.most}"
        raise SettingError(
            f"“{kind.title}” needs {wanted} clips; there are {count}. Select other rows, or a row and the original."
        )
    if not 1 <= design.trials <= MOST_TRIALS:
        raise SettingError(
            f"{design.trials} trials is out of range: use 1 to {MOST_TRIALS}, set before the test begins."
        )
    require_matched(matched, strict=design.strict, overruled=design.overruled)
    chance = secrets.SystemRandom()
    clips: list[Clip] = chance.sample(list(matched.clips), count)
    codes = LETTERS[:count]
    letters = {code: clip.name for code, clip in zip(codes, clips, strict=True)}
    key = kind.draw(codes, design.trials, chance)
    nonce = secrets.token_hex(32)
    test = SealedTest(
        number=secrets.token_hex(6),
        kind=kind.key,
        trials=len(key),
        letters=letters,
        key=key,
        nonce=nonce,
        commitment=commitment_of(letters, key, nonce),
        runs={clip.name: clip.run for clip in clips},
        scale=design.scale,
        matching=matched.words,
        overruled=design.overruled.strip() if needs_reason(matched, strict=design.strict) else "",
        made=datetime.now(UTC).isoformat(timespec="seconds"),
    )
    return NewTest(test, {code: clip.samples for code, clip in zip(codes, clips, strict=True)}, clips[0].rate)


def keep_test(study: Study, test: SealedTest) -> None:
    """Keep a test with its key in the study, before anybody listens. Raises StudyError."""
    study.entries.add(TEST, test.model_dump(mode="json"), person=study.person)


def sealed_tests(study: Study) -> list[SealedTest]:
    """Return the listening tests of a study, oldest first."""
    return [test for _, test in valid(study.entries.all(TEST), SealedTest)]


def find_test(study: Study, number: str) -> SealedTest | None:
    """Return the test of a number; the last one for "". None where there is none."""
    return next((t for t in reversed(sealed_tests(study)) if number in ("", t.number)), None)


def revealed_tests(study: Study) -> dict[str, str]:
    """Return when each revealed test was first revealed (ISO 8601, UTC), by the number of the test."""
    found: dict[str, str] = {}
    for _, reveal in valid(study.entries.all(REVEAL), Reveal):
        found.setdefault(reveal.test, reveal.made)
    return found


def record_reveal(study: Study, test: SealedTest) -> None:
    """Record that the key of a test is shown, once. Raises StudyError where the study cannot be written to."""
    if test.number in revealed_tests(study):
        return
    if study.read_only:
        raise StudyError(
            f"The study is read-only ({study.why_read_only}), so it could not be recorded that the key was shown."
            " Nothing was revealed; close the study elsewhere, or use a copy."
        )
    made = datetime.now(UTC).isoformat(timespec="seconds")
    study.entries.add(REVEAL, Reveal(test=test.number, made=made).model_dump(), person=study.person)


def require_sealed(study: Study, number: str) -> None:
    """Raise StudyError where the key of a test was shown: an answer given after that says nothing."""
    made = revealed_tests(study).get(number)
    if made is not None:
        raise StudyError(
            f"The answer key of this test was revealed {made[:16].replace('T', ' ')} UTC. Answers given after that do"
            " not count, and none were saved; start a new test."
        )
