"""Forms give back what they were given: over every kind of setting, whatever its text can show of it."""

from typing import get_args, get_origin

import pytest
from annotated_types import Ge, Gt, Le, Lt
from hypothesis import HealthCheck, assume, given, settings
from hypothesis import strategies as st
from PySide6.QtWidgets import QLineEdit

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError
from epidote.core.procedures.registry import procedures
from epidote.core.settings import LabelledEnum, make_settings
from epidote.core.text import list_items, list_text
from epidote.desktop.widgets.dialogs import RowDialog, conditions_text, parse_condition_sets, parse_conditions
from epidote.desktop.widgets.settings_form import SettingsForm
from epidote.study.models import Subject, Unit

MODELS = {"chain": Chain, **{key: one.Settings for key, one in procedures().items()}}
# what people write, and everything that means something in a field
TEXTS = st.text(st.sampled_from("abé 12,;=|\"Ω'\t"), max_size=12)
# each example builds a form: few suffice, for they differ in every field at once
FEW = settings(
    max_examples=12, deadline=None, suppress_health_check=[HealthCheck.function_scoped_fixture, HealthCheck.too_slow]
)


def numbers(field, kind):
    """Values within the field's limits, with more digits than a text shows."""
    low, high = -1e6, 1e6
    for limit in field.metadata:
        if isinstance(limit, Ge | Gt):
            low = float(getattr(limit, "ge", getattr(limit, "gt", low)))
        if isinstance(limit, Le | Lt):
            high = float(getattr(limit, "le", getattr(limit, "lt", high)))
    if kind is int:
        return st.integers(int(low), int(high))
    return st.floats(low, high, allow_nan=False, allow_infinity=False)


def values_of(field):
    """A strategy for a field's values; None for a kind that no form shows."""
    kinds = [kind for kind in get_args(field.annotation) or (field.annotation,) if kind is not type(None)]
    kind = field.annotation if get_origin(field.annotation) is tuple else kinds[0]
    if get_origin(kind) is tuple:
        item = get_args(kind)[0]
        if item is str:
            return st.lists(TEXTS, max_size=4).map(tuple)
        if item is int:
            return st.lists(st.integers(1, 64), min_size=1, max_size=4, unique=True).map(tuple)
        return st.lists(st.floats(1e-3, 10.0), max_size=4).map(tuple) if item is float else None
    if isinstance(kind, type) and issubclass(kind, LabelledEnum):
        return st.sampled_from(list(kind))
    if kind is bool:
        return st.booleans()
    if kind in (int, float):
        return numbers(field, kind)
    return TEXTS if kind is str else None


@pytest.mark.parametrize("name", MODELS)
def test_every_kind_of_setting_comes_back(qapp, qtbot, name):
    model = MODELS[name]
    kinds = {field: values_of(info) for field, info in model.model_fields.items()}
    changed = {field: kind for field, kind in kinds.items() if kind is not None}

    @FEW
    @given(st.data())
    def every_value(data):
        drawn = {field: data.draw(kind, field) for field, kind in changed.items() if data.draw(st.booleans())}
        while True:  # a rule between settings may refuse one of them
            try:
                made = make_settings(model, drawn)
                break
            except SettingError as error:
                refused = [field for field in error.settings if field in drawn] or list(drawn)
                assume(refused)
                drawn.pop(refused[0])
        form = SettingsForm(model, dict(made))
        qtbot.addWidget(form)
        assert make_settings(model, form.values()) == made
        # one other field is edited, as a hand does it: text by text
        lines = [n for n, editor in form.editors.items() if isinstance(editor, QLineEdit)]
        for line in lines[:2]:
            text = form.editors[line].text()
            form.editors[line].setText(f"{text} ")
            others = {k: v for k, v in form.values().items() if k != line}
            assert others == {k: v for k, v in dict(made).items() if k != line}
            form.editors[line].setText(text)
        assert make_settings(model, form.values()) == made

    every_value()


@given(st.lists(TEXTS, max_size=5))
def test_lists_of_texts_come_back_when_they_are_entered_again(items):
    assert list_items(list_text(items)) == tuple(items)


def test_lists_as_people_write_them():
    assert list_items("left, right") == ("left", "right")
    assert list_items("seat 2, mic 1; seat 2, mic 2") == ("seat 2, mic 1", "seat 2, mic 2")
    assert list_items('12" woofer, 1" tweeter') == ('12" woofer', '1" tweeter')
    assert list_items('"without end, right') == ('"without end', "right")
    assert list_text(("seat 2, mic 1", "seat 2, mic 2")) == "seat 2, mic 1; seat 2, mic 2"
    assert list_text(('12" woofer',)) == '12" woofer'


NAMES = TEXTS.filter(str.strip)


@given(st.dictionaries(NAMES, NAMES, max_size=4))
def test_conditions_come_back(conditions):
    text = conditions_text(conditions)
    assert parse_conditions(text) == conditions
    assert parse_condition_sets(text) == [conditions], "a row that is edited stays one row"


def test_a_row_comes_back_with_notes_of_several_lines_and_a_device_that_is_not_connected(qtbot):
    unit = Unit(1, "Ostrel", "P40", "7", "", "first line\nsecond line")
    row = Subject(2, unit, {"range": "1|2", "note": "a; b = c"}, "sound:alsa/gone", 0)
    dialog = RowDialog(None, (unit,), [("standin:wire", "Wire")], row)
    qtbot.addWidget(dialog)
    values = dialog.values()
    assert values["notes"] == unit.notes
    assert values["device"] == "sound:alsa/gone"
    assert values["conditions"] == dict(row.conditions)


def test_adding_a_row_says_nothing_wrong_before_something_is_entered(qtbot):
    dialog = RowDialog(None, (), [])
    qtbot.addWidget(dialog)
    dialog.show()
    go = dialog.buttons.button(dialog.buttons.StandardButton.Ok)
    assert not dialog.problem.isVisible() and not go.isEnabled()
    assert go.toolTip() == "Enter a manufacturer or a model."
    qtbot.keyClicks(dialog.serial, "7")
    assert dialog.problem.isVisible() and dialog.problem.text() == "Enter a manufacturer or a model."
    qtbot.keyClicks(dialog.maker, "Ostrel")
    assert go.isEnabled() and not dialog.problem.isVisible()
