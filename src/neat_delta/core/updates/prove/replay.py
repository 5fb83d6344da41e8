"""The store's importer as a pure function: a catalogue and an update table in, the catalogue afterwards out.

It is written from the importer's rules and shares no code with `update`, so that one can prove the other.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING, Literal

import polars as pl

from neat_delta.core.base.model.catalogue import MARK
from neat_delta.core.base.support.errors import ProofError
from neat_delta.core.base.support.series import constant, gathered, not_null, scattered

if TYPE_CHECKING:
    from neat_delta.core.base.model.importer import Importer

__all__ = ["replay"]


def replay(
    catalogue: pl.DataFrame,
    update: pl.DataFrame,
    key: Sequence[str],
    importer: Importer,
    *,
    shared: bool = False,
    action: Literal["recode", "add", "change", "remove"] = "change",
    separators: Mapping[str, str] | None = None,
    decimal_mark: str = ".",
) -> pl.DataFrame:
    """The catalogue after the importer has read one update table, as what it is imported for: `action`.

    A row finds its item by the exact key; one with an unknown key becomes a new item at the end, blank where the table
    has no column. A cell sets its field; null says nothing; a blank cell (nothing but white space) is left alone by an
    importer that skips blanks, and sets the field to what it holds by one that clears or reads a patch. The importer's
    mark empties a field; a difference is added to the number that is there; marks add values to a list and take them
    away, the lists' fields being those with a separator in `separators`. An item whose row has the flag goes away, and,
    where missing items are deleted, one that has no row. A removal is a file of items to delete, unless the importer
    wants a flag; a file of code changes has the new code beside the old one, and changes nothing else.
    Raises ProofError where an importer would refuse or guess: a heading the catalogue lacks, a key field missing, a
    blank key, a key that stands twice in the table or on two items (where the key is `shared`, a row sets all the items
    that have it), a row without a value that every row must have, an item that it does not take; a code for which there
    is no item, or which an item has that the file finds there.

    >>> from neat_delta import Importer
    >>> live = pl.DataFrame({"sku": ["QA-1"], "price": ["9.90"], "name": ["Veil"]})
    >>> update = pl.DataFrame({"sku": ["QA-1"], "price": ["10.50"]})
    >>> replay(live, update, ["sku"], Importer("skip")).rows()
    [('QA-1', '10.50', 'Veil')]
    """
    keys = list(key)
    if action == "recode":
        return _with_new_codes(catalogue, update, keys, importer, shared=shared)
    flag = importer.removal.heading if importer.removal.how == "flag" else None
    code = importer.code_change.heading if importer.code_change.how == "row" else None
    _must_be_clear(catalogue, update, keys, {flag, code, *importer.with_adjusted, *importer.columns})
    item, row = _matching_places(catalogue, update, keys)
    if not shared and row.n_unique() < row.len():
        raise ProofError("a row of the update table fits more than one item of the catalogue.")
    met = scattered(constant(False, update.height), row, True)
    if action == "remove" and importer.removal.how != "flag":
        if not met.all():
            raise ProofError("a row of the removal fits no item of the catalogue.")
        return catalogue.filter(~scattered(constant(False, catalogue.height), item, True))
    _refuses(update, met, importer)

    skips = importer.blanks == "skip" and "patch" not in importer.form
    after = catalogue
    for field in update.columns:
        if field in keys or field not in catalogue.columns:
            continue
        values = gathered(update[field], row)
        says = not_null(values)
        if skips or field in importer.adjusted:
            says &= (values.str.strip_chars() != "").fill_null(value=False)
        at, values = item.filter(says), values.filter(says)
        separator = (separators or {}).get(field)
        values = _taken(gathered(catalogue[field], at), values, field, importer, separator, decimal_mark)
        after = after.with_columns(scattered(catalogue[field], at, values).alias(field))
    leaves = constant(False, catalogue.height)
    if flag is not None and flag in update.columns:
        flagged = (gathered(update[flag], row) == importer.removal.value).fill_null(value=False)
        leaves = scattered(leaves, item.filter(flagged), True)
    if importer.missing == "deleted":
        leaves |= ~scattered(constant(False, catalogue.height), item, True)
    if leaves.any():
        after = after.filter(~leaves)
    fresh = update.filter(~met)
    if fresh.height:
        blank = [pl.lit("").alias(field) for field in catalogue.columns if field not in fresh.columns]
        fresh = fresh.with_columns(blank).select(pl.col(catalogue.columns).fill_null(""))
        if skips:
            texts = pl.exclude(keys)
            fresh = fresh.with_columns(
                pl.when(texts.str.strip_chars() == "").then(pl.lit("")).otherwise(texts).name.keep()
            )
        after = pl.concat([after, fresh])
    return after


def _must_be_clear(catalogue: pl.DataFrame, update: pl.DataFrame, keys: list[str], no_field: set[str | None]) -> None:
    """ProofError where a table cannot be understood: its headings and its keys."""
    for heading in update.columns:
        if heading not in catalogue.columns and heading not in no_field:
            raise ProofError(f'the update table has a heading the catalogue lacks: "{heading}".')
    for field in keys:
        if field not in update.columns:
            raise ProofError(f'the update table lacks the key field "{field}".')
        blank = pl.col(field).is_null() | (pl.col(field).str.strip_chars() == "")
        if update.lazy().select(blank.any()).collect(engine="in-memory").item():
            raise ProofError(f'a row of the update table has a blank key field "{field}".')
    once = update.select(keys).hash_rows().n_unique() == update.height  # other hashes are other keys
    if not once and update.select(keys).is_duplicated().any():
        raise ProofError("a key stands twice in one update table.")


def _with_new_codes(
    catalogue: pl.DataFrame, update: pl.DataFrame, keys: list[str], importer: Importer, *, shared: bool
) -> pl.DataFrame:
    """The catalogue with the new codes that stand beside the old ones."""
    patch = importer.form == "json patch"
    if importer.code_change.how != "row" and not patch:
        raise ProofError("the importer does not change codes by rows.")
    heading = "new code" if patch else importer.code_change.heading
    field = importer.code_change.field or keys[0]
    if heading not in update.columns:
        raise ProofError(f'a file of new codes lacks the heading "{heading}".')
    flag = importer.removal.heading if importer.removal.how == "flag" else None
    _must_be_clear(catalogue, update, keys, {heading, flag, *importer.with_adjusted, *importer.columns})
    if not patch:  # which moves an item as it is
        _refuses(update, constant(True, update.height), importer)
    codes = [code or "" for code in update[heading]]
    table = update.select(keys)
    item, row = _matching_places(catalogue, update, keys)
    hits = row.n_unique()
    if hits < update.height or (not shared and item.len() > hits):
        raise ProofError("a row with a new code fits no item of the catalogue, or more than one.")
    wanted = table.with_columns(pl.Series(codes).alias(field))
    if any(not code.strip() for code in codes) or wanted.is_duplicated().any():
        raise ProofError("a new code is blank, or two items would get it.")
    if wanted.join(catalogue.select(keys), on=keys, how="semi").height:
        raise ProofError("an item has a new code already.")
    for other in update.columns:
        if other in catalogue.columns and other not in keys:
            new_text, now = gathered(update[other], row), gathered(catalogue[other], item)
            if (not_null(new_text) & ((new_text != "") | (importer.blanks == "clear")) & (new_text != now)).any():
                raise ProofError(f'a file of new codes changes "{other}", too.')
    return catalogue.with_columns(scattered(catalogue[field], item, gathered(pl.Series(codes), row)).alias(field))


def _matching_places(catalogue: pl.DataFrame, update: pl.DataFrame, keys: list[str]) -> tuple[pl.Series, pl.Series]:
    """Where the rows of an update find their items: places in the catalogue, and in the update."""
    ours, row_mark = MARK + "item", MARK + "row"
    items = catalogue.select(keys).with_row_index(ours)
    if update.height * 8 < catalogue.height:  # looking a key up among a few is cheaper than joining them to all
        items = items.filter(pl.all_horizontal(pl.col(name).is_in(update[name].implode()) for name in keys))
    rows = update.select(keys).with_row_index(row_mark)
    mark = MARK + "hash"  # joining on hashes is cheaper than on texts; what has one hash may still be two keys
    items, rows = (table.with_columns(table.select(keys).hash_rows().alias(mark)) for table in (items, rows))
    candidates = (
        items.lazy().select(ours, mark).join(rows.lazy().select(row_mark, mark), on=mark).collect(engine="in-memory")
    )
    alike = constant(True, candidates.height)
    for name in keys:
        alike &= gathered(catalogue[name], candidates[ours]) == gathered(update[name], candidates[row_mark])
    candidates = candidates if alike.all() else candidates.filter(alike)
    return candidates[ours], candidates[row_mark]


def _taken(
    now: pl.Series, wanted: pl.Series, field: str, importer: Importer, separator: str | None, decimal_mark: str
) -> pl.Series:
    """What a field becomes by what the cells say."""
    if field in importer.adjusted:
        return _added(now, wanted, decimal_mark, field)
    if importer.lists == "marked" and separator is not None:
        return pl.Series(
            [_marked(old, text, separator, importer) for old, text in zip(now, wanted, strict=True)], dtype=pl.String
        )
    return wanted if importer.empties is None else wanted.replace(importer.empties, "")


def _refuses(update: pl.DataFrame, met: pl.Series, importer: Importer) -> None:
    """ProofError where the importer would refuse a row."""
    if importer.takes == "updates" and not met.all():
        raise ProofError("a row fits no item of the catalogue, and the importer takes updates only.")
    if importer.takes == "additions" and met.any():
        raise ProofError("a row fits an item of the catalogue, and the importer takes new items only.")
    if importer.headings and update.columns != importer.headings:
        raise ProofError("the headings of an update table are not those that the importer wants.")
    for names, rows in ((importer.carries, update), (importer.needs, update.filter(~met))):
        for name in names:
            lacks = rows.height and (
                name not in rows.columns or (rows[name].fill_null("").str.strip_chars() == "").any()
            )
            if lacks:
                raise ProofError(f'a row of the update table lacks "{name}", which the importer wants.')


def _added(now: pl.Series, steps: pl.Series, mark: str, field: str) -> pl.Series:
    """Numbers with their differences added."""
    new_columns = []
    for old, step in zip(now, steps, strict=True):
        try:
            total = Decimal(old.strip().replace(mark, ".") or "0") + Decimal(step.replace(mark, "."))
        except InvalidOperation:
            raise ProofError(f"{field}: {step!r} cannot be added to {old!r}.") from None
        new_columns.append(f"{total:f}".replace(".", mark))
    return pl.Series(new_columns, dtype=pl.String)


def _marked(now: str, wanted: str, separator: str, importer: Importer) -> str:
    """A list with the values added and taken away that the marks say."""
    between = separator.strip() or " "
    values = [value.strip() for value in now.split(between) if value.strip()]
    for part in wanted.split(between):
        word = part.strip()
        if word.startswith(importer.adds):
            values.append(word[len(importer.adds) :])
        elif word.startswith(importer.takes_away) and word[len(importer.takes_away) :] in values:
            values.remove(word[len(importer.takes_away) :])
        else:
            raise ProofError(f"{word!r} neither adds a value to a list nor takes one away.")
    return separator.join(values)
