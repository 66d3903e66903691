"""What procedures say of themselves: for the chooser, for tooltips and for the guide."""

import pytest

from epidote.core.procedures.about import QuestionGroup
from epidote.core.procedures.registry import first_look, procedures
from epidote.core.results.caution import Caution, Remedy, Weight
from epidote.core.settings import make_settings

EACH = pytest.mark.parametrize("key", sorted(procedures()))


@EACH
def test_every_procedure_says_what_it_answers(key):
    about = procedures()[key].about
    assert about.question.endswith("?") and about.group is not QuestionGroup.OTHER
    assert about.played and about.gives.endswith(".")
    assert len(about.sketch) >= 3
    assert all(0 <= x <= 1 and 0 <= y <= 1 for x, y in about.sketch)
    assert [x for x, _ in about.sketch] == sorted(x for x, _ in about.sketch)


@EACH
def test_every_reading_has_a_meaning(key):
    for kind in procedures()[key].readings:
        assert kind.meaning.endswith("."), kind.key
        assert kind.meaning[0].isupper(), kind.key


@EACH
def test_presets_are_settings_of_their_procedure(key):
    proc = procedures()[key]
    defaults = proc.Settings().model_dump(mode="json")
    for preset in proc.presets:
        made = make_settings(proc.Settings, {**defaults, **preset.settings}).model_dump(mode="json")
        assert {name: made[name] for name in preset.settings} == dict(preset.settings), preset.name
        assert set(preset.settings) <= set(defaults), preset.name
    assert len({p.name for p in proc.presets}) == len(proc.presets)


def test_intermodulation_presets_are_the_pairs_of_the_standards():
    """60 Hz and 7 kHz, 4:1 (SMPTE RP 120, as remembered); 19 kHz and 20 kHz, 1:1 (common practice, no source)."""
    presets = {p.name: p.settings for p in procedures()["intermodulation"].presets}
    pairs = {(s["frequency_1"], s["frequency_2"], s["ratio"]) for s in presets.values()}
    assert pairs == {(60.0, 7000.0, 4.0), (19000.0, 20000.0, 1.0)}


def test_one_procedure_takes_recordings_of_unknown_origin_first():
    assert [key for key, proc in procedures().items() if proc.first_look] == [first_look().key]
    assert first_look().of_any_recording


def test_a_new_study_asks_whether_it_is_flat_and_clean():
    assert sorted(key for key, proc in procedures().items() if proc.in_new_study) == ["response", "tone"]


def test_cautions_have_a_weight_and_most_a_remedy():
    assert {c.weight for c in Caution} == set(Weight)
    assert Caution.CLIPPED.weight is Weight.INVALID
    assert Caution.NEAR_FLOOR.weight is Weight.DOUBTFUL
    assert Caution.LOAD_UNCONFIRMED.weight is Weight.NOTE
    assert Caution.LOAD_UNCONFIRMED.remedy is Remedy.LOAD
    assert Caution.CLIPPED.remedy is Remedy.SETTINGS


def test_an_unconfirmed_load_bears_on_powers_only():
    """P = U^2 / R: a response in dB does not depend on R, a power does."""
    assert Caution.LOAD_UNCONFIRMED.bears_on({"dB", "W"})
    assert not Caution.LOAD_UNCONFIRMED.bears_on({"dB", "Hz", "V"})
    assert not Caution.CALIBRATION_STALE.bears_on({"dB", "Hz"})
    assert Caution.CALIBRATION_STALE.bears_on({"V"})
    assert Caution.CLIPPED.bears_on({"Hz"})
