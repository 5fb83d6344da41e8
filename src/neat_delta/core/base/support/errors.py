"""Every error that Neat Delta raises on purpose, and nothing else.

Each message is for the person at the terminal: what is wrong, where, and what to do next.
"""

from __future__ import annotations

__all__ = [
    "CatalogueError",
    "ChangeSetError",
    "ConditionError",
    "FileError",
    "NeatDeltaError",
    "OutputError",
    "ProofError",
    "SettingError",
    "StoreError",
    "WorkersError",
]


class NeatDeltaError(Exception):
    """The input or the call cannot be used; the message says why and what to do, on one line.

    What a message quotes from a file may hold anything: line breaks are shown as ↵, other control characters as �.
    """

    def __init__(self, message: str) -> None:
        super().__init__(message.replace("\r\n", "↵").translate(SHOWN))


SHOWN = dict.fromkeys([*range(32), *range(0x7F, 0xA0), 0x2028, 0x2029], "�") | {9: " ", 10: "↵", 13: "↵"}


class CatalogueError(NeatDeltaError):
    """A file cannot be understood as a catalogue, or two catalogues cannot be compared."""


class ChangeSetError(NeatDeltaError):
    """A change set is cut short, wrong, of another version, or no longer fits its live file."""


class ConditionError(NeatDeltaError):
    """A condition over fields is none, or names what is not there."""


class FileError(NeatDeltaError):
    """A file is missing or cannot be read."""


class OutputError(NeatDeltaError):
    """An output cannot be written, or would overwrite what must be kept."""


class ProofError(NeatDeltaError):
    """Replaying the update files does not give the target, so nothing is handed over."""


class SettingError(NeatDeltaError):
    """A setting says what it cannot; `setting` is its name, as a request has it."""

    def __init__(self, setting: str, what: str) -> None:
        super().__init__(f"‹{setting}›: {what}")
        self.setting, self.what = setting, what


class StoreError(NeatDeltaError):
    """A store file or a mapping file says something that cannot be understood, or cannot be."""


class WorkersError(NeatDeltaError):
    """The workers that were engaged cannot do their part, or cannot be reached; nothing was handed over."""
