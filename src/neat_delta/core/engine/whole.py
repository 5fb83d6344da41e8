"""Comparing: two catalogues in, change set out. What is held at this stage, and why, is decided here alone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Literal

import msgspec
import polars as pl

from neat_delta.core.checks import checked, hold_incomplete, let_through
from neat_delta.core.detect.damage import damaged
from neat_delta.core.detect.findings import Looked, look
from neat_delta.core.detect.near_keys import near_keys, with_near_keys
from neat_delta.core.detect.slips import forms, missing, pasted_twice
from neat_delta.core.diff.equality import by_value, notations, sheet_writing
from neat_delta.core.infer.learn import glance, with_currencies, with_writing
from neat_delta.core.kinds import blank
from neat_delta.core.kinds.notation import PLAIN_FORMS, Notation
from neat_delta.core.kinds.path import spelt_like
from neat_delta.core.match.keys import stripped
from neat_delta.core.match.likely import likely
from neat_delta.core.match.prepare import AlignedInputs, align_inputs
from neat_delta.core.match.rows import REPEATS, SAME_ROW, Matched, match_rows
from neat_delta.core.model.catalogue import MARK, Catalogue, listed
from neat_delta.core.model.changeset import (
    FORMAT,
    ITEMS_SCHEMA,
    VERSION,
    Accept,
    ChangeSet,
    Counts,
    Finding,
    Header,
    SetAside,
    cells_schema,
    held,
)
from neat_delta.core.model.columns import ColumnMapping
from neat_delta.core.model.importer import NEW_CODE
from neat_delta.core.model.layout import Writing
from neat_delta.core.model.reasons import CHECK, EMPTIED, GONE, NEW
from neat_delta.core.model.store import Field, Key, Store
from neat_delta.core.rekey.moves import UNKNOWN
from neat_delta.core.rekey.requests import (
    CodeChanges,
    asked_by_list,
    asked_by_sheet,
    code_cells,
    followed,
    settled,
    under_the_sheets_codes,
)
from neat_delta.core.support.background import submit
from neat_delta.core.support.distinct import alike
from neat_delta.core.support.errors import CatalogueError
from neat_delta.core.support.nearest import nearest

__all__ = ["Blanks", "compare", "recode"]

Blanks = Literal["hold", "clear", "keep"]
"""What a cell emptied in the sheet means: ask first (hold it), empty the field, or leave the field as it is."""


def recode(
    live: Catalogue,
    codes: Catalogue,
    *,
    store: Store | None = None,
    key: Sequence[str] = (),
    mapping: ColumnMapping | None = None,
    accept: Sequence[Accept] = (),
    today: str | None = None,
) -> ChangeSet:
    """The change set of a list of code changes: the key, and beside it the new code (`NEW_CODE`, or what is for it).

    Every row of the list is accounted for; items that it does not name are the same, but for links that follow a code.
    What cannot be is held with the reason: a code that another item has and keeps, or that two would get. Otherwise as
    `compare`.
    """
    return compare(live, codes, store=store, key=key, mapping=mapping, accept=accept, today=today, listed_codes=True)


def compare(
    live: Catalogue,
    sheet: Catalogue,
    *,
    store: Store | None = None,
    key: Sequence[str] = (),
    mapping: ColumnMapping | None = None,
    saved: ColumnMapping | None = None,
    only: Collection[str] = (),
    writing: Writing | None = None,
    accept_near: bool = False,
    blanks: Blanks = "hold",
    blanks_in: Mapping[str, Blanks] | None = None,
    with_new: bool = False,
    with_gone: bool = False,
    accept: Sequence[Accept] = (),
    repair: bool = False,
    images: Collection[str] | None = None,
    new_values: Collection[str] = (),
    today: str | None = None,
    codes: Catalogue | None = None,
    listed_codes: bool = False,
    exact: Collection[str] = (),
) -> ChangeSet:
    """What the sheet changes in live, keyed by item.

    `store` says what is known of the store; without it, the fields' kinds are learned from a sample of live. `key`
    names the key fields (default: the store file's, or the heading that is plainly the SKU). `mapping`, `saved` and
    `only` say which headings mean which fields (`match_columns`), `writing` how the sheet writes values (default: as
    its cells show). `accept_near` takes keys that nearly are live's.
    An item missing in the sheet is `gone` and held unless `with_gone`; an item that live lacks is `new` and held unless
    `with_new`; a cell emptied in the sheet is held, taken as said (`clear`) or dropped (`keep`), its text after being
    ""; `blanks_in` says so of single fields. The word by which the importer empties a field empties it in the sheet,
    too. A value that its kind cannot read is held. The text after is the value as the store writes it.
    In the fields named by `exact` every difference of text counts. With a mapping (`saved`) the sheet is a list in a
    language of its own: what is one value there is no change.
    Damaged cells and cells that a slip touches are held, but for those that `accept` lets through; `repair` puts live's
    value back where only the writing was damaged. Then the checks look at what is to be sent (`checks.checked`, which
    also says what `images`, `new_values` and `today` are).
    The codes that items get stand in the sheet beside the old ones, or in a list (`codes`); with a list, an item is
    looked for in the sheet under its new code, too. `listed_codes` says that the sheet is nothing but such a list.
    Raises CatalogueError when the two cannot be compared.
    """
    aligned = align_inputs(
        live, sheet, store=store, key=key, mapping=mapping, saved=saved, only=only, listed_codes=listed_codes
    )
    rows = _placed(aligned, codes, accept_near=accept_near, repair=repair, listed_codes=listed_codes)
    live, matched = aligned.live, rows.matched
    texts = _texts_that_differ(live, rows.sheet, matched)
    differing = texts["field"].unique(maintain_order=True)
    known = with_currencies(with_writing(store, live), live) if store else glance(live, matched.key, differing)
    known = _with_exact(known, exact, live)
    meant = _blanks_in(live, matched.fields, blanks, blanks_in or {})
    found = _differing(aligned, rows, texts, known, writing or Writing(), meant, accept, repair=repair)
    cells, added = _with_codes(live, rows, found, known.fields, with_gone=with_gone)
    changed = _changed(matched, cells)
    gone = matched.gone.filter(~matched.gone.is_in(changed["live"].cast(matched.gone.dtype).implode()))
    unnamed = gone.len() if listed_codes else 0  # a list of codes says nothing of the other items
    gone = gone.clear() if listed_codes else gone
    places = _items(changed, gone, matched.new, None if with_new else NEW, None if with_gone else GONE)
    places = places.with_columns(held=pl.coalesce(_recoded_from_nothing(rows, places), "held"))
    here = {*matched.fields, *cells["field"].unique()}
    fields, in_sheet = [name for name in live.fields if name in here], set(rows.sheet.fields)
    table = _cells(cells, fields, places, added)
    items = places.with_columns(live=live.row(places["live"]), sheet=rows.sheet.row(places["sheet"]))
    keys = pl.concat(
        [
            live.cells.select(matched.key).rechunk().gather(places["live"].drop_nulls()),
            stripped(rows.sheet.cells, aligned.key).gather(matched.new),
        ]
    )
    asking = _asking(table, keys, meant, accept)
    table = table.with_columns(held=pl.when(pl.col("held") == EMPTIED).then(asking).otherwise("held"))
    counts = Counts(
        same=matched.both.height - changed["sheet"].count() + unnamed,
        changed=int((changed["verdict"] == "changed").sum()),
        recoded=int((changed["verdict"] == "recoded").sum()),
        unlisted=changed["sheet"].null_count() + unnamed,
        new=matched.new.len(),
        gone=gone.len(),
        set_aside_live=sum(row.file == "live" for row in matched.set_aside),
        set_aside_sheet=sum(row.file == "sheet" for row in matched.set_aside),
        cells=table.height,
        held_cells=int(held(items, table).sum()),
        blanks_kept=found.kept,
        written_differently=sum(found.rewritten.values()),
        damaged=found.looked.damaged.height,
        repaired=int((found.looked.damaged["done"] == "repaired").sum()),
    )
    header = Header(
        format=FORMAT,
        version=VERSION,
        key=matched.key,
        fields=fields,
        live=live.source,
        sheet=aligned.sheet.source,
        counts=counts,
        pairs=aligned.columns,
        headings=aligned.headings,
        untouched=[name for name in live.fields if name not in in_sheet],
        settings=_settings(live, known),
        rewritten=found.rewritten,
        writing=known.writing,
        sheet_writing=found.writing,
        learned=store is None,
        ignore_case=aligned.key.ignore_case,
        shared=aligned.key.shared == "all",
        name=aligned.key.name,
        near=matched.near,
        set_aside=matched.set_aside,
        findings=_of_rows(live, rows, repair=repair) + found.looked.findings,
        accepted=list(accept),
        likely=likely(live, rows.sheet, matched, known.fields, aligned.key.name, rows.codes.field),
        relations=known.relations,
    )
    changes = ChangeSet(header, keys, items, table, found.looked.damaged)
    changes = checked(
        changes,
        live,
        known,
        accept=accept,
        images=images,
        new_values=new_values,
        today=today,
        emptied=asking,
        guessed=sheet.guessed,
    )
    return hold_incomplete(settled(changes, live))


def _blanks_in(
    live: Catalogue, fields: Sequence[str], blanks: Blanks, blanks_in: Mapping[str, Blanks]
) -> dict[str, Blanks]:
    """What an emptied cell means in each of these fields. CatalogueError when live has none of one."""
    _must_have(live, blanks_in)
    return dict.fromkeys(fields, blanks) | dict(blanks_in)


def _asking(
    cells: pl.DataFrame, keys: pl.DataFrame, blanks: Mapping[str, Blanks], accept: Sequence[Accept]
) -> pl.Series:
    """Per cell why it is held if it was emptied and nothing else holds it: null where that is allowed."""
    held = [name for name, meant in blanks.items() if meant == "hold"]
    asked = blank(pl.col("after")) & pl.col("before").is_not_null() & pl.col("field").cast(pl.String).is_in(held)
    emptied = cells.with_row_index("cell").filter(asked).with_columns(pl.col("field").cast(pl.String))
    emptied = emptied.with_columns(check=pl.lit(EMPTIED))
    why = pl.repeat(None, cells.height, dtype=pl.String, eager=True)
    return why.scatter(emptied["cell"].filter(~let_through(emptied, keys, accept)), EMPTIED)


@dataclass(frozen=True, slots=True)
class _Placed:
    """The sheet's rows that are compared, where each stands in live, the places of those that were pasted again, and
    the code changes that are asked for.
    """

    sheet: Catalogue
    matched: Matched
    twice: pl.Series
    codes: CodeChanges


def _placed(
    aligned: AlignedInputs, codes: Catalogue | None, *, accept_near: bool, repair: bool, listed_codes: bool
) -> _Placed:
    """Every row of both in its place."""
    live, sheet, key, known_as = aligned.live, aligned.sheet, aligned.key, aligned.live
    if listed_codes:
        _must_have_codes(sheet)
    field = (aligned.store or Store()).importer.code_change.field or key.fields[0]
    asked = CodeChanges(field, [], {})
    if codes is not None:
        theirs = align_inputs(live, codes, key=key.fields, listed_codes=True).sheet
        _must_have_codes(theirs)
        if NEW_CODE in sheet.fields:
            raise CatalogueError(f"{codes.path}: {sheet.path} has new codes, too. Say them in one place.")
        known_as, asked = under_the_sheets_codes(live, sheet, asked_by_list(live, theirs, key, field), key)
    bare = NEW_CODE in sheet.fields
    matched = _matched(known_as, sheet, key, accept_near=accept_near, repair=repair, bare=bare)
    twice = pasted_twice(sheet, matched.key, _repeated(sheet, matched))
    if repair and twice.len():
        sheet, matched = _once(known_as, sheet, twice, key, accept_near=accept_near, bare=bare)
    if codes is None:
        asked = asked_by_sheet(live, sheet, matched.both, key, field)
    return _Placed(sheet, _only_listed(sheet, matched) if listed_codes else matched, twice, asked)


def _matched(live: Catalogue, sheet: Catalogue, key: Key, *, accept_near: bool, repair: bool, bare: bool) -> Matched:
    """The match, with those near keys that are taken: all, or those that a spreadsheet made of a key of live."""
    matched = match_rows(live, sheet, key, bare=bare)
    near = near_keys(matched)
    taken = pl.repeat(True, near.height, eager=True) if accept_near else near["damage"].is_not_null() & repair
    return with_near_keys(matched, live, sheet, near, taken)


def _must_have_codes(codes: Catalogue) -> None:
    if NEW_CODE not in codes.fields:
        raise CatalogueError(
            f'{codes.path}: no heading stands for the new code. Call it "{NEW_CODE}", or say which does with '
            f'--map "HEADING={NEW_CODE}".'
        )


@dataclass(frozen=True, slots=True)
class _Differing:
    """The cells that differ (`place` in live, `field`, `before`, `after`, `held`), those of new items, what was found
    in them, how the sheet writes values; how many emptied cells were dropped, and how many cells of each field are only
    written otherwise.
    """

    cells: pl.DataFrame
    added: pl.DataFrame
    looked: Looked
    writing: Writing
    kept: int
    rewritten: dict[str, int]


def _differing(
    aligned: AlignedInputs,
    rows: _Placed,
    texts: pl.DataFrame,
    known: Store,
    writing: Writing,
    blanks: Mapping[str, Blanks],
    accept: Sequence[Accept],
    *,
    repair: bool,
) -> _Differing:
    """Of the cells whose texts differ, those whose values do; and which of them are held."""
    matched, sheet_cells = rows.matched, rows.sheet.cells
    empties = known.importer.empties
    if empties is not None:
        texts = texts.with_columns(after=pl.col("after").replace(empties, ""))
        sheet_cells = sheet_cells.with_columns(pl.col(texts["field"].unique()).replace(empties, ""))
    settings = {name: known.fields.get(name, Field()) for name in matched.fields}
    finding = submit(partial(sheet_writing, texts, settings, known.writing, writing))
    # Most texts that differ do so as others do: a price is raised on many items.
    like = alike(texts.select("field", "before", "after"))
    written = notations(like.different, settings, known.writing, writing, sheet_cells, aligned.live.cells)
    mine = _shown(finding(), known.writing, writing, written)
    read = partial(by_value, learned=aligned.store is None, of_a_list=aligned.of_a_list)
    turns, changing = _turns(
        like.different,
        settings,
        known.writing,
        written,
        blanks,
        read,
        aligned.live.cells,
        learned=aligned.store is None,
    )
    differing = texts.select("pair", "new").hstack(like.each(turns))
    columns = {one.field: one.column for one in aligned.columns if one.field is not None}
    looked = look(
        differing,
        changing,
        aligned.live,
        rows.sheet,
        matched,
        settings,
        known.writing,
        columns=columns,
        accept=accept,
        repair=repair,
    )
    added = looked.cells.filter(pl.col("pair").is_null() & (pl.col("after") != ""))
    differing = looked.cells.filter(pl.col("pair").is_not_null())
    also = differing["same"] & ~differing["nothing"]
    differs = ~differing["same"]
    if aligned.key.shared == "all":
        differs |= _with_their_twins(differing, matched)
        also &= ~differs
        row = matched.both["sheet"].gather(differing["pair"])
        why = pl.col("held").filter(pl.col("held").is_not_null()).first().over(row, "field")
        differing = differing.with_columns(held=why)  # what must not go to one of them goes to none
    repaired = Counter(looked.damaged.filter(pl.col("done") == "repaired")["field"])
    counted = Counter(differing["field"].filter(also)) - repaired
    rewritten = {name: counted[name] for name in matched.fields if name in counted}
    emptied = differs & differing["emptied"]
    emptied &= differing["field"].is_in([name for name, meant in blanks.items() if meant == "keep"])
    kept = int(emptied.sum())
    differing = differing.filter(differs & ~emptied if kept else differs)
    differing = differing.with_columns(place=matched.both["live"].gather(differing["pair"]).cast(pl.Int64))
    return _Differing(differing, added, looked, mine, kept, rewritten)


def _shown(seems: Writing, live: Writing, told: Writing, written: Mapping[str, Notation]) -> Writing:
    """How the sheet seems to write values, without a date form that is not acted upon."""
    acted = seems.date_form in {told.date_form, live.date_form, *PLAIN_FORMS, *(one.form for one in written.values())}
    return seems if acted else msgspec.structs.replace(seems, date_form=live.date_form)


def _turns(
    texts: pl.DataFrame,
    settings: Mapping[str, Field],
    live: Writing,
    sheet: Mapping[str, Notation],
    blanks: Mapping[str, Blanks],
    read: Callable[..., pl.DataFrame],
    cells: pl.DataFrame,
    *,
    learned: bool,
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """What becomes of each text (`field`, `before`, `after`): `raw` (as it is in the sheet), `after` (to send), `same`,
    `held`, whether it was `emptied` or was `nothing` all along, and the name of its `damage` (null: none). Then those
    that change, with their `forms`; `turn` is the place among them. `cells` are live's.
    """
    turns = read(texts.with_columns(raw="after"), settings, live, sheet)
    turns = turns if learned else turns.with_columns(after=_spelt_like_live(turns, settings, cells))
    required = [name for name, field in settings.items() if field.required]
    locked = [name for name, field in settings.items() if field.locked]
    empty = blank(pl.col("after"))
    asking = pl.col("field").is_in([name for name, meant in blanks.items() if meant == "hold"])
    why = pl.when(asking).then(pl.lit(EMPTIED))
    turns = turns.with_columns(
        nothing=blank(pl.col("before")) & empty,
        emptied=empty & ~pl.col("same"),
        after=pl.when(empty).then(pl.lit("")).otherwise("after"),
        held=pl.when(pl.col("field").is_in(locked) & pl.col("before").is_not_null())
        .then(pl.lit(CHECK + "locked"))
        .when(~empty)
        .then("held")
        .when(pl.col("field").is_in(required))
        .then(pl.lit(CHECK + "required"))
        .otherwise(why),
    )
    changes = ~turns["same"]
    changing = turns.filter(changes).select("field", "before", "after", "raw")
    looking = submit(partial(damaged, changing, settings, live, cells))
    changing = forms(changing, settings, live)
    damage = pl.repeat(None, turns.height, dtype=pl.String, eager=True).scatter(changes.arg_true(), looking())
    return turns.with_columns(damage=damage, turn=changes.cum_sum() - 1), changing


def _spelt_like_live(turns: pl.DataFrame, settings: Mapping[str, Field], live: pl.DataFrame) -> pl.Series:
    """The texts to send, with the paths that live has already as live spells them. A cell in which nothing but the
    spelling of its own path changed stays as it was typed.
    """
    after = turns["after"].clone()
    for name in turns["field"].unique(maintain_order=True):
        if settings[name].kind == "path" and settings[name].same != "text":
            at = (turns["field"] == name).arg_true()
            after = after.scatter(at, spelt_like(live[name], after.gather(at), settings[name]))
    return after.zip_with((after != turns["before"]).fill_null(value=True), turns["after"])


CELL = ["place", "sheet", "field", "before", "after", "held"]


def _with_codes(
    live: Catalogue, rows: _Placed, found: _Differing, fields: Mapping[str, Field], *, with_gone: bool
) -> tuple[pl.DataFrame, pl.DataFrame]:
    """The cells that differ, with those by which codes change, and with links that follow them; `place` and `sheet`
    say where their items stand (null where they are not in the sheet). And the cells of new items.
    """
    matched = rows.matched
    cells = found.cells.with_columns(sheet=matched.both["sheet"].gather(found.cells["pair"]).cast(pl.Int64)).select(
        CELL
    )
    if not rows.codes.moves:
        return cells, found.added
    key = matched.keys["live"].key
    arriving = set(stripped(rows.sheet.cells, key).gather(matched.new).rows())
    more, codes = code_cells(live, rows.codes, arriving, fields, key)
    cells, added = (some.with_columns(after=followed(some, fields, codes)) for some in (cells, found.added))
    more = more.join(cells, on=["place", "field"], how="anti", maintain_order="left")
    if with_gone:  # a link of an item that goes away is of no account
        recoded = more.filter(pl.col("field").is_in(matched.key))["place"]
        leaves = matched.gone.cast(pl.Int64)
        leaves = leaves.filter(~leaves.is_in(recoded.implode()))
        more = more.filter(~pl.col("place").is_in(leaves.implode()))
    both = matched.both.select(pl.col("live", "sheet").cast(pl.Int64))
    more = more.join(both, left_on="place", right_on="live", how="left", maintain_order="left")
    return pl.concat([cells, more.select(CELL)]), added


def _with_exact(store: Store, exact: Collection[str], live: Catalogue) -> Store:
    """The store in which every difference of text counts in these fields. CatalogueError when live has none of one."""
    _must_have(live, exact)
    named = {name: msgspec.structs.replace(store.fields.get(name, Field()), same="text") for name in exact}
    return msgspec.structs.replace(store, fields=store.fields | named) if named else store


def _must_have(live: Catalogue, names: Iterable[str]) -> None:
    """CatalogueError when live has no field of one of these names."""
    for name in names:
        if name not in live.fields:
            near = nearest(name, live.fields)
            hint = f'Did you mean "{near}"?' if near else f"It has: {listed(live.fields)}."
            raise CatalogueError(f'{live.path}: it has no field "{name}". {hint}')


def _settings(live: Catalogue, known: Store) -> dict[str, Field]:
    """What is known of live's fields, those that the sheet lacks among them, where they are more than text."""
    return {name: known.fields[name] for name in live.fields if known.fields.get(name, Field()) != Field()}


def _repeated(sheet: Catalogue, matched: Matched) -> pl.Series:
    """The places in the sheet of the rows that were set aside because their key repeats there."""
    rows = [row.row for row in matched.set_aside if row.file == "sheet" and row.reason == REPEATS]
    return sheet.place(pl.Series(rows, dtype=pl.Int64))


def _once(
    live: Catalogue, sheet: Catalogue, twice: pl.Series, key: Key, *, accept_near: bool, bare: bool
) -> tuple[Catalogue, Matched]:
    """The sheet without the rows that were pasted again, and the match without them; they are set aside."""
    kept = pl.int_range(sheet.cells.height, eager=True).is_in(twice.implode()).not_()
    rows = sheet.row(pl.int_range(sheet.cells.height, eager=True))
    again = [
        SetAside("sheet", row, found, SAME_ROW)
        for row, found in zip(
            sheet.row(twice), sheet.cells.select(key.fields).gather(twice).rows(named=True), strict=True
        )
    ]
    once = replace(sheet, cells=sheet.cells.filter(kept), numbers=rows.filter(kept))
    matched = _matched(live, once, key, accept_near=accept_near, repair=True, bare=bare)
    aside = sorted([*matched.set_aside, *again], key=lambda row: (row.file, row.row))
    return once, replace(matched, set_aside=aside)


def _of_rows(live: Catalogue, rows: _Placed, *, repair: bool) -> list[Finding]:
    """What is to be said of whole rows and of keys."""
    matched, twice = rows.matched, rows.twice
    found = []
    damages = Counter((near.damage, near.taken) for near in matched.near if near.damage is not None)
    for (name, taken), many in damages.items():
        why = "the key is in no other way near, and no other item comes as near"
        found.append(Finding("damage", name, matched.key, many, why, "repaired" if taken else "held"))
    if twice.len():
        why = f"{twice.len():,} rows are the same as one before them in every cell"
        found.append(Finding("slip", "rows pasted twice", [], 0, why, "repaired" if repair else "noted"))
    lost = missing(live, rows.sheet, matched, matched.fields)
    if lost is not None:
        found.append(Finding("slip", "rows missing", [], 0, lost, "noted"))
    return found


def _with_their_twins(differing: pl.DataFrame, matched: Matched) -> pl.Series:
    """The cells that change because those of another item with the same key do: the importer cannot tell them apart."""
    row = matched.both["sheet"].gather(differing["pair"])
    changes = (~differing["same"]).to_frame("change").with_columns(row=row, field=differing["field"])
    any_of_them = changes.select(pl.col("change").any().over("row", "field")).to_series()
    return any_of_them & (differing["before"] != differing["after"])


def _texts_that_differ(live: Catalogue, sheet: Catalogue, matched: Matched) -> pl.DataFrame:
    """The cells whose text differs, by field in live's order: `field`, `pair` (row of `matched.both`), `before`,
    `after`.

    Then those of new items, in which `pair` and `before` are null and `new` is the place in `matched.new`.
    First whole rows are compared, then the cells of those that differ, by 64 bits of hash: two texts that differ
    go unnoticed once in 18 million million million. Gathering hashes in the other file's order is many times
    cheaper than gathering texts; for a few rows the texts themselves are cheapest. From a column in many chunks they
    are gathered many times more slowly. A field that differs in most rows, as a glance shows, is no part of those
    whole rows.
    """
    schema = {"field": pl.String, "pair": pl.UInt32, "new": pl.UInt32, "before": pl.String, "after": pl.String}
    if not matched.fields:
        return pl.DataFrame(schema=schema)
    one, other = live.cells.select(matched.fields), sheet.cells.select(matched.fields)
    if matched.both.height * len(matched.fields) <= SMALL:
        return _of_few_rows(one, other, matched).cast(schema)  # type: ignore[arg-type]
    often = _often(one, other, matched.both)
    seldom = [field for field in matched.fields if field not in often]
    rows = _rows_that_differ(one.select(seldom), other.select(seldom), matched.both)
    in_live, in_sheet = matched.both["live"].gather(rows), matched.both["sheet"].gather(rows)
    differs = {}
    if rows.len() > matched.both.height // 8:
        for field in seldom:
            differs[field] = one[field].hash().gather(in_live) != other[field].hash().gather(in_sheet)
    else:
        ours, theirs = _some(one.select(seldom), in_live), _some(other.select(seldom), in_sheet)
        differs = {field: ours[field] != theirs[field] for field in seldom}
    found = [pl.DataFrame(schema=schema)]
    for field in matched.fields:
        if field in often:
            pair = _rows_that_differ(one.select(field), other.select(field), matched.both)
        else:
            pair = rows.gather(differs[field].arg_true())
        if pair.len():
            cells = matched.both.gather(pair)
            texts = {
                "before": one[field].rechunk().gather(cells["live"]),
                "after": other[field].rechunk().gather(cells["sheet"]),
            }
            found.append(_table({"pair": pair} | texts, schema, field))
    for field in matched.fields if matched.new.len() else ():
        places = pl.int_range(matched.new.len(), dtype=pl.UInt32, eager=True)
        found.append(_table({"new": places, "after": other[field].gather(matched.new)}, schema, field))
    return pl.concat(found)


SMALL = 1_000_000
"""Of so many cells all texts are compared in one go, which costs the same however many columns they stand in."""


def _of_few_rows(live: pl.DataFrame, sheet: pl.DataFrame, matched: Matched) -> pl.DataFrame:
    """`_texts_that_differ` of tables with few cells, of which most may be columns."""
    fields = matched.fields
    rows = pl.int_range(matched.both.height, dtype=pl.UInt32, eager=True).alias(MARK)
    ours, theirs = (
        table.select(pl.all().gather(matched.both[side])).insert_column(0, rows)
        for table, side in ((live, "live"), (sheet, "sheet"))
    )
    name, text = MARK + "field", MARK + "text"
    long = ours.unpivot(index=MARK, on=fields, variable_name=name, value_name=text)
    after = theirs.unpivot(index=MARK, on=fields, variable_name=name, value_name=text)[text]
    differ = long.with_columns(after.alias("after")).filter(pl.col(text) != pl.col("after"))
    none = pl.lit(None, pl.UInt32)
    known = differ.select(field=name, pair=MARK, new=none, before=text, after="after")
    places = pl.int_range(matched.new.len(), dtype=pl.UInt32, eager=True).alias(MARK)
    new = sheet.select(pl.all().gather(matched.new)).insert_column(0, places)
    arriving = new.unpivot(index=MARK, on=fields, variable_name=name, value_name=text)
    return pl.concat(
        [known, arriving.select(field=name, pair=none, new=MARK, before=pl.lit(None, pl.String), after=text)]
    )


def _table(columns: dict[str, pl.Series], schema: dict[str, type[pl.DataType]], field: str) -> pl.DataFrame:
    table = pl.DataFrame(columns).with_columns(field=pl.lit(field))
    missing = [pl.lit(None, kind).alias(name) for name, kind in schema.items() if name not in table.columns]
    return table.with_columns(missing).select(list(schema)).cast(schema)  # type: ignore[arg-type]


def _some(table: pl.DataFrame, places: pl.Series) -> pl.DataFrame:
    """A few rows of a table, in the order given. Taking them in the table's own order first is several times faster."""
    wanted = pl.repeat(False, table.height, eager=True).scatter(places, True)
    return table.filter(wanted).rechunk().gather(places.rank("dense").cast(pl.UInt32) - 1)


GLANCE = 1_000
"""So many of many items are glanced at."""


def _often(live: pl.DataFrame, sheet: pl.DataFrame, both: pl.DataFrame) -> list[str]:
    """The fields whose text differs in most items, as a glance at some of very many shows."""
    if both.height < GLANCE * 10:
        return []
    some = both.gather_every(both.height // GLANCE)
    ours, theirs = live.gather(some["live"]), sheet.gather(some["sheet"])
    return [field for field in live.columns if (ours[field] != theirs[field]).mean() > 0.5]  # type: ignore[operator]


def _rows_that_differ(live: pl.DataFrame, sheet: pl.DataFrame, both: pl.DataFrame) -> pl.Series:
    """The items (rows of `both`) in which the text of any of these fields differs."""
    if not live.width:
        return pl.Series([], dtype=pl.UInt32)
    one, other = (table.to_series().hash() if table.width == 1 else table.hash_rows() for table in (live, sheet))
    return (one.gather(both["live"]) != other.gather(both["sheet"])).arg_true()


def _items(
    changed: pl.DataFrame, gone: pl.Series, new: pl.Series, reason_new: str | None, reason_gone: str | None
) -> pl.DataFrame:
    """The items that are not the same, with their places in the files; new ones last, in the sheet's order."""

    def some(verdict: str, reason: str | None, **places: pl.Series) -> pl.DataFrame:
        table = pl.DataFrame(places).with_columns(verdict=pl.lit(verdict), held=pl.lit(reason, pl.String))
        missing = [pl.lit(None).alias(name) for name in ITEMS_SCHEMA if name not in table.columns]
        return table.with_columns(missing).select(list(ITEMS_SCHEMA)).cast(ITEMS_SCHEMA)  # type: ignore[arg-type]

    both = changed.with_columns(held=pl.lit(None, pl.String)).select(list(ITEMS_SCHEMA)).cast(ITEMS_SCHEMA)  # type: ignore[arg-type]
    of_live = pl.concat([both, some("gone", reason_gone, live=gone)])
    return pl.concat([of_live.sort("live"), some("new", reason_new, sheet=new)])


def _changed(matched: Matched, cells: pl.DataFrame) -> pl.DataFrame:
    """The items that these cells are of: their places in live and in the sheet (null where they are not there), and
    their verdicts.
    """
    changed = (
        cells.select("sheet", live="place").sort("live").filter(pl.col("live").ne_missing(pl.col("live").shift(1)))
    )
    coded = cells.filter(pl.col("field").is_in(matched.key))["place"]
    verdict = pl.when(pl.col("live").is_in(coded.implode())).then(pl.lit("recoded")).otherwise(pl.lit("changed"))
    return changed.with_columns(verdict=verdict)


def _recoded_from_nothing(rows: _Placed, places: pl.DataFrame) -> pl.Series:
    """Per item why it is held, if it is new and yet has a new code beside its own, which live does not have."""
    new = (places["verdict"] == "new").arg_true()
    why = pl.repeat(None, places.height, dtype=pl.String, eager=True)
    if not new.len() or NEW_CODE not in rows.sheet.fields:
        return why
    codes, own = (rows.sheet.cells[name].gather(places["sheet"].gather(new)) for name in (NEW_CODE, rows.codes.field))
    codes, own = codes.str.strip_chars(), own.str.strip_chars()
    return why.scatter(new.filter((codes != "") & (codes != own)), f"code: {UNKNOWN}")


def _only_listed(sheet: Catalogue, matched: Matched) -> Matched:
    """The match where the sheet is nothing but a list of codes: a row of which live has no item is set aside."""
    rows = sheet.row(matched.new)
    keys = sheet.cells.select(matched.key).gather(matched.new).rows(named=True)
    aside = [SetAside("sheet", row, key, UNKNOWN) for row, key in zip(rows, keys, strict=True)]
    aside = sorted([*matched.set_aside, *aside], key=lambda row: (row.file, row.row))
    return replace(matched, new=matched.new.clear(), set_aside=aside)


def _cells(old: pl.DataFrame, fields: list[str], places: pl.DataFrame, added: pl.DataFrame) -> pl.DataFrame:
    """The changed cells by item and field: those of items that live has, and those of new ones that hold something."""
    schema = cells_schema(fields)
    new, known = (places["verdict"] == "new").arg_true(), places["live"].is_not_null().arg_true()
    at = places["live"].gather(known)
    end = int(at.max() or 0) + 1  # type: ignore[arg-type]
    numbers = pl.repeat(None, end, dtype=pl.UInt32, eager=True).scatter(at, known)
    tables = [
        old.with_columns(item=numbers.gather(old["place"])),
        added.with_columns(item=new.gather(added["new"])),
    ]
    fitting = [table.select(list(schema)).cast(schema) for table in tables]  # type: ignore[arg-type]
    return pl.concat(fitting).sort("item", "field")
