"""The user's own presets: settings of a procedure by name, one JSON file for each procedure in the user's folder."""

from __future__ import annotations

import json
from collections.abc import Mapping
from pathlib import Path
from typing import Any

import platformdirs

from epidote.core.errors import UnusableInputError
from epidote.core.text import visible

_MOST_BYTES = 1_000_000


def presets_folder() -> Path:
    """Return the folder in which presets are kept."""
    return Path(platformdirs.user_config_path("epidote")) / "presets"


class PresetLibrary:
    """Presets by procedure and name. A file that cannot be read is left where it is."""

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder or presets_folder()

    def _path(self, procedure: str) -> Path:
        safe = "".join(c if c.isalnum() or c in "-_" else "_" for c in procedure)
        return self._folder / f"{safe}.json"

    def presets(self, procedure: str) -> dict[str, dict[str, Any]]:
        """Return settings by the name of the preset. Raises UnusableInputError for a file that holds none."""
        from epidote.audio.files.sound_file import read_bounded

        path = self._path(procedure)
        if not path.is_file():
            return {}
        try:
            stored = json.loads(read_bounded(path, _MOST_BYTES, "a preset file"))
        except (ValueError, UnicodeDecodeError) as error:
            raise UnusableInputError(
                f"{path} is not a preset file. It was left as it is; rename or delete it to save presets again."
            ) from error
        if not isinstance(stored, dict):
            raise UnusableInputError(
                f"{path} is not a preset file. It was left as it is; rename or delete it to save presets again."
            )
        return {visible(str(name)): dict(values) for name, values in stored.items() if isinstance(values, dict)}

    def keep(self, procedure: str, name: str, settings: Mapping[str, Any]) -> None:
        """Keep settings under a name, over those that had it. Raises EpidoteError when the disk refuses."""
        self._write(procedure, {**self.presets(procedure), name.strip(): dict(settings)})

    def delete(self, procedure: str, name: str) -> None:
        """Delete a preset."""
        self._write(procedure, {n: s for n, s in self.presets(procedure).items() if n != name})

    def _write(self, procedure: str, presets: Mapping[str, Mapping[str, Any]]) -> None:
        from epidote.audio.files.sound_file import write_whole

        path = self._path(procedure)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_whole(path, json.dumps(presets, indent=1, ensure_ascii=False).encode())
