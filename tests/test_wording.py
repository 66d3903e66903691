"""The rules for words on screens that a test can hold: capitals, ellipses, unique names, lengths, and words that
must not come back.
"""

import ast
import re
from collections import Counter
from collections.abc import Iterator
from functools import cache
from pathlib import Path

import pytest

from epidote.core.chain.chain import Chain
from epidote.core.errors import SettingError, in_window
from epidote.core.procedures.registry import procedures, reading_titles
from epidote.core.settings import LabelledEnum, label_of, make_settings, unit_of

SOURCE = Path(__file__).resolve().parents[1] / "src" / "epidote"
LONGEST_TITLE = 22  # characters of a reading's title that its table shows
MODELS = {"chain": Chain, **{key: carried.Settings for key, carried in procedures().items()}}

# the private language that went; each with what the trade says instead
GONE = {
    r"\bchosen\b": "selected",
    r"\bchoose\b(?! another)": "select (a decision may be chosen: choose another name)",
    r"\banew\b": "again, restart",
    r"\bstaircase": "level sweep, stepped sweep",
    r"\bstretch(es)?\b": "section, selection",
    r"\bleaflet": "data sheet",
    r"\bpublished figure": "claim",
    r"\bas published\b(?!,)": "claim",
    r"\bwired to\b": "device, connected to",
    r"\bheld state": "snapshot",
    r"\bbuffer as it likes": "buffer: default",
    r"\bgain as it stands": "gain not noted",
    r"\bhighest so far": "peak hold",
    r"\beach by itself\b": "averaging off",
    r"\bfirst shot\b": "level check",
    r"\bshort shot\b": "level check",
    r"\blook at the path": "check signal path",
    r"\bthe chain's own\b": "baseline",
    r"\bkind of curve": "curve type",
    r"\bgreatest\b": "maximum",
    r"\bwavers?\b": "delay modulation",
    r"\bnudge": "shift",
    r"\blate by\b": "delay, latency",
    r"\bas it came\b(?! back)": "original, unaligned",
    r"\bturn the second over": "invert polarity",
    r"\blines of the mains": "mains hum",
    r"\bheld against\b": "compared with",
    r"\bless the reference": "difference from",
    r"\bdiffers in\b": "different",
    r"\bno difference that can be shown": "no measurable difference",
    r"\bto spare\b": "margin",
    r"\boff by\b": "misses by",
    r"\bnot said\b": "not specified",
    r"\bnone stated\b": "not set",
    r"\bwho measures\b": "operator",
    r"\bbeside the graph": "side panel",
    r"\btake the level\b": "read level",
    r"\bleave it as it is\b": "cancel",
    r"\bnot there now\b": "not connected",
    r"\bvanished\b": "disconnected",
    r"\bsomething went wrong that should not": "internal error",
    r"\bcommon practice\b": "rule of thumb",
    r"\bmake room\b": "free some space",
    r"\bdo it again\b": "try again",
    r"\bsound files?\b": "audio file",
    r"\bThere (are|is):": "Available:",
    r"\bmended\b": "corrected",
    r"\bput into the study\b": "save to study",
    r"\btaken from\b": "imported",
    r"\btyped\b": "entered",
    r"\bcan't|don't|won't\b": "no contractions",
    r"\bplease\b|\bsorry\b": "neither",
    r"value error|input should be|validation error": "the validation library's words",
}
# texts that no person reads: values that are stored, and former ones that are still read
ALLOWED = {"as typed", "no difference that can be shown"}


@cache
def screen_texts() -> list[tuple[str, str]]:
    """Every string of the sources that holds a blank, with its place; docstrings and SQL left out."""
    found = []
    for path in sorted(SOURCE.rglob("*.py")):
        tree = ast.parse(path.read_text())
        holders = (ast.Module, ast.ClassDef, ast.FunctionDef)
        bodies = [n.body[0] for n in ast.walk(tree) if isinstance(n, holders) and n.body]
        docstrings = {id(first.value) for first in bodies if isinstance(first, ast.Expr)}
        for node in ast.walk(tree):
            if not isinstance(node, ast.Constant) or not isinstance(node.value, str) or id(node) in docstrings:
                continue
            if " " in node.value.strip() and not re.match(r"\s*(SELECT|INSERT|UPDATE|DELETE)\b", node.value):
                found.append((f"{path.relative_to(SOURCE)}:{node.lineno}", node.value))
    return found


@pytest.mark.xdist_group("screen texts")
def test_words_that_are_gone_do_not_come_back():
    there = [
        f"{place}: {text}; say: {better}"
        for place, text in screen_texts()
        if text not in ALLOWED
        for pattern, better in GONE.items()
        if re.search(pattern, text, re.IGNORECASE)
    ]
    assert not there


@pytest.mark.xdist_group("screen texts")
def test_an_ellipsis_has_no_blank_before_it():
    texts = screen_texts()
    assert len(texts) > 1000
    assert not [f"{place}: {text}" for place, text in texts if re.search(r"\w …", text) or "..." in text]


@pytest.mark.parametrize("name", MODELS)
def test_every_setting_has_a_label_and_a_meaning(name):
    model = MODELS[name]
    labels = [label_of(model, field) for field in model.model_fields]
    assert len(set(labels)) == len(labels)
    for label, field in zip(labels, model.model_fields.values(), strict=True):
        assert label[0].isupper() and "_" not in label and not label.endswith((".", "…"))
        assert field.description and field.description[0].isupper()
        if isinstance(field.annotation, type) and issubclass(field.annotation, LabelledEnum):
            assert all(not member.label[0].islower() for member in field.annotation)


@pytest.mark.parametrize("key", procedures())
def test_titles_of_readings(key):
    carried = procedures()[key]()
    titles = reading_titles(carried)
    assert carried.title[0].isupper()
    assert [t for t, count in Counter(titles.values()).items() if count > 1] == []
    assert [t for t in titles.values() if len(t) > LONGEST_TITLE or t[0].islower() or "…" in t] == []
    assert [v.group for v in (*carried.views, *carried.step_views) if v.group[0].islower()] == []
    assert [v.axis for v in (*carried.views, *carried.step_views) if v.axis[0].islower()] == []


def wrong(model: type, **values: object) -> SettingError:
    with pytest.raises(SettingError) as caught:
        make_settings(model, values)
    return caught.value


def test_errors_name_the_label_in_the_window_and_the_setting_elsewhere():
    model = procedures()["tone"].Settings
    order = wrong(model, band_low=30000.0)
    assert str(order) == "band_low 30000 Hz must be lower than band_high 20000 Hz."
    assert in_window(order) == "Lower band limit 30000 Hz must be lower than Upper band limit 20000 Hz."
    assert order.settings == ("band_low", "band_high")
    limit = wrong(model, harmonics=1000)
    assert str(limit) == "harmonics: 1000 is not valid; enter 50 or less."
    assert in_window(limit) == "Highest harmonic: 1000 is not valid; enter 50 or less."
    assert in_window(wrong(model, harmonics="ten")) == "Highest harmonic: “ten” is not valid; enter a whole number."
    assert in_window(wrong(model, weighting="B")) == "Weighting: “B” is not valid; use one of: none, A, C, 468."
    assert str(wrong(model, colour="red")).startswith("Unknown setting “colour”. Available: frequency, duration")


def test_a_validator_s_sentence_comes_without_the_library_s_words():
    assert in_window(wrong(Chain, outputs=(0, 1))) == "Channel numbers start at 1 and each may be used once."
    level = wrong(procedures()["distortion-level"].Settings, start_level="-3 W")
    assert str(level) == "start_level: “-3 W” is not valid; a level must be greater than 0."


def test_units_stand_beside_labels():
    assert unit_of(Chain.model_fields["load_ohms"]) == "Ω"
    assert label_of(Chain, "load_ohms") == "Load resistance"


# -- every message says what to do -----------------------------------------------------------------

_DOING = """
add allow analyse ask calibrate change check choose close connect copy correct cut delete enter export free
give install keep leave lower make measure move name open pick play press raise read reconnect record reduce remove
replace report restore run save see select separate set shorten split start stop try undo unpack update use
wait write
"""
DOING = frozenset(_DOING.split())
# what may be is told where it is not: the reader sees what to enter
WHAT_MAY_BE = re.compile(
    r"must |upported|Available: |out of range: |in ascending order|_GIVEN_UP|\{error\}|greater than"
)
OWN_WORDS = (
    "ValueError",
    "TypeError",
    "KeyError",
    "OSError",
    "AssertionError",
    "NotImplementedError",
    "RuntimeError",
)  # not for users


def literal(node: ast.expr) -> str | None:
    """A string of the source with its placeholders as they are written; None for one that is made elsewhere."""
    if isinstance(node, ast.Constant) and isinstance(node.value, str):
        return node.value
    if isinstance(node, ast.JoinedStr):
        return "".join(v.value if isinstance(v, ast.Constant) else f"{{{ast.unparse(v.value)}}}" for v in node.values)
    if isinstance(node, ast.BinOp) and isinstance(node.op, ast.Add):
        parts = [literal(node.left), literal(node.right)]
        return None if None in parts else "".join(p for p in parts if p is not None)
    return None


def messages() -> Iterator[tuple[str, str]]:
    """(place, text) of every error that is raised for a user, and of everything that the window calls failed."""
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            call = node.exc if isinstance(node, ast.Raise) else node
            if not isinstance(call, ast.Call) or not call.args:
                continue
            name = ast.unparse(call.func)
            raised = isinstance(node, ast.Raise) and name.endswith("Error") and name not in OWN_WORDS
            failed = not isinstance(node, ast.Raise) and name.endswith("failed.emit")
            text = literal(call.args[0]) if raised or failed else None
            if text is not None:
                yield f"{path.relative_to(SOURCE)}:{node.lineno}", text


def test_every_message_says_what_to_do():
    found = list(messages())
    assert len(found) > 200
    silent = [
        f"{place}: {text}"
        for place, text in found
        if not DOING & set(re.findall("[a-z]+", text.lower())) and not WHAT_MAY_BE.search(text)
    ]
    inside = ("audio/soundcard/host_process.py",)  # what the device's own process says becomes part of a sentence
    assert [s for s in silent if not s.startswith(inside)] == []


# -- the guide and the documents --------------------------------------------------------------------

ROOT = SOURCE.parents[1]
GUIDE = sorted((SOURCE / "desktop" / "help").glob("*.md"))
WRITTEN = [*GUIDE, ROOT / "README.md", ROOT / "CONTRIBUTING.md"]
LABEL = re.compile(r"\*\*(.+?)\*\*|(?<![*\w])\*([^*]+?)\*(?!\*)")
KEY = re.compile(r"^(Ctrl\+|Shift\+|Alt\+)*([A-Z0-9]|F\d+|Enter|Esc|Space|Home|Del)$")


def _plain(label: str) -> str:
    return label.replace("&", "").rstrip("….:").strip().casefold()


@cache
def labels_there() -> frozenset[str]:
    """Every text of the program, and the labels of settings: what a label in the guide can be."""
    found = {_plain(label_of(model, field)) for model in MODELS.values() for field in model.model_fields}
    for path in sorted(SOURCE.rglob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.Constant) and isinstance(node.value, str):
                found.add(_plain(node.value))
                found.add(_plain(node.value.partition("(")[0]))  # “More settings (3)”: the number runs
    return frozenset(found)


def labels_in(text: str) -> list[str]:
    """What stands in bold or italics and is no key; a lead of a paragraph ends in a colon or a full stop."""
    marked = [a or b for a, b in LABEL.findall(" ".join(text.split()))]
    parts = [part.strip() for label in marked if not label.endswith((":", ".")) for part in label.split(" > ")]
    return [part for part in parts if part and not KEY.match(part)]


@pytest.mark.parametrize("path", GUIDE, ids=lambda path: path.stem)
def test_every_label_of_the_guide_exists(path):
    assert [label for label in labels_in(path.read_text()) if _plain(label) not in labels_there()] == []


def test_labels_are_found_in_the_guide():
    assert labels_in("Press **Measure again**, then *Gate* in **File > Export**. **A lead:** text (**Ctrl+R**)") == [
        "Measure again",
        "Gate",
        "File",
        "Export",
    ]
    assert sum(len(labels_in(path.read_text())) for path in GUIDE) > 100
    assert "no such button" not in labels_there()


@pytest.mark.parametrize("path", WRITTEN, ids=lambda path: path.stem)
def test_words_that_are_gone_do_not_come_back_in_what_is_written(path):
    lines = path.read_text().splitlines()
    assert [
        f"{number}: {line}; say: {better}"
        for number, line in enumerate(lines, start=1)
        if "screenshots/" not in line  # names of files
        for pattern, better in GONE.items()
        if re.search(pattern, line, re.IGNORECASE)
    ] == []


def commands() -> Iterator[tuple[str, str]]:
    """(place, docstring) of every command."""
    for path in sorted((SOURCE / "cli").glob("*.py")):
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.FunctionDef) and any("command" in ast.unparse(d) for d in node.decorator_list):
                yield f"{path.name}:{node.name}", ast.get_docstring(node) or ""


def test_the_help_of_commands_is_plain():
    found = list(commands())
    assert len(found) > 20
    assert [place for place, text in found if not text.endswith(".")] == []
    assert [
        f"{place}: {text}; say: {better}"
        for place, text in found
        for pattern, better in GONE.items()
        if re.search(pattern, text, re.IGNORECASE)
    ] == []
