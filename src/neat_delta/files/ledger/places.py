"""Where ledgers are: in a folder that was told, or that a store file or a round file names."""

from __future__ import annotations

import contextlib
import tomllib
from pathlib import Path
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from neat_delta.core.base.model.store import Store
    from neat_delta.files.ledger.ledger import Ledger

__all__ = ["ROUNDS", "ledger_at", "ledger_of_round_file", "ledger_of_store", "round_files_in"]

ROUNDS = "rounds"
"""The folder of a round file's rounds, where it names none."""


def ledger_at(folder: str, keep: int | str = 12) -> Ledger:
    """The ledger in a folder.

    >>> ledger_at("rounds").folder.name
    'rounds'
    """
    from neat_delta.files.ledger.ledger import Ledger, keep_of  # most commands join none

    return Ledger(Path(folder), keep_of(keep))


def ledger_of_store(store_file: tuple[Store, str] | None) -> Ledger | None:
    """The ledger that a store file names, from its own folder on; None where it names none."""
    if store_file is None or store_file[0].ledger.folder is None:
        return None
    named = store_file[0].ledger
    return ledger_at(str(Path(store_file[1]).parent / str(named.folder)), named.keep)


def round_files_in(folder: Path) -> list[str]:
    """The round files in a folder, by their names: what has both a live and sheets."""
    return [str(path) for path in sorted(folder.glob("*.toml")) if _is_round(_keys_of(path))]


def ledger_of_round_file(path: str) -> Ledger:
    """The ledger of a round file."""
    named = _keys_of(Path(path)).get("folder")
    return ledger_at(str(Path(path).parent / (named if isinstance(named, str) else ROUNDS)))


def _is_round(keys: dict[str, object]) -> bool:
    return isinstance(keys.get("live"), str) and isinstance(keys.get("sheet"), list)


def _keys_of(path: Path) -> dict[str, object]:
    """The keys of a TOML file; none where it is none, as somebody else says what is wrong with it."""
    with contextlib.suppress(OSError, UnicodeDecodeError, tomllib.TOMLDecodeError):
        return tomllib.loads(path.read_text("utf-8-sig"))
    return {}
