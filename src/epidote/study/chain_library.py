"""Chains kept by name as TOML files in the user's own folder, apart from any study, to be used again or carried to
another machine.
"""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import platformdirs

from epidote.core.errors import EpidoteError, UnusableInputError

if TYPE_CHECKING:
    from epidote.core.chain.chain import Chain


def chains_folder() -> Path:
    """Return the folder in which chains are kept by name."""
    return Path(platformdirs.user_config_path("epidote")) / "chains"


_MOST_BYTES = 4_000_000


class ChainLibrary:
    """What could not be read is left where it is, and named."""

    def __init__(self, folder: Path | None = None) -> None:
        self._folder = folder or chains_folder()

    def names(self) -> list[str]:
        if self._folder.is_dir():
            return sorted((f.stem for f in self._folder.glob("*.toml")), key=str.casefold)
        return []

    def path(self, name: str) -> Path:
        safe = "".join("_" if c in "/\\:\0" or not c.isprintable() else c for c in name).strip(". ") or "chain"
        return self._folder / f"{safe}.toml"

    def load(self, name: str) -> Chain:
        return read_chain_file(self.path(name))

    def keep(self, chain: Chain) -> Path:
        """Write, or write over, the chain of that name."""
        path = self.path(chain.name)
        path.parent.mkdir(parents=True, exist_ok=True)
        write_chain_file(path, chain)
        return path


def read_chain_file(path: Path) -> Chain:
    """Read a chain. Raises UnusableInputError saying what is wrong with the file."""
    from epidote.audio.files.sound_file import read_bounded
    from epidote.core.chain.chain_toml import chain_from_toml

    try:
        return chain_from_toml(read_bounded(path, _MOST_BYTES, "a chain file").decode("utf-8"))
    except UnicodeDecodeError as error:
        raise UnusableInputError(
            f"{path} is not a chain file: it is not text. Select a chain file that was exported."
        ) from error


def write_chain_file(path: Path, chain: Chain) -> None:
    """Write a chain. Raises EpidoteError when the disk refuses; then what was there is still there."""
    from epidote.audio.files.sound_file import write_whole
    from epidote.core.chain.chain_toml import chain_to_toml

    if not path.name:
        raise EpidoteError("Enter a name for the chain before saving it.")
    write_whole(path, chain_to_toml(chain).encode())
