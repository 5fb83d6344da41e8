"""Assembling the change set of a run: its items, cells and header, before anything of it is held."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass, replace
from functools import cache
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.checks import CHECKS
from neat_delta.core.decide.decide import accepted
from neat_delta.core.detect.damage import DAMAGES
from neat_delta.core.detect.near_keys import near_reasons
from neat_delta.core.diff.equality import by_value
from neat_delta.core.engine.made import computed_cells, problems_said, unresolved, with_defaults
from neat_delta.core.engine.rows import Placed, named_within, row_findings
from neat_delta.core.kinds import blank
from neat_delta.core.match.keys import KeyIndex, stripped
from neat_delta.core.match.likely import likely_codes
from neat_delta.core.model.changeset import FORMAT, VERSION, ChangeSet, Counts, FindingSummary, Header, LikelyCode
from neat_delta.core.model.importer import NEW_CODE
from neat_delta.core.model.reasons import EMPTIED, GONE, NEAR, NEW
from neat_delta.core.model.schemas import (
    COMPUTED_SCHEMA,
    DAMAGED_SCHEMA,
    FINDINGS,
    FLAGS_SCHEMA,
    ITEMS_SCHEMA,
    UNRESOLVED_SCHEMA,
    cells_schema,
    conform,
    empty,
    stopping,
)
from neat_delta.core.model.store import Field, Store, accompanying
from neat_delta.core.rekey.moves import UNKNOWN
from neat_delta.core.rekey.requests import code_cells, with_followed_links
from neat_delta.core.rules.resting import left_alone

if TYPE_CHECKING:
    from collections.abc import Sequence

    from neat_delta.core.detect import Detected
    from neat_delta.core.diff.clashes import Merged
    from neat_delta.core.diff.outcomes import Outcomes
    from neat_delta.core.engine.options import CompareOptions
    from neat_delta.core.match.base import Based
    from neat_delta.core.match.prepare import AlignedInputs
    from neat_delta.core.match.rows import Matched
    from neat_delta.core.model.catalogue import Catalogue, Source

__all__ = ["Draft", "Stages", "assemble", "with_flags"]


@dataclass(frozen=True, slots=True)
class Stages:
    """What the stages before gave: the inputs and their rows; the texts that differ with their outcomes, cell by cell
    (`deltas`); what was detected in them and what is `decided` of that. With a base: its rows, what was `merged`, the
    code changes that were `followed`, and whether the sheet `remembered` it. `cut_with` are the items that a working
    sheet was cut with, as it says.
    """

    aligned: AlignedInputs
    rows: Placed
    outcomes: Outcomes
    deltas: pl.DataFrame
    detected: Detected
    decided: pl.DataFrame
    known: Store
    options: CompareOptions
    listed_codes: bool
    based: Based | None = None
    merged: Merged | None = None
    followed: Sequence[LikelyCode] = ()
    remembered: bool = False
    cut_with: Catalogue | None = None

    @property
    def arriving(self) -> pl.Series:
        """Which of the sheet's new rows are items of the change set: all but those that are gone from the store."""
        numbers = pl.int_range(self.rows.matched.new.len(), dtype=pl.UInt32, eager=True)
        if self.merged is None:
            return numbers
        left = self.left_to_store - self.aligned.live.cells.height
        return numbers.filter(~numbers.is_in(self.merged.departed.implode()) & ~numbers.is_in(left.implode()))

    @property
    def leaving(self) -> pl.Series:
        """The places in live of the items that a whole sheet lacks; with a base, of those that it had."""
        gone = self.rows.matched.gone
        if self.options.within and not self.options.whole:
            gone = named_within(self.aligned.live, self.rows.sheet, gone, self.options.within, self.aligned.key)
        if self.based is None:
            return gone
        return gone.filter(self.based.at.gather(gone).is_not_null() & ~gone.is_in(self.left_to_store.implode()))

    @property
    def left_to_store(self) -> pl.Series:
        """The items that clash as a whole and stay as the store has them."""
        clash = (pl.col("source") == "clash") & (pl.col("done") == "kept") & pl.col("field").is_null()
        return self.decided.filter(clash)["item"]


@dataclass(frozen=True, slots=True)
class Draft:
    """The change set before anything of it is held; its cells with what their kinds say of them
    (`checks.value_findings`); the findings that are `decided`; and those of cells and items that are not yet.
    """

    changes: ChangeSet
    cells: pl.DataFrame
    decided: pl.DataFrame
    findings: pl.DataFrame


def assemble(stages: Stages) -> Draft:
    """The change set of the cells that change, once live's own values are put back where that was decided."""
    aligned, rows, shop, policy = stages.aligned, stages.rows, stages.known, stages.options.policy
    live, matched, key, made = aligned.live, rows.matched, aligned.key, rows.sheet.provenance
    repaired = stages.decided.filter(pl.col("done") == "repaired")
    deltas = stages.deltas if stages.merged else stages.deltas.with_columns(base=pl.lit(None, pl.String))
    deltas = _put_back(deltas, repaired["cell"])
    deltas, left_to_store = _with_clashes(deltas, stages)
    added = deltas.filter(pl.col("pair").is_null() & ~pl.col("same") & (pl.col("after") != ""))
    differing = deltas.filter(pl.col("pair").is_not_null())
    also, differs = differing["same"] & ~differing["nothing"] & ~differing["apart"], ~differing["same"]
    if key.shared == "all":
        differs |= _with_their_twins(differing, matched)
        also &= ~differs
    counted = Counter(differing["field"].filter(also))
    rewritten = {name: counted[name] for name in matched.fields if name in counted}
    keep = [name for name in matched.fields if policy.blanks_of(name) == "keep"]
    typed = (
        pl.repeat(True, differing.height, eager=True) if "computed" not in deltas.columns else ~differing["computed"]
    )
    kept = differs & differing["emptied"] & differing["field"].is_in(keep) & typed
    kept &= ~_meant_empty(differing, kept, stages) if kept.any() else True
    filled = _by_default(added, stages)
    cells = pl.concat([differing.filter(differs & ~kept).select(CELL), added.select(CELL), filled])
    coded = _with_codes(cells.with_columns(reason=pl.lit(None, pl.String)), stages)
    cells = _beside_changes(coded, accompanying(shop.fields))
    places = _items(cells, stages)
    here = {*matched.fields, *cells["field"].unique()}
    fields, in_sheet = [name for name in live.fields if name in here], set(rows.sheet.fields)
    none = pl.repeat(None, live.cells.height + matched.new.len() + 1, dtype=pl.Int64, eager=True)
    number = none.scatter(places["item"], pl.int_range(places.height, eager=True))
    cells = cells.with_columns(item=number.gather(cells["item"]), field=pl.col("field").cast(pl.Enum(fields)))
    cells = cells.sort("item", "field")
    merged = stages.merged
    verdicts = Counter(dict(places["verdict"].value_counts().iter_rows()))
    met = places.filter(pl.col("verdict").is_in(["changed", "recoded"]))["sheet"]
    damaged = _damaged(stages, number)
    lost = _lost(stages)
    open_questions = unresolved(made, rows.sheet, key) if made else empty(UNRESOLVED_SCHEMA)
    rules = list(made.rules) if made else []
    computed = computed_cells(made, matched, live.cells.height, number, cells) if made else empty(COMPUTED_SCHEMA)
    if filled.height:
        computed, rules = with_defaults(computed, rules, filled.with_columns(item=number.gather(filled["item"])))
    truly_new = matched if stages.based is None else replace(matched, new=stages.based.matched.new)
    header = Header(
        format=FORMAT,
        version=VERSION,
        key=matched.key,
        fields=fields,
        live=live.source,
        sheet=aligned.sheet.source,
        counts=Counts(
            same=matched.pairs.height - met.count(),
            changed=verdicts["changed"],
            recoded=verdicts["recoded"],
            unlisted=met.null_count(),
            absent=matched.gone.len() - met.null_count() - verdicts["gone"],
            departed=matched.new.len() - stages.arriving.len(),
            clashes=_clashes(stages.decided, repaired["cell"]),
            already=merged.already if merged else 0,
            merged=merged.merged if merged else 0,
            left_to_store=left_to_store,
            meanwhile=merged.meanwhile.height if merged else 0,
            lost=lost.height,
            folded=made.folded if made else 0,
            copied=made.copied if made else 0,
            computed=computed.height,
            unresolved=open_questions.height,
            new=verdicts["new"],
            gone=verdicts["gone"],
            set_aside_live=sum(row.file == "live" for row in matched.set_aside),
            set_aside_sheet=sum(row.file == "sheet" for row in matched.set_aside),
            cells=cells.height,
            held_cells=0,
            blanks_kept=int(kept.sum()),
            written_differently=sum(rewritten.values()),
            damaged=damaged.height,
            repaired=int((damaged["done"] == "repaired").sum()),
        ),
        pairs=aligned.columns,
        headings=aligned.headings,
        untouched=[name for name in live.fields if name not in in_sheet and name not in live.unseen],
        settings={name: shop.fields[name] for name in live.fields if shop.fields.get(name, Field()) != Field()},
        rewritten=rewritten,
        writing=shop.writing,
        sheet_writing=stages.outcomes.writing,
        learned=aligned.store is None,
        ignore_case=key.ignore_case,
        shared=key.shared == "all",
        name=key.name,
        near=matched.near,
        set_aside=matched.set_aside,
        findings=row_findings(live, rows, policy, whole=stages.options.whole)
        + problems_said(open_questions)
        + _damage_said(damaged)
        + _slips_said(stages),
        accepted=list(policy.accept),
        likely=likely_codes(live, rows.sheet, truly_new, shop.fields, key.name, rows.codes.field),
        relations=shop.relations,
        new_values=sorted(policy.new_values),
        base=_source_of_base(stages.based) if stages.based else None,
        remembered=stages.remembered,
        two_way=stages.based.two_way if stages.based else [],
        meanwhile=dict(Counter(merged.meanwhile["field"].drop_nulls())) if merged else {},
        followed=list(stages.followed),
        lost=stripped(lost.head(MOST_LOST), key).rows(named=True),
        rules=rules,
        matched_by=list(made.matched_by) if made else [],
        unseen=[name for name in live.unseen if name in fields],
    )
    items = places.with_columns(live=live.row(places["live"]), sheet=rows.sheet.row(places["sheet"]))
    keys = pl.concat(
        [
            live.cells.select(key.fields).rechunk().gather(places["live"].drop_nulls()),
            stripped(rows.sheet.cells, key).gather(matched.new.gather(stages.arriving)),
        ]
    )
    changes = ChangeSet(header, keys, conform(items, ITEMS_SCHEMA), conform(cells, cells_schema(fields)), damaged)
    changes = replace(changes, computed=computed, unresolved=open_questions)
    if merged:
        changes = replace(changes, meanwhile=merged.meanwhile)
    decided = stages.decided.drop("cell").with_columns(item=number.gather(stages.decided["item"]))
    decided = decided.filter(pl.col("item").is_not_null() | stages.decided["item"].is_null())
    return Draft(
        changes,
        _with_rules(cells, decided, shop, key.fields),
        decided,
        _findings(cells, places, rows, _meant_blank(deltas, number)),
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


def _meant_empty(differing: pl.DataFrame, blanks: pl.Series, stages: Stages) -> pl.Series:
    """Which of the blank cells are meant, though blanks leave a field as it is: the sheet has the importer's word for
    it, or they were let through by name.
    """
    rows, key, policy = stages.rows, stages.aligned.key, stages.options.policy
    place = rows.matched.pairs["sheet"].gather(differing["pair"])
    meant, word = pl.repeat(False, differing.height, eager=True), stages.known.importer.empties
    for name in differing["field"].filter(blanks).unique() if word is not None else ():
        at = (blanks & (differing["field"] == name)).arg_true()
        texts = rows.sheet.cells[name].gather(place.gather(at)).str.strip_chars()
        meant = meant.scatter(at, texts == word)
    if any(one.check == EMPTIED for one in policy.accept):
        index = cache(lambda: KeyIndex.of(stages.aligned.live.cells.select(key.fields), key))
        asked = differing.select("item", pl.col("field").cast(pl.String), source=pl.lit(EMPTIED), rule=pl.lit(EMPTIED))
        meant |= accepted(asked, index, policy.accept)
    return meant


def _by_default(added: pl.DataFrame, stages: Stages) -> pl.DataFrame:
    """The cells (`CELL`) that new items get from the importer's defaults, where they have nothing of their own."""
    shop, live = stages.known, stages.aligned.live
    parts = [added.select(CELL).clear()]
    new = stages.arriving.cast(pl.Int64) + live.cells.height
    for name, text in shop.importer.defaults.items() if new.len() else ():
        if name in live.fields and text.strip():
            has = added.filter(pl.col("field") == name)["item"]
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


def _with_clashes(deltas: pl.DataFrame, stages: Stages) -> tuple[pl.DataFrame, int]:
    """The cells that differ, as was decided where they clash: as live has them, or with the difference added. And how
    many cells and items stay as the store has them.
    """
    clashes = stages.decided.filter(pl.col("source") == "clash").select("cell", "done")
    if not clashes.height:
        return deltas, 0
    whole = stages.left_to_store
    kept = clashes.filter(pl.col("done") == "kept")["cell"].drop_nulls()
    kept = pl.concat([kept, deltas["item"].is_in(whole.implode()).arg_true().cast(pl.UInt32)])
    deltas = _put_back(deltas, kept)
    added = clashes.filter(pl.col("done") == "added")["cell"]
    after = deltas["after"].clone().scatter(added, deltas["added"].gather(added))
    return deltas.with_columns(after=after), int((clashes["done"] == "kept").sum())


def _clashes(decided: pl.DataFrame, repaired: pl.Series) -> int:
    """How many cells and items clash, without those in which live's own value is put back."""
    return decided.filter(
        (pl.col("source") == "clash") & ~pl.col("cell").is_in(repaired.implode()).fill_null(value=False)
    ).height


def _lost(stages: Stages) -> pl.DataFrame:
    """The keys of the rows that a working sheet was cut with and does not have any more."""
    key, cut_with = stages.aligned.key, stages.cut_with
    if cut_with is None:
        return empty(dict.fromkeys(key.fields, pl.String))
    there = KeyIndex.of(stages.rows.sheet.cells, key).lookup(cut_with.cells).is_not_null()
    return cut_with.cells.select(key.fields).filter(~there)


def _put_back(deltas: pl.DataFrame, cells: pl.Series) -> pl.DataFrame:
    """The cells that differ, of which these are again as live has them."""
    if not cells.len():
        return deltas
    return deltas.with_columns(
        same=deltas["same"].clone().scatter(cells, True),
        apart=deltas["apart"].clone().scatter(cells, True),
        after=deltas["after"].clone().scatter(cells, deltas["before"].gather(cells)),
    )


def _with_their_twins(differing: pl.DataFrame, matched: Matched) -> pl.Series:
    """The cells that change because those of another item with the same key do: the importer cannot tell them apart."""
    row = matched.pairs["sheet"].gather(differing["pair"])
    changes = (~differing["same"]).to_frame("change").with_columns(row=row, field=differing["field"])
    any_of_them = changes.select(pl.col("change").any().over("row", "field")).to_series()
    return any_of_them & (differing["before"] != differing["after"])


def _with_codes(cells: pl.DataFrame, stages: Stages) -> pl.DataFrame:
    """The cells with those by which codes change, and with links that follow them; `reason` says why a code cannot."""
    rows, live, fields = stages.rows, stages.aligned.live, stages.known.fields
    if not rows.codes.moves:
        return cells
    matched, key = rows.matched, stages.aligned.key
    arriving = set(stripped(rows.sheet.cells, key).gather(matched.new).rows())
    more, codes = code_cells(live, rows.codes, arriving, fields, key)
    cells = cells.with_columns(after=with_followed_links(cells, fields, codes))
    more = more.rename({"place": "item"}).with_columns(unread=pl.lit(None, pl.String), base=pl.lit(None, pl.String))
    more = more.join(cells, on=["item", "field"], how="anti", maintain_order="left")
    if stages.options.policy.with_gone and stages.options.drops:  # a link of an item that goes away is of no account
        recoded = more.filter(pl.col("field").is_in(key.fields))["item"]
        leaves = stages.leaving.cast(pl.Int64)
        leaves = leaves.filter(~leaves.is_in(recoded.implode()))
        more = more.filter(~pl.col("item").is_in(leaves.implode()))
    return pl.concat([cells, more.select(cells.columns)])


def _items(cells: pl.DataFrame, stages: Stages) -> pl.DataFrame:
    """The items that are not the same: `item` (live's rows, and after them the new ones), `verdict`, and their places
    in `live` and in the `sheet` (null where they are not there). New ones come last, in the sheet's order.
    """
    matched, height = stages.rows.matched, stages.aligned.live.cells.height
    coded = cells.filter(pl.col("field").is_in(matched.key))["item"]
    met = cells["item"].unique().sort()
    met = met.filter(met < height)
    changed = pl.DataFrame({"item": met}).with_columns(
        verdict=pl.when(pl.col("item").is_in(coded.implode())).then(pl.lit("recoded")).otherwise(pl.lit("changed"))
    )
    in_sheet = matched.pairs.select(item=pl.col("live").cast(pl.Int64), sheet=pl.col("sheet").cast(pl.Int64))
    changed = changed.join(in_sheet, on="item", how="left", maintain_order="left")
    gone = stages.leaving.cast(pl.Int64).alias("item")
    gone = gone.filter(~gone.is_in(met.implode()))
    parts = [changed.with_columns(live="item")]
    if stages.options.drops and not stages.listed_codes:
        absent = pl.lit(None, pl.Int64)
        parts.append(gone.to_frame().select("item", verdict=pl.lit("gone"), sheet=absent, live="item"))
    arriving = stages.arriving
    new = pl.DataFrame({"sheet": matched.new.gather(arriving).cast(pl.Int64), "item": arriving.cast(pl.Int64) + height})
    new = new.with_columns(verdict=pl.lit("new"), live=pl.lit(None, pl.Int64))
    return pl.concat([pl.concat(parts).sort("item"), new.select("item", "verdict", "sheet", "live")])


def _damaged(stages: Stages, number: pl.Series) -> pl.DataFrame:
    """The damaged cells one by one, by their row in the sheet and their field, with what was done."""
    rows, matched = stages.rows, stages.rows.matched
    damage_findings = stages.decided.filter(pl.col("source") == "damage")
    if not damage_findings.height:
        return empty(DAMAGED_SCHEMA)
    cells = stages.deltas.select(pl.all().gather(damage_findings["cell"]))
    place = matched.pairs["sheet"].gather(cells["pair"]).cast(pl.Int64)
    place = place.zip_with(place.is_not_null(), matched.new.gather(cells["new"]).cast(pl.Int64))
    keys = stripped(rows.sheet.cells, stages.aligned.key).gather(place)
    mendable = damage_findings["mendable"].fill_null(value=False)
    listed = pl.DataFrame(
        {
            "item": number.gather(damage_findings["item"]),
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


def _slips_said(stages: Stages) -> list[FindingSummary]:
    """The slips as a person is told of them: one by one, in so many cells that are let through, and so many held."""
    of_slips = stages.decided.filter(pl.col("source") == "slip")
    times = {(rule, done): count for rule, done, count in of_slips.group_by("rule", "done").len().iter_rows()}
    return [
        FindingSummary("slip", name, fields, times[str(number), done], why, done)
        for number, (name, fields, why) in enumerate(stages.detected.slips)
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
    held = decided.filter(pl.col("done") == "held").select("item", pl.col("field").cast(cells.schema["field"]))
    if not held.height:
        return ruled
    held = held.unique().with_columns(held=pl.lit(value=True))
    ruled = ruled.join(held, on=["item", "field"], how="left", maintain_order="left")
    return ruled.with_columns(rule=pl.when(pl.col("held").is_null()).then("rule")).drop("held")


def _meant_blank(deltas: pl.DataFrame, number: pl.Series) -> pl.DataFrame:
    """The cells that a rule empties: `item` and `field`. Nobody need be asked whether that is meant."""
    if "computed" not in deltas.columns:
        return pl.DataFrame(schema={"item": pl.Int64, "field": pl.String})
    blanks = deltas.filter(pl.col("computed") & pl.col("emptied"))
    return blanks.select(item=number.gather(blanks["item"]), field=pl.col("field").cast(pl.String))


def _findings(cells: pl.DataFrame, places: pl.DataFrame, rows: Placed, meant: pl.DataFrame) -> pl.DataFrame:
    """What is to be said of the items and cells whatever stands in them: emptied (but where that was `meant`), new,
    gone, a code that cannot be, a key that nearly is another's.
    """
    name = pl.col("field").cast(pl.String)
    emptied = cells.filter(blank(pl.col("after")) & pl.col("before").is_not_null())
    if meant.height:
        emptied = emptied.with_columns(name).join(meant, on=["item", "field"], how="anti", maintain_order="left")
    coded = cells.filter(pl.col("reason").is_not_null())
    items = places.with_row_index("number").select(pl.col("number").cast(pl.Int64), "verdict", "sheet", "live")
    tables = [
        (EMPTIED, emptied.select("item", name, reason=pl.lit(EMPTIED))),
        ("code", coded.select("item", name, "reason")),
        *(
            (verdict, items.filter(pl.col("verdict") == verdict).select(item="number", reason=pl.lit(verdict)))
            for verdict in (NEW, GONE)
        ),
        ("code", _recoded_from_nothing(items, rows)),
        ("near", _nearly_there(items, rows)),
        ("near", _nearly_gone(items, rows)),
    ]
    return pl.concat([stopping(table, source) for source, table in tables if table.height] or [empty(FINDINGS)])


def _nearly_there(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """New items whose key nearly is one of live's: `item` and the `reason`."""
    said = near_reasons(rows.matched.near)
    new = items.filter(pl.col("verdict") == "new") if said else items.clear()
    row = rows.sheet.row(new["sheet"])
    reason = row.replace_strict(said, default=None, return_dtype=pl.String) if said else row.cast(pl.String)
    return new.select(item="number", reason=reason).drop_nulls()


def _nearly_gone(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """Items that a whole sheet lacks but for a row whose key nearly is theirs: `item` and the `reason`."""
    there = pl.col("live").is_in(rows.matched.nearly.cast(pl.Int64).implode())
    gone = items.filter((pl.col("verdict") == "gone") & there)
    return gone.select(item="number", reason=pl.lit(NEAR + "a row nearly has its key"))


def _recoded_from_nothing(items: pl.DataFrame, rows: Placed) -> pl.DataFrame:
    """New items that yet have a new code beside their own, which live does not have: `item` and the `reason`."""
    new = items.filter(pl.col("verdict") == "new")
    if not new.height or NEW_CODE not in rows.sheet.fields:
        return pl.DataFrame(schema={"item": pl.Int64, "reason": pl.String})
    codes, own = (
        rows.sheet.cells[name].gather(new["sheet"]).str.strip_chars() for name in (NEW_CODE, rows.codes.field)
    )
    return new.filter((codes != "") & (codes != own)).select(item="number", reason=pl.lit(f"code: {UNKNOWN}"))


def with_flags(changes: ChangeSet, checked: pl.DataFrame) -> ChangeSet:
    """The change set with what the checks found, one by one (`flags`) and as a person is told of it."""
    if not checked.height:
        return changes
    place = changes.cells.filter(pl.col("item").is_in(checked["item"].unique().implode()))
    place = place.select("item", pl.col("field").cast(pl.String), value="after")
    table = checked.rename({"rule": "check"}).join(place, on=["item", "field"], how="left", maintain_order="left")
    flags = conform(table.with_columns(row=changes.items["sheet"].gather(table["item"])), FLAGS_SCHEMA)
    groups = flags.group_by("check", "field", "done", maintain_order=True).len()
    said = [
        FindingSummary(name, name, [] if field is None else [field], times, CHECKS[name].does, done, CHECKS[name].do)
        for name, field, done, times in groups.iter_rows()
    ]
    counts = msgspec.structs.replace(changes.header.counts, flags=flags.height)
    header = msgspec.structs.replace(changes.header, counts=counts, findings=[*changes.header.findings, *said])
    return replace(changes, header=header, flags=flags)
