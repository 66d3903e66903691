"""The part of the dome refit that is heard: programme through five units, and a blind test of a simulated listener."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import numpy as np

from epidote.core.analysis.listening.ear_model import at_ear_rate, noise_to_mask
from epidote.demo.rows import Row
from epidote.measurement.listening.answers import Sheet, keep_sheet
from epidote.measurement.listening.clips import align_run, clips_of_runs
from epidote.measurement.listening.kinds import ListeningDesign
from epidote.measurement.listening.preparation import runs_to_hear
from epidote.measurement.listening.sealed_test import NewTest, draw_test, keep_test, sealed_tests
from epidote.study.store import Study

HEARD_COLUMNS: Mapping[str, tuple[str, Mapping[str, Any]]] = {
    "music": ("programme", {"duration": 6, "level": -20}),
    "speech": ("programme", {"piece": "spoken line", "duration": 5, "level": -20}),
}
HEARD_ROWS = (
    Row(
        "Dome",
        "Patch cable",
        {"load": "10 kΩ", "probe": "1:1"},
        "standin:wire",
        ("music", "speech"),
        "A plain wire, to compare with by ear.",
    ),
)
LISTENER = "Simulated listener (no person)"
_COMPARED = ("Landor W2", "Dome Patch cable")  # how the rows' names begin
_WORDS = "the test is of a simulated listener, who is told nothing of the levels"
_SEED = 7
_STEP_DB = 6.0  # by how much the worst ratio must rise for the listener to hear one standard deviation better


def hear_demo(study: Study) -> None:
    """Have a simulated listener take a forced choice between wireless link and wire, once both were measured."""
    overview = study.overview()
    if sealed_tests(study):
        return
    listed = runs_to_hear(overview)
    found = [next((one for one in listed if one.name.startswith(name)), None) for name in _COMPARED]
    rows = [one for one in found if one is not None]
    if len(rows) < len(_COMPARED):
        return
    parts = [(one.name, one.run.id, align_run(study, one.run)) for one in rows]
    drawn = draw_test(
        clips_of_runs(parts, original=False, anchor=False), ListeningDesign("forced-choice", 16, overruled=_WORDS)
    )
    keep_test(study, drawn.test)
    keep_sheet(study, Sheet(test=drawn.test.number, listener=LISTENER, answers=_answers(drawn)))


def _answers(drawn: NewTest) -> list[str]:
    """Return what a listener would answer who hears the difference the better, the higher the ear model has it.

    The listener compares the unknown clip with both, each comparison blurred by a noise of his own (signal detection
    with one criterion).
    """
    first, second = (at_ear_rate(drawn.sounds[code][:, 0], drawn.rate) for code in drawn.test.letters)
    worst = noise_to_mask(first, second).worst
    clear = max(0.0, worst / _STEP_DB)
    rng = np.random.default_rng(_SEED)
    answers = []
    for unknown in drawn.test.key:
        towards_first = clear / 2 if unknown == "A" else -clear / 2
        answers.append("A" if towards_first + rng.standard_normal() > 0 else "B")
    return answers
