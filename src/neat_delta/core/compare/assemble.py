"""Assembling the change set of a run: its items, cells and header, before anything of it is held."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.header import FORMAT, VERSION, Counts, FindingSummary, Header
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.reasons import EMPTIED, GONE, NEAR, NEW
from neat_delta.core.base.model.schemas import (
    COMPUTED_SCHEMA,
    DAMAGED_SCHEMA,
    FINDINGS,
    FLAGS_SCHEMA,
    ITEMS_SCHEMA,
    NOT_SENT,
    UNRESOLVED_SCHEMA,
    cells_schema,
    conform,
    empty,
    stopping,
)
from neat_delta.core.base.model.store import Field, Store, accompanying
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.compare.checks import CHECKS
from neat_delta.core.compare.detect.damage import DAMAGES
from neat_delta.core.compare.detect.near_keys import near_reasons
from neat_delta.core.compare.diff.equality import by_value
from neat_delta.core.compare.made import computed_cells, problems_said, unresolved, with_defaults
from neat_delta.core.compare.round import Draft
from neat_delta.core.compare.rows import Placed, row_findings
from neat_delta.core.sheets.match.keys import KeyIndex, stripped
from neat_delta.core.sheets.match.likely import likely_codes
from neat_delta.core.sheets.rekey.moves import UNKNOWN
from neat_delta.core.sheets.rekey.requests import code_cells, with_followed_links
from neat_delta.core.sheets.rules.resting import left_alone

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Source
    from neat_delta.core.base.model.rules import RuleText
    from neat_delta.core.compare.round import Round
    from neat_delta.core.sheets.match.base import Based
    from neat_delta.core.sheets.match.rows import Matched

__all__ = ["assemble", "with_flags"]


def assemble(round_: Round) -> Round:
    """The change set of the cells that change, once live's own values are put back where that was decided."""
    live, rows, key, provenance = round_.aligned.live, round_.rows, round_.aligned.key, round_.rows.sheet.provenance
    changed = _changed(round_)
    places = _items(changed.cells, round_)
    here = {*rows.matched.fields, *changed.cells["field"].unique()}
    fields = [name for name in live.fields if name in here]
    none = constant(None, live.cells.height + rows.matched.new.len() + 1, pl.Int64)
    number = scattered(none, places["item"], pl.int_range(places.height, eager=True))
    named = {"item": gathered(number, changed.cells["item"]), "field": changed.cells["field"].cast(pl.Enum(fields))}
    cells = pl.DataFrame(changed.cells.to_dict() | named).sort("item", "field")
    questions = unresolved(provenance, rows.sheet, key) if provenance else empty(UNRESOLVED_SCHEMA)
    rules, computed = list(provenance.rules) if provenance else [], empty(COMPUTED_SCHEMA)
    if provenance:
        computed = computed_cells(provenance, rows.matched, live.cells.height, number, cells)
    if changed.filled.height:
        filled = changed.filled.with_columns(item=gathered(number, changed.filled["item"]))
        computed, rules = with_defaults(computed, rules, filled)
    items = pl.DataFrame(
        {"verdict": places["verdict"], "live": live.row(places["live"]), "sheet": rows.sheet.row(places["sheet"])}
    )
    keys = pl.concat(
        [
            gathered(live.cells[key.fields].rechunk(), places["live"].drop_nulls()),
            gathered(stripped(rows.sheet.cells, key), gathered(rows.matched.new, round_.arriving)),
        ]
    )
    draft = ChangeSet(
        _header(round_, fields, changed, rules),
        keys,
        conform(items, ITEMS_SCHEMA),
        conform(cells, cells_schema(fields)),
        _damaged(round_, number),
        computed=computed,
        unresolved=questions,
    )
    if round_.merged:
        draft = replace(draft, meanwhile=round_.merged.meanwhile)
    draft = _with_summaries(draft, round_, changed, places)
    item = gathered(number, round_.decided["item"])
    columns = {name: texts for name, texts in round_.decided.to_dict().items() if name != "cell"}
    decided = filtered(pl.DataFrame(columns | {"item": item}), not_null(item) | ~not_null(round_.decided["item"]))
    ruled = _with_rules(cells, decided, round_.known, key.fields)
    findings = _findings(cells, places, rows)
    return replace(round_, draft=Draft(draft, ruled, decided, findings))


@dataclass(frozen=True, slots=True)
class _Changed:
    """The `cells` that change (`CELL`, and the `reason` for which a code cannot), by items as they are numbered before
    there is a change set; those of new items that are `filled` by default; how many emptied cells are `kept`, how many
    cells of each field are only `rewritten`, how many cells and items stay as the store has them, and the cells in
    which live's own value is put back (`repaired`).
    """

    cells: pl.DataFrame
    filled: pl.DataFrame
    kept: int
    rewritten: dict[str, int]
    left_to_store: int
    repaired: pl.Series


def _changed(round_: Round) -> _Changed:
    """The cells that change, as was decided of those that differ."""
    matched = round_.rows.matched
    repaired = filtered(round_.decided, round_.decided["done"] == "repaired")["cell"]
    deltas = round_.deltas
    if not round_.merged:
        deltas = deltas.hstack([constant(None, deltas.height, pl.String).alias("base")])
    deltas = _put_back(deltas, repaired)
    deltas, left_to_store = _with_clashes(deltas, round_)
    decided = round_.decided
    as_live = decided["cell"].filter((decided["source"] == EMPTIED) & (decided["done"] == "kept"))
    deltas = deltas.hstack([scattered(constant(False, deltas.height), as_live, True).alias("kept")])
    added = filtered(deltas, ~not_null(deltas["pair"]) & ~deltas["same"] & (deltas["after"] != ""))
    differing = filtered(deltas, not_null(deltas["pair"]))
    also, differs = differing["same"] & ~differing["nothing"] & ~differing["apart"], ~differing["same"]
    if round_.aligned.key.shared == "all":
        differs |= _with_their_twins(differing, matched)
        also &= ~differs
    counted = Counter(differing["field"].filter(also))
    kept = differs & differing["kept"]
    filled = _by_default(added, round_)
    cells = pl.concat([filtered(differing, differs & ~kept)[CELL], added[CELL], filled])
    coded = _with_codes(cells.hstack([constant(None, cells.height, pl.String).alias("reason")]), round_)
    cells = _beside_changes(coded, accompanying(round_.known.fields))
    rewritten = {name: counted[name] for name in matched.fields if name in counted}
    return _Changed(cells, filled, int(kept.sum()), rewritten, left_to_store, repaired)


def _header(round_: Round, fields: list[str], changed: _Changed, rules: list[RuleText]) -> Header:
    """What the change set says of its inputs and of how they were compared; what it holds is counted later."""
    aligned, rows, shop, policy = round_.aligned, round_.rows, round_.known, round_.options.policy
    live, matched, key, provenance, based = aligned.live, rows.matched, aligned.key, rows.sheet.provenance, round_.based
    in_sheet, merged = set(rows.sheet.fields), round_.merged
    truly_new = matched if based is None else replace(matched, new=based.matched.new)
    return Header(
        format=FORMAT,
        version=VERSION,
        store=_store_as_compared(round_),
        fields=fields,
        live=live.source,
        sheet=aligned.sheet.source,
        counts=NOTHING,
        pairs=aligned.columns,
        headings=aligned.headings,
        untouched=[name for name in live.fields if name not in in_sheet and name not in live.unseen],
        rewritten=changed.rewritten,
        sheet_writing=round_.outcomes.writing,
        learned=aligned.store is None,
        near=matched.near,
        set_aside=matched.set_aside,
        accepted=list(policy.accept),
        likely=likely_codes(live, rows.sheet, truly_new, shop.fields, key.name, rows.codes.field),
        new_values=sorted(policy.new_values),
        base=_source_of_base(based) if based else None,
        remembered=round_.remembered,
        two_way=based.two_way if based else [],
        meanwhile=dict(Counter(merged.meanwhile["field"].drop_nulls())) if merged else {},
        followed=list(round_.followed),
        rules=rules,
        matched_by=list(provenance.matched_by) if provenance else [],
        unseen=[name for name in live.unseen if name in fields],
    )


def _store_as_compared(round_: Round) -> Store:
    """What is known of the store, under the names of live's fields, of which those are left out that are plain text."""
    shop, aligned = round_.known, round_.aligned
    fields = {name: shop.fields[name] for name in aligned.live.fields if shop.fields.get(name, Field()) != Field()}
    key = msgspec.structs.replace(aligned.key, fields=round_.rows.matched.key)
    return msgspec.structs.replace(shop, key=key, fields=fields)


NOTHING = Counts(**dict.fromkeys((count.name for count in msgspec.structs.fields(Counts) if count.required), 0))
"""The counts of a change set that has nothing."""


def _with_summaries(draft: ChangeSet, round_: Round, changed: _Changed, places: pl.DataFrame) -> ChangeSet:
    """The change set with its counts, and with what a person is told of damage, slips, rows and rows that were lost."""
    rows, matched, provenance, merged = round_.rows, round_.rows.matched, round_.rows.sheet.provenance, round_.merged
    verdicts = Counter(dict(places["verdict"].value_counts().iter_rows()))
    met = places.filter(pl.col("verdict").is_in(["changed", "recoded"]))["sheet"]
    lost = _lost(round_)
    counts = msgspec.structs.replace(
        NOTHING,
        same=matched.pairs.height - met.count(),
        changed=verdicts["changed"],
        recoded=verdicts["recoded"],
        unlisted=met.null_count(),
        absent=matched.gone.len() - met.null_count() - verdicts["gone"],
        departed=matched.new.len() - round_.arriving.len(),
        clashes=_clashes(round_.decided, changed.repaired),
        already=merged.already if merged else 0,
        merged=merged.merged if merged else 0,
        left_to_store=changed.left_to_store,
        meanwhile=merged.meanwhile.height if merged else 0,
        lost=lost.height,
        folded=provenance.folded if provenance else 0,
        copied=provenance.copied if provenance else 0,
        computed=draft.computed.height,
        unresolved=draft.unresolved.height,
        new=verdicts["new"],
        gone=verdicts["gone"],
        set_aside_live=sum(row.file == "live" for row in matched.set_aside),
        set_aside_sheet=sum(row.file == "sheet" for row in matched.set_aside),
        cells=draft.cells.height,
        blanks_kept=changed.kept,
        written_differently=sum(changed.rewritten.values()),
        damaged=draft.damaged.height,
        repaired=int((draft.damaged["done"] == "repaired").sum()),
    )
    summaries = [
        *row_findings(round_.aligned.live, rows, is_whole=round_.options.whole_sheet),
        *problems_said(draft.unresolved),
        *_damage_said(draft.damaged),
        *_slips_said(round_),
    ]
    lost_keys = stripped(lost.head(MOST_LOST), round_.aligned.key).rows(named=True)
    return replace(
        draft, header=msgspec.structs.replace(draft.header, counts=counts, findings=summaries, lost=lost_keys)
    )


CELL = ["item", "field", "before", "after", "unread", "base"]


def _source_of_base(based: Based) -> Source:
    """The base as it was read: what it lacks of live was added since."""
    return msgspec.structs.replace(based.base.source, rows=based.own_rows)


def _beside_changes(cells: pl.DataFrame, names: list[str]) -> pl.DataFrame:
    """The cells without those of these fields whose item has no other: they go only with another change."""
    if not names:
        return cells
    alone = left_alone(cells, names).filter(pl.col("before").is_not_null())
    return cells.join(alone, on=["item", "field"], how="anti", maintain_order="left")


def _by_default(added: pl.DataFrame, round_: Round) -> pl.DataFrame:
    """The cells (`CELL`) that new items get from the importer's defaults, where they have nothing of their own."""
    shop, live = round_.known, round_.aligned.live
    parts = [added.select(CELL).clear()]
    new = round_.arriving.cast(pl.Int64) + live.cells.height
    for name, text in shop.importer.defaults.items() if new.len() else ():
        if name in live.fields and text.strip():
            has = filtered(added, added["field"] == name)["item"]
            cells = pl.DataFrame({"item": new.filter(~new.is_in(has.implode()))})
            cells = cells.with_columns(pl.lit(name).alias("field"), pl.lit(text).alias("after"))
            cells = cells.with_columns(pl.lit(None, pl.String).alias(column) for column in ("before", "base"))
            read = by_value(cells.head(1), {name: shop.fields.get(name, Field())}, shop.writing, {}, learned=False)
            unread = read["held"][0] if cells.height else None
            cells = cells.with_columns(unread=pl.lit(unread, pl.String)).select(CELL)
            parts.append(cells.cast(dict(parts[0].schema)))  # type: ignore[arg-type]
    return pl.concat(parts)


MOST_LOST = 100
"""So many of the rows that a working sheet lost are named."""


def _with_clashes(deltas: pl.DataFrame, round_: Round) -> tuple[pl.DataFrame, int]:
    """The cells that differ, as was decided where they clash: as live has them, or with the difference added. And how
    many cells and items stay as the store has them.
    """
    clashes = filtered(round_.decided, round_.decided["source"] == "clash")[["cell", "done"]]
    if not clashes.height:
        return deltas, 0
    left_to_store = round_.left_to_store
    kept = filtered(clashes, clashes["done"] == "kept")["cell"].drop_nulls()
    kept = pl.concat([kept, true_places(deltas["item"].is_in(left_to_store.implode())).cast(pl.UInt32)])
    deltas = _put_back(deltas, kept)
    added = filtered(clashes, clashes["done"] == "added")["cell"]
    after = scattered(deltas["after"], added, gathered(deltas["added"], added))
    return deltas.with_columns(after=after), int((clashes["done"] == "kept").sum())


def _clashes(decided: pl.DataFrame, repaired: pl.Series) -> int:
    """How many cells and items clash, without those in which live's own value is put back."""
    return decided.filter(
        (pl.col("source") == "clash") & ~pl.col("cell").is_in(repaired.implode()).fill_null(value=False)
    ).height


def _lost(round_: Round) -> pl.DataFrame:
    """The keys of the rows that a working sheet was cut with and does not have any more."""
    key, cut_with = round_.aligned.key, round_.cut_with
    if cut_with is None:
        return empty(dict.fromkeys(key.fields, pl.String))
    returned = KeyIndex.of(round_.rows.sheet.cells, key).lookup(cut_with.cells).is_not_null()
    return cut_with.cells.select(key.fields).filter(~returned)


def _put_back(deltas: pl.DataFrame, cells: pl.Series) -> pl.DataFrame:
    """The cells that differ, of which these are again as live has them."""
    if not cells.len():
        return deltas
    return deltas.with_columns(
        same=scattered(deltas["same"], cells, True),
        apart=scattered(deltas["apart"], cells, True),
        after=scattered(deltas["after"], cells, gathered(deltas["before"], cells)),
    )


def _with_their_twins(differing: pl.DataFrame, matched: Matched) -> pl.Series:
    """The cells that change because those of another item with the same key do: the importer cannot tell them apart."""
    row = gathered(matched.pairs["sheet"], differing["pair"])
    changes = (~differing["same"]).to_frame("change").with_columns(row=row, field=differing["field"])
    any_of_them = changes.select(pl.col("change").any().over("row", "field")).to_series()
    return any_of_them & (differing["before"] != differing["after"])


def _with_codes(cells: pl.DataFrame, round_: Round) -> pl.DataFrame:
    """The cells with those by which codes change, and with links that follow them; `reason` says why a code cannot."""
    rows, live, fields = round_.rows, round_.aligned.live, round_.known.fields
    if not rows.codes.moves:
        return cells
    matched, key = rows.matched, round_.aligned.key
    arriving = set(gathered(stripped(rows.sheet.cells, key), matched.new).rows())
    more, codes = code_cells(live, rows.codes, arriving, fields, key)
    cells = cells.with_columns(after=with_followed_links(cells, fields, codes))
    more = more.rename({"place": "item"}).with_columns(unread=pl.lit(None, pl.String), base=pl.lit(None, pl.String))
    more = more.join(cells, on=["item", "field"], how="anti", maintain_order="left")
    if round_.options.policy.with_gone and round_.options.drops:  # a link of an item that goes away is of no account
        recoded = more.filter(pl.col("field").is_in(key.fields))["item"]
        leaves = round_.leaving.cast(pl.Int64)
        leaves = leaves.filter(~leaves.is_in(recoded.implode()))
        more = more.filter(~pl.col("item").is_in(leaves.implode()))
    return pl.concat([cells, more.select(cells.columns)])


def _items(cells: pl.DataFrame, round_: Round) -> pl.DataFrame:
    """The items that are not the same: `item` (live's rows, and after them the new ones), `verdict`, and their places
    in `live` and in the `sheet` (null where they are not there). New ones come last, in the sheet's order.
    """
    matched, height = round_.rows.matched, round_.aligned.live.cells.height
    met = cells["item"].unique().sort()
    met = met.filter(met < height)
    recoded = constant(False, height)
    if round_.rows.codes.moves:
        coded = cells["item"].filter(cells["field"].is_in(matched.key))
        recoded = scattered(recoded, coded.filter(coded < height), True)
    verdict = constant("changed", met.len()).zip_with(~gathered(recoded, met), constant("recoded", met.len()))
    in_sheet = scattered(constant(None, height, pl.Int64), matched.pairs["live"], matched.pairs["sheet"].cast(pl.Int64))
    columns = ("item", "verdict", "sheet", "live")
    known = pl.DataFrame(dict(zip(columns, (met, verdict, gathered(in_sheet, met), met), strict=True)))
    if round_.options.drops and not round_.listed_codes:
        gone = round_.leaving.cast(pl.Int64)
        gone = gone.filter(~gathered(scattered(constant(False, height), met, True), gone))
        absent = constant(None, gone.len(), pl.Int64)
        of_gone = (gone, constant("gone", gone.len(), pl.String), absent, gone)
        known = pl.concat([known, pl.DataFrame(dict(zip(columns, of_gone, strict=True)))]).sort("item")
    arriving = round_.arriving
    absent = constant(None, arriving.len(), pl.Int64)
    of_new = (
        arriving.cast(pl.Int64) + height,
        constant("new", arriving.len(), pl.String),
        gathered(matched.new, arriving).cast(pl.Int64),
        absent,
    )
    return pl.concat([known, pl.DataFrame(dict(zip(columns, of_new, strict=True)))])


def _damaged(round_: Round, number: pl.Series) -> pl.DataFrame:
    """The damaged cells one by one, by their row in the sheet and their field, with what was done."""
    rows, matched = round_.rows, round_.rows.matched
    damage_findings = filtered(round_.decided, round_.decided["source"] == "damage")
    if not damage_findings.height:
        return empty(DAMAGED_SCHEMA)
    cells = gathered(round_.deltas, damage_findings["cell"])
    place = gathered(matched.pairs["sheet"], cells["pair"]).cast(pl.Int64)
    place = place.zip_with(not_null(place), gathered(matched.new, cells["new"]).cast(pl.Int64))
    keys = gathered(stripped(rows.sheet.cells, round_.aligned.key), place)
    mendable = damage_findings["mendable"].fill_null(value=False)
    listed = pl.DataFrame(
        {
            "item": gathered(number, damage_findings["item"]),
            "damage": damage_findings["rule"],
            "key": keys.select(pl.concat_list(pl.all())).to_series(),
            "field": damage_findings["field"],
            "row": rows.sheet.row(place),
            "before": cells["before"],
            "sheet": cells["raw"],
            "repair": cells["before"].set(~mendable, None),
            "done": damage_findings["done"],
        }
    )
    order = pl.col("field").cast(pl.Enum(matched.fields))
    return conform(listed.sort("row", order, maintain_order=True), DAMAGED_SCHEMA)


def _damage_said(damaged: pl.DataFrame) -> list[FindingSummary]:
    """The damage as a person is told of it: by what happened, field and what was done."""
    groups = damaged.group_by("damage", "field", "done", maintain_order=True).len()
    return [
        FindingSummary("damage", name, [field], times, DAMAGES[name].why, done)
        for name, field, done, times in groups.iter_rows()
    ]


def _slips_said(round_: Round) -> list[FindingSummary]:
    """The slips as a person is told of them: one by one, in so many cells that are let through, and so many held."""
    of_slips = filtered(round_.decided, round_.decided["source"] == "slip")
    times = {(rule, done): count for rule, done, count in of_slips.group_by("rule", "done").len().iter_rows()}
    return [
        FindingSummary("slip", name, fields, times[str(number), done], why, done)
        for number, (name, fields, why) in enumerate(round_.detected.slips)
        for done in ("accepted", "held")
        if (str(number), done) in times
    ]


def _with_rules(cells: pl.DataFrame, decided: pl.DataFrame, shop: Store, key: list[str]) -> pl.DataFrame:
    """The cells with what is to be said of each by itself (`rule`), where neither damage nor a slip holds it."""
    locked = [name for name, field in shop.fields.items() if field.locked and name not in key]
    required = [name for name, field in shop.fields.items() if field.required and name not in key]
    name = pl.col("field").cast(pl.String)
    rule = (
        pl.when(name.is_in(locked) & pl.col("before").is_not_null())
        .then(pl.lit("locked"))
        .when(pl.col("unread").is_not_null())
        .then(pl.lit("unreadable"))
        .when(name.is_in(required) & (pl.col("after") == ""))
        .then(pl.lit("required"))
    )
    ruled = cells.with_columns(rule=rule)
    held = decided.filter((pl.col("done") == "held") & (pl.col("source") != EMPTIED))
    held = held.select("item", pl.col("field").cast(cells.schema["field"]))
    if not held.height:
        return ruled
    held = held.unique().with_columns(held=pl.lit(value=True))
    ruled = ruled.join(held, on=["item", "field"], how="left", maintain_order="left")
    return ruled.with_columns(rule=pl.when(pl.col("held").is_null()).then("rule")).drop("held")


def _findings(cells: pl.DataFrame, places: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """What is to be said of the items whatever stands in them: new, gone, a code that cannot be, a key that nearly is
    another's.
    """
    coded = filtered(cells, not_null(cells["reason"]))
    items = places.hstack([pl.int_range(places.height, eager=True).alias("number")])
    tables = [("code", conform(coded, NOT_SENT))]
    for verdict in (NEW, GONE):
        number = items["number"].filter(items["verdict"] == verdict)
        tables.append((verdict, pl.DataFrame({"item": number, "reason": constant(verdict, number.len(), pl.String)})))
    tables += [
        ("code", _recoded_from_nothing(items, rows)),
        ("near", _nearly_there(items, rows)),
        ("near", _nearly_gone(items, rows)),
    ]
    return pl.concat([stopping(table, source) for source, table in tables if table.height] or [empty(FINDINGS)])


NO_REASONS = pl.DataFrame(schema={"item": pl.Int64, "reason": pl.String})
"""No item, and no reason."""


def _nearly_there(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """New items whose key nearly is one of live's: `item` and the `reason`."""
    reasons = near_reasons(rows.matched.near)
    if not reasons:
        return NO_REASONS
    new = filtered(items, items["verdict"] == "new")
    reason = rows.sheet.row(new["sheet"]).replace_strict(reasons, default=None, return_dtype=pl.String)
    return new.select(item="number", reason=reason).drop_nulls()


def _nearly_gone(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """Items that a whole sheet lacks but for a row whose key nearly is theirs: `item` and the `reason`."""
    if not rows.matched.nearly.len():
        return NO_REASONS
    nearly = pl.col("live").is_in(rows.matched.nearly.cast(pl.Int64).implode())
    gone = items.filter((pl.col("verdict") == "gone") & nearly)
    return gone.select(item="number", reason=pl.lit(NEAR + "a row nearly has its key"))


def _recoded_from_nothing(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """New items that yet have a new code beside their own, which live does not have: `item` and the `reason`."""
    if not rows.matched.new.len() or NEW_CODE not in rows.sheet.fields:
        return NO_REASONS
    new = filtered(items, items["verdict"] == "new")
    codes, own = (rows.sheet.at(name, new["sheet"]).str.strip_chars() for name in (NEW_CODE, rows.codes.field))
    return new.filter((codes != "") & (codes != own)).select(item="number", reason=pl.lit(f"code: {UNKNOWN}"))


def with_flags(changes: ChangeSet, checked: pl.DataFrame) -> ChangeSet:
    """The change set with what the checks found, one by one (`flags`) and as a person is told of it."""
    if not checked.height:
        return changes
    of_items = scattered(constant(False, changes.items.height), checked["item"].drop_nulls(), True)
    place = filtered(changes.cells, gathered(of_items, changes.cells["item"]))
    texts = {"item": place["item"], "field": place["field"].cast(pl.String), "value": place["after"]}
    table = checked.hstack(
        [checked["rule"].alias("check"), gathered(changes.items["sheet"], checked["item"]).alias("row")]
    )
    table = table.join(pl.DataFrame(texts), on=["item", "field"], how="left", maintain_order="left")
    flags = conform(table, FLAGS_SCHEMA)
    groups = flags.group_by("check", "field", "done", maintain_order=True).len()
    flag_columns = [
        FindingSummary(name, name, [] if field is None else [field], times, CHECKS[name].does, done, CHECKS[name].do)
        for name, field, done, times in groups.iter_rows()
    ]
    counts = msgspec.structs.replace(changes.header.counts, flags=flags.height)
    header = msgspec.structs.replace(changes.header, counts=counts, findings=[*changes.header.findings, *flag_columns])
    return replace(changes, header=header, flags=flags)
