"""What is in a study, without opening it."""

import sqlite3

import pytest

from epidote.core.errors import UnusableInputError
from epidote.study.glance import glance
from epidote.study.preset_library import PresetLibrary
from epidote.study.store import create_study


def test_counts_and_names(tmp_path):
    study = create_study(tmp_path / "Bench", "On the bench")
    units = [study.add_unit("Ostrel", f"P{n}") for n in range(6)]
    for unit in units:
        study.add_subject(unit, {})
    gone = study.add_subject(units[0], {"gain": "low"})
    study.set_deleted("subject", gone.id, True)
    study.add_column("tone", {}, "Single tone", "1 kHz")
    seen = glance(study.path)  # while it is open and locked
    assert (seen.title, seen.rows, seen.columns, seen.runs, seen.measured) == ("On the bench", 6, 1, 0, None)
    assert seen.unit_count == 6 and seen.units[:2] == ("Ostrel P0", "Ostrel P1")
    study.close()


@pytest.mark.parametrize("spoil", ["gone", "empty", "foreign", "link"])
def test_what_is_no_study_has_nothing_in_it(tmp_path, spoil):
    path = tmp_path / "Some.epidote"
    path.mkdir()
    if spoil == "empty":
        (path / "study.sqlite").write_bytes(b"")
    elif spoil == "foreign":
        with sqlite3.connect(path / "study.sqlite") as connection:
            connection.execute("CREATE TABLE other (id INTEGER)")
        connection.close()
    elif spoil == "link":
        (tmp_path / "elsewhere").write_bytes(b"")
        (path / "study.sqlite").symlink_to(tmp_path / "elsewhere")
    assert glance(path) is None


def test_own_presets_are_kept_by_procedure(tmp_path):
    library = PresetLibrary(tmp_path)
    library.keep("tone", "Mine", {"frequency": 440.0})
    library.keep("tone", "Other", {"frequency": 880.0})
    library.keep("noise", "Mine", {"duration": 9.0})
    assert PresetLibrary(tmp_path).presets("tone") == {"Mine": {"frequency": 440.0}, "Other": {"frequency": 880.0}}
    library.delete("tone", "Mine")
    assert list(library.presets("tone")) == ["Other"]
    assert library.presets("gain") == {}


@pytest.mark.parametrize("content", ["", "[]", "{", "\x00\x01", "3"])
def test_a_spoiled_preset_file_is_left_as_it_is(tmp_path, content):
    library = PresetLibrary(tmp_path)
    file = tmp_path / "tone.json"
    file.write_text(content, encoding="utf-8")
    with pytest.raises(UnusableInputError, match="not a preset file"):
        library.presets("tone")
    with pytest.raises(UnusableInputError):
        library.keep("tone", "Mine", {})
    assert file.read_text(encoding="utf-8") == content


def test_a_name_with_a_slash_stays_in_the_folder(tmp_path):
    PresetLibrary(tmp_path / "presets").keep("../../etc/passwd", "Mine", {"a": 1})
    assert [p.parent.name for p in tmp_path.rglob("*.json")] == ["presets"]
