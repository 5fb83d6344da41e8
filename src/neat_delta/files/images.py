"""Which image files there are in a folder."""

from __future__ import annotations

from pathlib import Path

from neat_delta.core.base.support.errors import FileError

__all__ = ["names_in"]


def names_in(folder: str | None) -> list[str] | None:
    """The names of the files in a folder and below it, as paths from there on and by themselves; None where none is
    said. FileError when there is no such folder.

    >>> from tempfile import mkdtemp
    >>> folder = Path(mkdtemp())
    >>> (folder / "a.jpg").touch()
    >>> names_in(str(folder)), names_in(None)
    (['a.jpg'], None)
    """
    if folder is None:
        return None
    top = Path(folder)
    if not top.is_dir():
        raise FileError(f"{folder}: there is no such folder. Check the name given with ‹images›.")
    files = [path for path in top.rglob("*") if path.is_file()]
    return sorted({path.name for path in files} | {path.relative_to(top).as_posix() for path in files})
