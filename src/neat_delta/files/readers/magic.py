"""Workbooks and Parquet by their first bytes, and where a zip archive lists its members."""

from __future__ import annotations

from neat_delta.core.base.model.layout import Format

__all__ = ["binary_format"]


def binary_format(data: bytes) -> Format | None:
    """Which of the formats that are no text the bytes are in; None where they are in another."""
    if data[:4] == b"PAR1":
        return "parquet"
    if data[:8] == b"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1":
        return "xls"
    if data[:4] != b"PK\x03\x04":
        return None
    if b"application/vnd.oasis.opendocument.spreadsheet" in data[:200]:
        return "ods"
    members = data[-(1 << 20) :]  # a zip archive lists its members at its end
    if b"xl/workbook.xml" in members or b"[Content_Types].xml" in data[:64]:
        return "xlsx"
    return "ods" if b"content.xml" in members and b"META-INF/manifest.xml" in members else None
