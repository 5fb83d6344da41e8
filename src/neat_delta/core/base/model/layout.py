"""How a file lays out its table, as a plain value: told by a person, or found out on reading. Reading is `files`'
work.
"""

from __future__ import annotations

from typing import Literal, TypeVar

import msgspec

__all__ = ["LINE_ENDS", "SEPARATORS", "Format", "Layout", "Notation", "encoding_name"]

Format = Literal["delimited", "xlsx", "ods", "xls", "json", "json lines", "parquet"]

SEPARATORS = {",": "comma", ";": "semicolon", "\t": "tab", "|": "pipe"}
"""The separators that are recognised, with their names."""

LINE_ENDS = {"LF": "\n", "CRLF": "\r\n", "CR": "\r"}

NAMES = {
    "xlsx": "workbook (xlsx)",
    "ods": "workbook (ods)",
    "xls": "workbook (xls)",
    "json": "JSON",
    "json lines": "JSON Lines",
    "parquet": "Parquet",
}


class Layout(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A file's layout; None is what was not told, or what a file of its format does not have.

    `quote` and `escape` are "" where there is none; `header_line` is the line (in a workbook, the row) of the headings;
    `query` is what a database is asked for a table.
    """

    separator: str | None = None
    line_end: Literal["LF", "CRLF", "CR"] | None = None
    bom: bool | None = None
    quote_all: bool | None = None
    encoding: str | None = None
    quote: str | None = None
    escape: str | None = None
    header_line: int | None = None
    format: Format | None = None
    packing: Literal["gzip", "zip", "zstd"] | None = None
    sheet_name: str | None = None
    query: str | None = None

    def over(self, other: Layout) -> Layout:
        """What is told here, and where nothing is what the `other` tells.

        >>> Layout(separator=";").over(Layout(separator=",", header_line=3)).header_line
        3
        """
        return _over(self, other)

    @property
    def of_reading(self) -> Layout:
        """What has to be known to read another file that is laid out alike: not the encoding, nor a quote or an escape
        that is the usual one and may not have been needed.

        >>> Layout(separator=";", encoding="utf-8", quote='"', escape="").of_reading.quote is None
        True
        """
        names = ["separator", "header_line", "format", "sheet_name", "query"]
        names += [name for name, usual in (("quote", '"'), ("escape", "")) if getattr(self, name) != usual]
        return Layout(**{name: getattr(self, name) for name in names})

    def __str__(self) -> str:
        """As the layout is said to a person."""
        if self.format in NAMES:
            words = NAMES[self.format]
            if self.sheet_name is not None:
                words += f', sheet "{self.sheet_name}"'
        else:
            separator = self.separator or ","
            words = f"{SEPARATORS.get(separator, repr(separator))}, {encoding_name(self.encoding or 'utf-8')}"
            words += " with BOM" if self.bom else ""
            words += "" if self.quote in {None, '"'} else f", quotes {self.quote}" if self.quote else ", no quotes"
            words += f", escapes {self.escape}" if self.escape else ""
        return words + (f", in {self.packing}" if self.packing else "")


def encoding_name(encoding: str) -> str:
    """An encoding as people call it: `Windows-1252` for cp1252."""
    for start, name in (("cp125", "Windows-125"), ("iso8859-", "ISO 8859-"), ("cp8", "DOS 8"), ("utf-16", "UTF-16")):
        if encoding.startswith(start):
            return name + encoding.removeprefix(start).removesuffix("-le").removesuffix("-be")
    return "Mac Roman" if encoding == "mac-roman" else encoding.upper()


class Notation(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """How a file writes values, as far as it is the same in all its fields; None is what was not told.

    `decimal_mark` and `thousands_mark` ("" for none) are single characters; `date_form` is made of YYYY, MM, DD, hh, mm
    and ss; `yes` and `no` are the words for a flag, the one to write first.
    """

    decimal_mark: Literal[".", ","] | None = None
    thousands_mark: str | None = None
    date_form: str | None = None
    yes: tuple[str, ...] | None = None
    no: tuple[str, ...] | None = None

    def over(self, other: Notation) -> Notation:
        """What is told here, and where nothing is what the `other` tells.

        >>> Notation(date_form="DD.MM.YYYY").over(Notation(",")).decimal_mark
        ','
        """
        return _over(self, other)


Settings = TypeVar("Settings", bound=msgspec.Struct)


def _over(first: Settings, other: Settings) -> Settings:
    """What is told in the first, and where nothing is what the `other` tells."""
    settings = {name: value for name in first.__struct_fields__ if (value := getattr(first, name)) is not None}
    return msgspec.structs.replace(other, **settings)
