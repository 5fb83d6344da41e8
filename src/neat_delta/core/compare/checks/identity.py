"""Checks of what names things: values that must be unique, check digits, links to other items, image files."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.model.store import Field
from neat_delta.core.base.support.check_digits import has_check_digit
from neat_delta.core.base.support.series import filtered
from neat_delta.core.compare.checks.base import (
    Check,
    CheckContext,
    findings_of,
    needs_kind,
    needs_setting,
    nothing,
    sentence,
)

__all__ = ["IDENTITY_CHECKS"]


def repeated(context: CheckContext) -> pl.DataFrame:
    """Values of a unique field that stand in another item as well, once everything is changed."""
    tables = [nothing()]
    for name, cells in context.cells.items():
        if not context.settings.get(name, Field()).unique:
            continue
        filled = cells.with_columns(value=pl.col("after").str.strip_chars()).filter(pl.col("value") != "")
        texts = context.column_after(name).str.strip_chars()
        looked = texts.filter(texts.is_in(filled["value"].implode()) if context.round else texts != "")
        twice = looked.alias("value").value_counts(name="times").filter(pl.col("times") > 1)
        hit = filled.join(twice, on="value", maintain_order="left")
        tables.append(findings_of(name, hit["item"], sentence(hit, '"{}" stands in {} items', "value", "times")))
    return pl.concat(tables)


def check_digit(context: CheckContext) -> pl.DataFrame:
    """Codes whose check digit is wrong (GS1 General Specifications, 7.9; ISO 2108)."""
    tables = [nothing()]
    for name, (field, cells) in context.of("code").items():
        if field.check_digit is None:
            continue
        hit = filtered(cells, ~has_check_digit(cells["after"].str.strip_chars(), field.check_digit))
        what = "GTIN" if field.check_digit == "gtin" else "ISBN"
        tables.append(findings_of(name, hit["item"], '"' + hit["after"].str.slice(0, 40) + f'" is no right {what}'))
    return pl.concat(tables)


def _single(cells: pl.DataFrame, field: Field) -> pl.DataFrame:
    """The cells with each single `value` that stands in them, one a row; none is blank."""
    values = pl.col("after").str.split(field.separator) if field.separator else pl.concat_list("after")
    values_of_cells = cells.with_columns(value=values).explode("value").with_columns(pl.col("value").str.strip_chars())
    return filtered(values_of_cells, values_of_cells["value"] != "")


def dead_link(context: CheckContext) -> pl.DataFrame:
    """Keys of other items (a parent, related items) that no item will have."""
    tables = [nothing()]
    key = context.keys.columns[0]
    keys = None
    for name, (field, cells) in context.of("code", "list").items():
        if not field.refers:
            continue
        if keys is None:
            keys = context.column_after(key).str.strip_chars()
        named = _single(cells, field)
        hit = named.filter(~named["value"].is_in(keys.implode()))
        tables.append(findings_of(name, hit["item"], 'no item has the code "' + hit["value"].str.slice(0, 40) + '"'))
    return pl.concat(tables)


def no_image(context: CheckContext) -> pl.DataFrame:
    """Image files that are not among those there are; addresses on the net are left alone."""
    if context.images is None:
        return nothing()
    tables = [nothing()]
    files = pl.Series(sorted(context.images), dtype=pl.String)
    for name, (field, cells) in context.of("image").items():
        named = _single(cells, field).filter(~pl.col("value").str.contains("^[a-zA-Z][a-zA-Z0-9+.-]*://"))
        bare = named["value"].str.replace(r"^.*[/\\]", "")
        hit = named.filter(~(named["value"].is_in(files.implode()) | bare.is_in(files.implode())))
        tables.append(findings_of(name, hit["item"], 'there is no file "' + hit["value"].str.slice(0, 60) + '"'))
    return pl.concat(tables)


IDENTITY_CHECKS = (
    Check(
        "repeated",
        "stop",
        "column",
        "a value of a unique field that another item has",
        "give each item its own",
        repeated,
        idle=needs_setting("unique", example="unique = true of a field"),
    ),
    Check(
        "check-digit",
        "stop",
        "cell",
        "a code with a wrong check digit",
        "look the code up again",
        check_digit,
        idle=needs_setting("check_digit", example='check_digit = "gtin" of a field of codes'),
    ),
    Check(
        "dead-link",
        "stop",
        "column",
        "the key of a parent or related item that no item has",
        "correct the code",
        dead_link,
        idle=needs_setting("refers", example="refers = true of a field of codes"),
    ),
    Check(
        "no-image",
        "warn",
        "cell",
        "an image that is not in the folder of ‹images›",
        "add the file, or correct its name",
        no_image,
        idle=lambda context: "‹images›, and where they are" if context.images is None else needs_kind("image")(context),
    ),
)
