"""One small catalogue of the demo store, made in every format, encoding and dialect that is read."""

from __future__ import annotations

import csv
import gzip
import io
import json
import zipfile
from collections.abc import Sequence
from pathlib import Path

import polars as pl
import xlsxwriter
import zstandard

DATA = Path(__file__).parent / "data"

HEADINGS = ["sku", "name", "price", "stock", "barcode", "note"]
ROWS = [
    ["QA-1001", "Long hive, 8 frames", "149.9", "0", "2900096541266", "tried\non our own stands"],
    ["QA-1002", 'Frame, 1 3/8" spacing', "12.05", "18", "0400807862380", ""],
    ["QA-1003", "Crème honey jar", "1.5", "7", "0000000000017", "é is one letter; | and ' are none"],
    ["00417", "Größe L", "20", "-3", "2901626774789", "x"],
]
"""Cells that damage easily: leading zeros, quotes, separators, line breaks, letters beyond ASCII."""

POLISH = [["QA-1", "Słoik na miód, żółty"], ["QA-2", "Rękawice pszczelarskie"], ["QA-3", "Podkurzacz średni"]]
RUSSIAN = [["QA-1", "Улей многокорпусный"], ["QA-2", "Дымарь большой"], ["QA-3", "Мёд липовый"]]
WESTERN = [["QA-1", "Crème honey jar"], ["QA-2", "Größe L"], ["QA-3", "Piège à frelons"]]


def delimited(
    headings: Sequence[str],
    rows: Sequence[Sequence[str]],
    *,
    separator: str = ",",
    end: str = "\n",
    encoding: str = "utf-8",
    quoting: int = csv.QUOTE_MINIMAL,
    **more: str,
) -> bytes:
    """The table as delimited text."""
    out = io.StringIO(newline="")
    csv.writer(out, delimiter=separator, lineterminator=end, quoting=quoting, **more).writerows([headings, *rows])  # type: ignore[arg-type]
    return out.getvalue().encode(encoding)


def xlsx(headings: Sequence[str], rows: Sequence[Sequence[str]], above: Sequence[str] = ()) -> bytes:
    """The table as a workbook: numbers as numbers, codes as texts."""
    out = io.BytesIO()
    with xlsxwriter.Workbook(out, {"in_memory": True}) as book:
        sheet = book.add_worksheet("Prices")
        for number, line in enumerate(above):
            sheet.write_string(number, 0, line)
        for number, row in enumerate([headings, *rows], len(above)):
            for column, cell in enumerate(row):
                if number > len(above) and headings[column] in {"price", "stock"}:
                    sheet.write_number(number, column, float(cell))
                else:
                    sheet.write_string(number, column, cell)
    return out.getvalue()


def ods(headings: Sequence[str], rows: Sequence[Sequence[str]]) -> bytes:
    """The table as an OpenDocument workbook, the least of one."""

    def cell(text: str, *, number: bool) -> str:
        lines = "".join(f"<text:p>{_xml(line)}</text:p>" for line in text.split("\n"))
        kind = f'office:value-type="float" office:value="{text}"' if number else 'office:value-type="string"'
        return f"<table:table-cell {kind}>{lines}</table:table-cell>" if text else "<table:table-cell/>"

    body = "".join(
        "<table:table-row>"
        + "".join(cell(text, number=n > 0 and headings[c] in {"price", "stock"}) for c, text in enumerate(row))
        + "</table:table-row>"
        for n, row in enumerate([headings, *rows])
    )
    return open_document(body, "Prices")


def open_document(body: str, name: str) -> bytes:
    """An OpenDocument workbook with one sheet of these rows, as XML."""
    spaces = "".join(
        f' xmlns:{part}="urn:oasis:names:tc:opendocument:xmlns:{part}:1.0"' for part in ("office", "table", "text")
    )
    content = (
        f'<?xml version="1.0" encoding="UTF-8"?><office:document-content{spaces}><office:body><office:spreadsheet>'
        f'<table:table table:name="{name}">{body}</table:table>'
        "</office:spreadsheet></office:body></office:document-content>"
    )
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        archive.writestr("META-INF/manifest.xml", "<manifest/>")
        archive.writestr("content.xml", content, zipfile.ZIP_DEFLATED)
    return out.getvalue()


def _xml(text: str) -> str:
    return text.replace("&", "&amp;").replace("<", "&lt;").replace(">", "&gt;")


def objects(headings: Sequence[str], rows: Sequence[Sequence[str]]) -> list[dict[str, object]]:
    """The table as objects: numbers as numbers, blanks as null."""
    return [
        {
            name: (json.loads(cell) if name in {"price", "stock"} else cell) if cell else None
            for name, cell in zip(headings, row, strict=True)
        }
        for row in rows
    ]


def parquet(headings: Sequence[str], rows: Sequence[Sequence[str]]) -> bytes:
    """The table as Parquet: a decimal and a whole number among texts."""
    out = io.BytesIO()
    table = pl.DataFrame(objects(headings, rows), schema_overrides={"price": pl.Float64})
    table.write_parquet(out)
    return out.getvalue()


def zipped(data: bytes, *names: str) -> bytes:
    """A zip archive with the data under each of these names."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name in names:
            archive.writestr(name, data)
    return out.getvalue()


def files_of_every_format() -> dict[str, bytes]:
    """The catalogue in every format, encoding and dialect, by a name for each."""
    plain = delimited(HEADINGS, ROWS)
    found = {
        f"{name}, {ends}, {quotes}": delimited(HEADINGS, ROWS, separator=separator, end=end, quoting=quoting)
        for name, separator in (("comma", ","), ("semicolon", ";"), ("tab", "\t"), ("pipe", "|"))
        for ends, end in (("LF", "\n"), ("CR LF", "\r\n"))
        for quotes, quoting in (("quotes where needed", csv.QUOTE_MINIMAL), ("all in quotes", csv.QUOTE_ALL))
    }
    found |= {
        f"in {encoding}": delimited(HEADINGS, ROWS, separator=";", encoding=encoding)
        for encoding in (
            "utf-8-sig",
            "utf-16",
            "utf-16-le",
            "utf-16-be",
            "utf-32",
            "cp1252",
            "iso8859-15",
            "cp850",
            "mac-roman",
        )
    }
    found |= {
        "escaped quotes": delimited(HEADINGS, ROWS, doublequote=False, escapechar="\\"),  # type: ignore[arg-type]
        "title lines above": b"Quillfern Apiary Supply,,,,,\nPrice list,,,,,\n,,,,,\n" + plain,
        "blank lines below": plain + b"\n\n\n",
        "gzip": gzip.compress(plain, mtime=0),
        "zip": zipped(plain, "live.csv"),
        "zstd": zstandard.compress(plain),
        "xlsx": xlsx(HEADINGS, ROWS),
        "xlsx with titles": xlsx(HEADINGS, ROWS, ["Quillfern Apiary Supply", "Price list"]),
        "ods": ods(HEADINGS, ROWS),
        "xls": (DATA / "quillfern.xls").read_bytes(),
        "JSON": json.dumps(objects(HEADINGS, ROWS), ensure_ascii=False).encode(),
        "JSON, indented, in utf-16": json.dumps(objects(HEADINGS, ROWS), indent=2).encode("utf-16"),
        "JSON Lines": b"".join(json.dumps(row).encode() + b"\n" for row in objects(HEADINGS, ROWS)),
        "Parquet": parquet(HEADINGS, ROWS),
        "JSON in gzip": gzip.compress(json.dumps(objects(HEADINGS, ROWS)).encode(), mtime=0),
    }
    return found
