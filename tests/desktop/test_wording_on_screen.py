"""The rules for words, held against the real window: commands, shortcuts, labels of buttons, tooltips, accessible
names.
"""

import re
from collections import Counter

import pytest
from PySide6.QtGui import QShortcut
from PySide6.QtWidgets import QAbstractButton, QCheckBox, QComboBox, QLabel, QLineEdit, QTabBar, QToolButton, QWidget

from epidote.core.procedures.registry import procedures
from epidote.desktop.shell.actions import MENUS
from tests.desktop.driver import wait_for

# first words in lower case that are right: a unit, a quantity of the trade, what completes a label
LOWER_FIRST = re.compile(r"^(dB|mV|µV|mW|kHz|ppm|re |and$|at$|to$)")


@pytest.fixture
def shown(window, qtbot):
    """The window after every page was shown once."""
    for page in ("Chain", "Watch", "Matrix"):
        window.show_page(page)
        wait_for(qtbot, lambda p=page: window.stack.currentWidget() is window.pages[p])
    wait_for(qtbot, lambda: window.page_named("Chain").form is not None and window.page_named("Watch").row.count() > 0)
    return window


def test_commands_are_sentences_of_their_own(window):
    words = [c.title for c in window.commands]
    assert all(w[0].isupper() for w in words)
    assert not [w for w in words if " …" in w or "..." in w or w.endswith(".")]
    assert {c.menu.partition("/")[0] for c in window.commands} == {title.replace("&", "") for title in MENUS}
    for menu in {c.menu for c in window.commands}:
        titles = Counter(c.title for c in window.commands if c.menu == menu)
        assert max(titles.values()) == 1
        # the letters that select within a menu differ, as freedesktop and Qt ask
        submenus = {c.menu.partition("/")[2] for c in window.commands if c.menu.startswith(f"{menu}/")}
        words = [*(c.words for c in window.commands if c.menu == menu), *submenus]
        letters = Counter(w[w.index("&") + 1].lower() for w in words)
        assert [letter for letter, count in letters.items() if count > 1] == [], menu


def test_no_two_shortcuts_are_alike(window):
    keys = [k.toString() for a in window.actions_by_name.values() for k in a.shortcuts()]
    keys += [s.key().toString() for s in window.findChildren(QShortcut)]
    keys += [b.shortcut().toString() for b in window.findChildren(QAbstractButton) if not b.shortcut().isEmpty()]
    assert [k for k, count in Counter(keys).items() if count > 1] == []
    assert len(keys) > 40


def test_buttons_say_what_they_do(shown):
    for button in shown.findChildren(QAbstractButton):
        words = button.text()
        where = f"{type(button.parent()).__name__}: {words!r}"
        if len(words.strip("‹›▾ ")) == 0 and button.isVisibleTo(shown) and not isinstance(button.parent(), QTabBar):
            if type(button) is QAbstractButton:  # the corner of a table
                continue
            assert button.toolTip() or isinstance(button, QCheckBox), where
        elif words and not LOWER_FIRST.match(words):
            assert not words[0].islower(), where
        assert " …" not in words and " · " not in words, where


def test_units_and_channels_on_toggles_are_explained(shown):
    abbreviations = re.compile(r"^(%|dB|dBFS|dBV|dBu|dBr|dB SPL|Ch \d+|R\d+|Log|Linear)$")
    found = [b for b in shown.findChildren(QToolButton) if abbreviations.match(b.text())]
    assert len(found) >= 6
    assert [b.text() for b in found if not b.toolTip()] == []


def test_buttons_with_a_single_key_name_it(shown):
    watch = shown.page_named("Watch")
    for button, key in ((watch.generator.switch, "Space"), (watch.states.hold, "H or S"), (watch.settings.again, "R")):
        assert f"({key})" in button.toolTip()


def test_every_item_of_the_trust_strip_says_what_it_means(shown):
    for key, button in shown.strip.items.items():
        assert len(button.toolTip()) > 20, key
        assert button.toolTip() != button.text()


def test_fields_have_a_tooltip_and_a_name(shown, qtbot):
    editors = [w for w in shown.findChildren(QWidget) if isinstance(w, (QComboBox, QLineEdit)) and w.isVisibleTo(shown)]
    for editor in editors:
        if isinstance(editor.parent(), QComboBox):
            continue
        assert editor.accessibleName() or editor.toolTip() or editor.placeholderText(), editor.objectName()
    for name in (w.accessibleName() for w in shown.findChildren(QWidget)):
        assert not name or not name[0].islower(), name


@pytest.mark.parametrize("key", procedures())
def test_forms_show_labels_and_keep_values(qtbot, key):
    """What a form shows is words; what it gives back are the names and values of the settings, whichever way round
    they were set.
    """
    from epidote.core.settings import LabelledEnum, label_of, make_settings
    from epidote.desktop.app import application
    from epidote.desktop.widgets.settings_form import SettingsForm

    application()
    model = procedures()[key].Settings
    form = SettingsForm(model, {})
    qtbot.addWidget(form)
    labels = {w.text() for w in form.findChildren(QLabel) if w.buddy() is not None}
    assert labels == {label_of(model, name) for name in model.model_fields}
    assert all(w.toolTip() for w in form.findChildren(QWidget) if w.accessibleName())
    assert make_settings(model, form.values()) == model()
    for name, field in model.model_fields.items():
        if isinstance(field.annotation, type) and issubclass(field.annotation, LabelledEnum):
            last = list(field.annotation)[-1]
            form.set_text(name, last.label)
            assert form.values()[name] == str(last)
            form.set_text(name, str(field.default))
            assert form.values()[name] == str(field.default)


def test_toggles_show_their_state(window, rows, columns, qtbot):
    window.matrix.selection.select([rows["a25"]], columns["response"])
    reference, percent = (window.actions_by_name[n] for n in ("reference", "percent"))
    assert reference.isCheckable() and not reference.isChecked()
    window.matrix.selection.select([rows["high"]], columns["response"])
    assert reference.isChecked()
    assert window.actions_by_name["show row"].isChecked()
    assert not percent.isChecked()
    percent.trigger()
    assert percent.isChecked() and window.matrix.look.percent
    percent.trigger()
    assert not percent.isChecked()
    window.actions_by_name["show row"].trigger()
    wait_for(qtbot, lambda: not window.actions_by_name["show row"].isChecked())
