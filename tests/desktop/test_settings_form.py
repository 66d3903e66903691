"""The settings form shows what matters now, and loses nothing of what it does not show."""

from __future__ import annotations

from typing import Any

import pytest

from epidote.core.errors import SettingError
from epidote.core.procedures import registry
from epidote.core.quantities.units import parse_as
from epidote.core.settings import (
    Settings,
    describe_settings,
    is_secondary,
    make_settings,
    range_in_words,
    setting,
    unit_of,
)
from epidote.desktop.widgets.settings_form import SettingsForm


def form_for(qtbot: Any, procedure: str, values: dict[str, Any] | None = None, **options: Any) -> SettingsForm:
    form = SettingsForm(registry.procedure(procedure).Settings, values or {}, **options)
    qtbot.addWidget(form)
    form.show()
    return form


def test_settings_of_a_response_come_and_go_with_the_stimulus(qtbot: Any) -> None:
    form = form_for(qtbot, "response")
    assert "colour" not in form.shown()
    assert "material" not in form.shown()
    form.set_text("stimulus", "noise")
    assert "colour" in form.shown()
    assert "material" not in form.shown()
    form.set_text("stimulus", "file")
    assert "colour" not in form.shown()
    assert "material" in form.shown()
    form.set_text("stimulus", "sweep")
    assert {"colour", "material"}.isdisjoint(form.shown())


def test_a_hidden_setting_keeps_what_was_typed(qtbot: Any) -> None:
    form = form_for(qtbot, "response")
    form.set_text("stimulus", "noise")
    form.set_text("colour", "white")
    form.set_text("stimulus", "sweep")
    assert form.values()["colour"] == "white"
    form.set_text("stimulus", "noise")
    assert form.values()["colour"] == "white"


def test_a_number_of_0_takes_its_dependants_away(qtbot: Any) -> None:
    form = form_for(qtbot, "crosstalk")
    assert "start_frequency" in form.shown()
    form.set_text("points_per_octave", "0")
    assert "start_frequency" not in form.shown()
    form.set_text("points_per_octave", "3")
    assert "start_frequency" in form.shown()


def test_seldom_changed_settings_stay_behind_a_button(qtbot: Any) -> None:
    form = form_for(qtbot, "tone")
    assert "harmonics" not in form.shown()
    assert form.more.isVisible()
    form.more.click()
    assert "harmonics" in form.shown()
    form.more.click()
    assert "harmonics" not in form.shown()


def test_a_changed_or_wrong_setting_is_never_hidden(qtbot: Any) -> None:
    changed = form_for(qtbot, "tone", {"harmonics": 5})
    assert "harmonics" in changed.shown()
    assert not changed.more.isVisible(), "nothing is left to show"
    form = form_for(qtbot, "tone")
    form.set_text("harmonics", "1")
    assert "harmonics" in form.shown()
    assert form.problem()
    form.set_text("harmonics", "7")
    assert not form.problem()


def test_a_recomputation_shows_all_that_it_can_change(qtbot: Any) -> None:
    form = form_for(qtbot, "tone", only=("band_low", "band_high", "harmonics"))
    assert form.shown() == ("band_low", "band_high", "harmonics")
    assert not form.more.isVisible()


@pytest.mark.parametrize("procedure", sorted(registry.registered()))
def test_every_form_gives_the_settings_of_its_procedure(qtbot: Any, procedure: str) -> None:
    """Whether shown or hidden, each setting reaches the run; the usual ones are there at once."""
    form = form_for(qtbot, procedure)
    model = registry.procedure(procedure).Settings
    assert not form.problem()
    assert make_settings(model, form.values()) == model()
    assert form.shown()
    assert not any(is_secondary(model, name) for name in form.shown())
    for name in model.model_fields:
        assert name in form.editors


def test_a_description_leaves_out_what_had_no_meaning() -> None:
    model = registry.procedure("response").Settings
    values = model().model_dump(mode="json")
    assert "Noise spectrum" not in describe_settings(model, values)
    assert "Noise spectrum" in describe_settings(model, {**values, "stimulus": "noise"})


def test_a_setting_depends_on_the_default_where_nothing_is_said() -> None:
    """Two settings alone, so that the rule is tested without a procedure."""
    from epidote.core.settings import OnlyWith, applies

    class Example(Settings):
        mode: str = setting("a", "Mode", "A mode")
        detail: int = setting(1, "Detail", "A detail of mode a", only_with=OnlyWith("mode", ("a",)))

    assert applies(Example, "detail", {})
    assert not applies(Example, "detail", {"mode": "b"})


def test_the_tooltip_says_meaning_and_range(qtbot: Any) -> None:
    form = form_for(qtbot, "impedance")
    assert form.editors["series_ohms"].toolTip() == "Value of the series resistor\nmore than 0 Ω, up to 10 MΩ"
    assert form.editors["level"].toolTip() == "Generator level\n-140 dBFS to 0 dBFS"


@pytest.mark.parametrize("procedure", sorted(registry.registered()))
def test_both_ends_of_a_stated_range_are_taken(procedure: str) -> None:
    """The words are read back by the parser of units, and the model judges the value."""
    model = registry.procedure(procedure).Settings
    for name, field in model.model_fields.items():
        words = range_in_words(model, name)
        if not words or words.startswith("more than"):
            continue
        for end in words.split(" to "):
            value: float | str = end
            if unit_of(field):
                value = parse_as(end, unit_of(field))
            try:
                make_settings(model, {name: value})
            except SettingError as error:  # a rule between two settings may refuse it, not the range
                assert "is not valid" not in str(error)


def test_a_wrong_value_is_said_below_its_field(qtbot: Any) -> None:
    form = form_for(qtbot, "tone")
    form.set_text("frequency", "loud")
    assert "“loud” is not valid" in form.problem()
    assert form.said_at_field
    assert form.errors["frequency"].isVisible()
    assert not form.errors["level"].isVisible()
    form.set_text("frequency", "1 kHz")
    form.problem()
    assert not form.errors["frequency"].isVisible()


def test_the_user_of_a_form_can_say_what_the_model_does_not_know(qtbot: Any) -> None:
    form = form_for(qtbot, "latency")
    form.show_problem("No device is connected.", ())
    assert not form.said_at_field
    form.show_problem("The band ends above half the sample rate.", ("band_high",))
    assert "band_high" in form.shown(), "a hidden setting that is wrong is shown"
    assert form.errors["band_high"].isVisible()
