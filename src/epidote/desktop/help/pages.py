"""Every page of the guide by its key, as Markdown."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path

_FOLDER = Path(__file__).parent


@dataclass(frozen=True)
class HelpPage:
    """``text`` makes its Markdown when it is opened."""

    key: str
    title: str
    group: str
    text: Callable[[], str]


def written(key: str) -> str:
    """Return a page that ships as a file."""
    return (_FOLDER / f"{key}.md").read_text(encoding="utf-8")


_TASKS = ("start", "compare-amplifiers", "check-data-sheet", "latency", "setting-effect", "noise-and-hum")
_AIR = (
    *("microphones-at-a-seat", "sound-level", "compare-seats", "rattles"),
    *("loudspeaker-response", "measure-a-microphone", "units-with-own-clock"),
)
_LISTENING = ("programme", "listen-to-rows", "forced-choice", "sealed-test", "control-test")
_UNITS = ("make-a-routine", "measure-units", "statistics-over-units", "routine-unattended", "batch-and-merge")
_PLACES = (
    *("matrix", "graph", "readings", "difference", "conditions", "claims", "notes"),
    *("run", "chain", "watch", "routine", "listen", "windows"),
)


def _written_pages(keys: Iterable[str], group: str) -> list[HelpPage]:
    pages = []
    for key in keys:
        title = written(key).partition("\n")[0].removeprefix("# ")
        pages.append(HelpPage(key, title, group, lambda k=key: written(k)))  # type: ignore[misc]
    return pages


def help_pages(commands: Iterable[tuple[str, str, str]]) -> dict[str, HelpPage]:
    """Return the pages in the order of the guide. commands: menu, words and key of each, for the page of keys."""
    listed = list(commands)
    pages = [
        *_written_pages(_TASKS, "Tasks"),
        *_written_pages(_AIR, "Acoustics"),
        *_written_pages(_LISTENING, "Listening"),
        *_written_pages(_UNITS, "Production test"),
        *_written_pages(_PLACES, "Pages and panels"),
        HelpPage("figures", "Readings and their uncertainty", "Reference", figures_page),
        HelpPage("cautions", "Cautions", "Reference", cautions_page),
        HelpPage("shortcuts", "Keyboard shortcuts", "Reference", lambda: shortcuts_page(listed)),
        HelpPage("about", "About Epidote", "Reference", about_page),
    ]
    return {page.key: page for page in pages}


def figures_page() -> str:
    """Return what each procedure answers, and what each of its readings is, in the procedures' own words."""
    from epidote.core.procedures.registry import procedures

    parts = ["# Readings and their uncertainty", "", _WORTH, ""]
    for proc in sorted(procedures().values(), key=lambda p: str(p.title)):
        parts += [f"## {proc.title}", "", proc.about.question, ""]
        seen: set[str] = set()
        for kind in proc.readings:
            if kind.meaning and kind.meaning not in seen:
                seen.add(kind.meaning)
                parts.append(f"- **{escaped(kind.title)}**: {escaped(kind.meaning)}")
        parts.append("")
    return "\n".join(parts)


_WORTH = (
    "The uncertainty of a reading is shown by the standard deviation after ±, by the mark ! with its caution,"
    " and by comparison with the baseline. Readings without a mark are limited by the unit, not by the chain."
)


def cautions_page() -> str:
    """Return every caution with its sentence, by the weight it has."""
    from epidote.core.results.caution import Caution, Weight

    titles = {
        Weight.INVALID: "The number is wrong or missing",
        Weight.DOUBTFUL: "The number may be wrong",
        Weight.NOTE: "Notes",
    }
    parts = ["# Cautions", ""]
    for weight, title in titles.items():
        parts += [f"## {title}", ""]
        parts += [f"- {escaped(c.words)}" for c in Caution if c.weight is weight]
        parts.append("")
    return "\n".join(parts)


def shortcuts_page(commands: Iterable[tuple[str, str, str]]) -> str:
    """Return every command that has a key, by menu."""
    parts = ["# Keyboard shortcuts", ""]
    before = ""
    for menu, words, key in commands:
        if menu != before:
            parts += ["", f"## {menu}", "", "| Key | Command |", "|---|---|"]
            before = menu
        parts.append(f"| {key} | {escaped(words)} |")
    parts += ["", "F10 opens the menu bar. Tab goes from control to control."]
    return "\n".join(parts)


def about_page() -> str:
    """Return which version this is, and of what it is made."""
    from importlib.metadata import version

    from epidote import __version__

    names = ("PySide6-Essentials", "numpy", "scipy", "pydantic", "soxr", "soundfile", "sounddevice", "typer")
    made_of = [f"- {name} {version(name)}" for name in names]
    return "\n".join(
        ["# About Epidote", "", f"Version {__version__}. Measure audio devices, and compare them.", "", *made_of]
    )


def escaped(text: str) -> str:
    """Return a text so that Markdown shows it as it is."""
    return "".join(f"\\{c}" if c in "\\`*_{}[]<>#|" else c for c in text)
