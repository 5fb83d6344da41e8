"""Checks of a value by itself: its bounds, its length, its characters, its HTML."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds import KINDS, blank
from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.base.kinds.stored import HABITS, as_stored, has_habits
from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.schemas import RULE_FINDINGS, conform
from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.series import constant, filtered, not_null, true_places
from neat_delta.core.compare.checks.base import (
    Check,
    CheckContext,
    exactly,
    findings_of,
    needs_kind,
    needs_setting,
    nothing,
    sentence,
)
from neat_delta.core.compare.diff.equality import equal, reason

__all__ = ["VALUE_CHECKS"]


def outside_bounds(context: CheckContext) -> pl.DataFrame:
    """Numbers under `least` or over `most`."""
    tables = [nothing()]
    for name, (field, cells) in context.of(*NUMBER_KINDS).items():
        for bound, word in ((field.least, "less"), (field.most, "more")):
            if bound is None:
                continue
            hit = cells.filter(pl.col("new") < exactly(bound) if word == "less" else pl.col("new") > exactly(bound))
            tables.append(findings_of(name, hit["item"], hit["after"] + f" is {word} than {bound}"))
    return pl.concat(tables)


def negative(context: CheckContext) -> pl.DataFrame:
    """Amounts and counts under 0, where the store file says nothing of a least."""
    tables = [nothing()]
    for name, (field, cells) in context.of("integer", "money").items():
        if field.least is None:
            hit = filtered(cells, cells["new"] < 0)
            tables.append(findings_of(name, hit["item"], hit["after"] + " is less than nothing"))
    return pl.concat(tables)


def too_long(context: CheckContext) -> pl.DataFrame:
    """Texts over `longest` characters, or `longest_bytes` as the store writes them."""
    tables = [nothing()]
    for name, cells in context.cells.items():
        field = context.settings.get(name)
        if field is None:
            continue
        if field.longest is not None:
            size = cells["after"].str.len_chars()
            hit = size > field.longest
            sentence = size.filter(hit).cast(pl.String) + f" characters, and at most {field.longest:,} fit"
            tables.append(findings_of(name, cells["item"].filter(hit), sentence))
        if field.longest_bytes is not None:
            size = _bytes(cells["after"], context.encoding)
            hit = size > field.longest_bytes
            sentence = size.filter(hit).cast(pl.String) + f" bytes, and at most {field.longest_bytes:,} fit"
            tables.append(findings_of(name, cells["item"].filter(hit), sentence))
    return pl.concat(tables)


def _bytes(texts: pl.Series, encoding: str | None) -> pl.Series:
    if encoding is None or encoding == "utf-8":
        return texts.str.len_bytes().cast(pl.Int64)
    return pl.Series([len(text.encode(encoding, "replace")) for text in texts], dtype=pl.Int64)


def _lacking(context: CheckContext) -> str | None:
    """The encoding of the store's files, where it does not have every character."""
    return None if context.encoding is None or context.encoding.startswith("utf") else context.encoding


def unwritable(context: CheckContext) -> pl.DataFrame:
    """Characters that the encoding of the store's files does not have."""
    encoding = _lacking(context)
    if encoding is None:
        return nothing()
    tables = [nothing()]
    for name, cells in context.cells.items():
        odd = cells.filter(pl.col("after").str.contains(r"[^\x00-\x7f]"))
        wrong = [_first_unwritable(text, encoding) for text in odd["after"]]
        marks = pl.Series(wrong, dtype=pl.String)
        hit = marks.is_not_null()
        tables.append(findings_of(name, odd["item"].filter(hit), "the store's files cannot hold " + marks.filter(hit)))
    return pl.concat(tables)


def _first_unwritable(text: str, encoding: str) -> str | None:
    try:
        text.encode(encoding)
    except UnicodeEncodeError as error:
        return repr(text[error.start])
    return None


def unclosed_html(context: CheckContext) -> pl.DataFrame:
    """HTML whose tags do not close."""
    has_tags = pl.col("after").str.contains(r"</?[A-Za-z][^<>]*>")
    texts = [
        cells.lazy().filter(has_tags).select("item", "after", field=pl.lit(name))
        for name, (_, cells) in context.of("text").items()
    ]
    if not texts:
        return nothing()
    marked = pl.concat(texts).collect(engine="in-memory")
    from neat_delta.core.compare.checks.html import unclosed_tag

    unclosed = {text: unclosed_tag(text) for text in marked["after"].unique()}
    wrong = marked.with_columns(what=pl.Series([unclosed[text] for text in marked["after"]], dtype=pl.String))
    return conform(filtered(wrong, not_null(wrong["what"])), RULE_FINDINGS)


def required(context: CheckContext) -> pl.DataFrame:
    """Fields that are blank and may never be; of a new item they are said together."""
    names = [name for name, field in context.store.fields.items() if field.required and name in context.live.fields]
    if not context.round:
        tables = [nothing()]
        for name in names:
            empty = context.cells[name].filter(blank(pl.col("after")))
            tables.append(findings_of(name, empty["item"], "it is blank"))
        return pl.concat(tables)
    new = true_places(context.places.is_null())
    if not new.len():
        return context.seen.get("required", nothing())
    given = {name for name, text in context.store.importer.defaults.items() if text.strip()}
    names = [name for name in names if name not in given]  # the importer fills these in
    # A cell of a new item is there only where it holds something; one that is held is not blank, either.
    reasons = [context.held]
    for name in (name for name in names if name in context.cells):
        items = context.cells[name]["item"]
        reasons.append(pl.DataFrame({"item": items, "field": constant(name, items.len(), pl.String)}))
    filled = (
        pl.concat(reasons)
        .lazy()
        .filter(pl.col("item").is_in(new.implode()))
        .group_by("item")
        .agg("field")
        .collect(engine="in-memory")
    )
    fields_of = {item: {*context.keys.columns, *fields} for item, fields in filled.iter_rows()}
    blanks = [(item, [name for name in names if name not in fields_of.get(item, context.keys.columns)]) for item in new]
    wrong = [(item, listed(fields)) for item, fields in blanks if fields]
    items, sentence = pl.Series([item for item, _ in wrong]), pl.Series([text for _, text in wrong], dtype=pl.String)
    return pl.concat([context.seen.get("required", nothing()), findings_of(None, items, "blank: " + sentence)])


def unreadable(context: CheckContext) -> pl.DataFrame:
    """Values that are not what their field holds."""
    if context.round:
        return context.seen.get("unreadable", nothing())
    tables = [nothing()]
    for name, (field, cells) in context.of(*KINDS).items():
        wrong = cells.filter(context.read(name, cells["after"]).is_null())
        tables.append(
            findings_of(name, wrong["item"], wrong["after"].str.slice(0, 40) + f" is {reason(KINDS[field.kind])}")
        )
    return pl.concat(tables)


def locked(context: CheckContext) -> pl.DataFrame:
    """Changes of fields that an update never changes."""
    return context.seen.get("locked", nothing())


def guessed_encoding(context: CheckContext) -> pl.DataFrame:
    """Letters beyond ASCII out of a sheet whose encoding nothing told: they may be others."""
    tables = [nothing()]
    for name, cells in context.cells.items() if context.guessed else ():
        odd = cells.filter(pl.col("after").str.contains(r"[^\x00-\x7f]"))
        tables.append(
            findings_of(name, odd["item"], odd["after"].str.slice(0, 40) + ": the sheet's encoding is a guess")
        )
    return pl.concat(tables)


def stored_otherwise(context: CheckContext) -> pl.DataFrame:
    """Values of which the store will make others by itself."""
    tables, mark = [nothing()], context.writing.decimal_mark or "."
    for name, cells in context.cells.items():
        field = context.settings.get(name, Field())
        if has_habits(field):
            kept = [as_stored(text, field, field.decimal_mark or mark) for text in cells["after"]]
            makes = cells.with_columns(kept=pl.Series(kept, dtype=pl.String))
            makes = makes.filter(~equal(makes["after"], makes["kept"], field, context.writing))
            what = sentence(makes, "the store will make {} of it", pl.col("kept").str.slice(0, 40))
            tables.append(findings_of(name, makes["item"], what))
    return pl.concat(tables)


VALUE_CHECKS = (
    Check(
        "required",
        "stop",
        "item",
        "a required field that is blank",
        "fill it in",
        required,
        idle=needs_setting("required", example="required = true of a field"),
    ),
    Check(
        "unreadable",
        "stop",
        "cell",
        "a value that is not what the field holds, or may be two",
        "correct it, or say how the sheet is written",
        unreadable,
        idle=needs_kind(*(kind for kind in KINDS if kind != "text")),
    ),
    Check(
        "locked",
        "stop",
        "cell",
        "a change of a field that updates never change",
        "leave it as it is",
        locked,
        alone=False,
    ),
    Check(
        "outside-bounds",
        "stop",
        "cell",
        "a number under least or over most",
        "correct it, or the bound",
        outside_bounds,
        idle=needs_setting("least", "most", example="least = 0.01 or most = 900 of a field"),
    ),
    Check(
        "negative",
        "stop",
        "cell",
        "an amount or a count under 0",
        "correct it, or say least in the store file",
        negative,
        idle=needs_kind("integer", "money"),
    ),
    Check(
        "too-long",
        "stop",
        "cell",
        "a text over longest or longest_bytes",
        "shorten it",
        too_long,
        idle=needs_setting("longest", "longest_bytes", example="longest = 80 of a field"),
    ),
    Check(
        "unwritable",
        "stop",
        "cell",
        "a character that the encoding of the store's files does not have",
        "replace the character",
        unwritable,
        idle=lambda context: (
            "nothing: the encoding of these files has every character" if _lacking(context) is None else None
        ),
    ),
    Check(
        "guessed-encoding",
        "stop",
        "cell",
        "letters beyond ASCII from a sheet whose encoding is a guess",
        "say it with ‹encoding› sheet=NAME, or save the sheet as UTF-8",
        guessed_encoding,
        alone=False,
    ),
    Check(
        "stored-otherwise",
        "warn",
        "cell",
        "a value of which the store makes another by itself",
        "write it as the store will have it",
        stored_otherwise,
        alone=False,
        idle=needs_setting(*HABITS, example="stored_decimals = 2 or stored_length = 60 of a field"),
    ),
    Check("unclosed-html", "warn", "cell", "HTML whose tags do not close", "close the tag", unclosed_html),
)
