"""The code changes that a sheet or a list asks for, as cells of a change set; and the links that follow them."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace

import polars as pl

from neat_delta.core.base.model.catalogue import MARK, Catalogue
from neat_delta.core.base.model.changeset import ChangeSet, code_changes, held
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.base.model.schemas import CODE_CELLS, FINDINGS, conform, empty, stopping
from neat_delta.core.base.model.store import Field, Key
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.series import constant, filtered, gathered, not_null, scattered, true_places
from neat_delta.core.sheets.match.keys import KeyIndex, KeyText, key_text, stripped
from neat_delta.core.sheets.match.rows import match_places
from neat_delta.core.sheets.rekey.moves import (
    BOTH,
    FOLLOWS,
    NEW_HAS,
    Move,
    blocked_moves,
    chains,
    codes_in,
    follow,
    links,
)

__all__ = [
    "CodeChanges",
    "code_cells",
    "moves_in_list",
    "moves_in_sheet",
    "waiting_codes",
    "with_followed_links",
    "with_sheet_codes",
]


@dataclass(frozen=True, slots=True)
class CodeChanges:
    """The code changes that are asked for, one for each key, and why some of them cannot be, by the number of the move:
    the place in live of the first item that has the key.
    """

    field: str
    moves: list[Move]
    why: dict[int, str]

    @property
    def going(self) -> list[Move]:
        """Those that can be."""
        return [move for move in self.moves if move.item not in self.why]

    @property
    def codes(self) -> dict[str, str]:
        """The old codes and the new ones, of those that can be."""
        return {old: new for move in self.going for old, new in zip(move.old, move.new, strict=True) if old != new}


def moves_in_sheet(live: Catalogue, sheet: Catalogue, pairs: pl.DataFrame, key: Key, field: str) -> CodeChanges:
    """What stands beside the codes of a sheet that has a column for new ones; `pairs` are the places of the items."""
    if NEW_CODE not in sheet.fields:
        return CodeChanges(field, [], {})
    new = sheet.at(NEW_CODE, pairs["sheet"]).str.strip_chars()
    return _checked(live, pairs["live"], new, key, field)


def moves_in_list(live: Catalogue, codes: Catalogue, key: Key, field: str) -> CodeChanges:
    """What a list of old and new codes says. CatalogueError for a row of which live has no item, or several."""
    pairs = match_places(live, codes, key)
    named = true_places(codes.column(NEW_CODE).str.strip_chars() != "")
    lost = named.filter(~named.is_in(pairs["sheet"].cast(named.dtype).implode()))
    if lost.len():
        old = " / ".join(codes.select(key.fields).row(lost[0]))
        raise CatalogueError(
            f'{codes.path}, row {codes.row(lost)[0]:,}: "{old}" is the code of no item of {live.path}, or of several, '
            "or the list has it twice. Correct the list; `neat-delta recode` shows all that is wrong with it."
        )
    return _checked(live, pairs["live"], codes.at(NEW_CODE, pairs["sheet"]).str.strip_chars(), key, field)


def _checked(live: Catalogue, places: pl.Series, new: pl.Series, key: Key, field: str) -> CodeChanges:
    """The moves of these items to these codes, where there is one; and which of them cannot be."""
    now = live.at(field, places).str.strip_chars()
    asking = true_places((new != "") & (new != now))
    places, new = gathered(places, asking).cast(pl.Int64), gathered(new, asking)
    olds = gathered(stripped(live, key), places)
    news = olds.with_columns(new.alias(field))
    moves: dict[KeyText, Move] = {}
    for place, old, wanted in zip(places, olds.rows(), news.rows(), strict=True):
        moves.setdefault(old, Move(place, old, wanted))
    return CodeChanges(field, list(moves.values()), _blocked(list(moves.values()), live, key))


def _blocked(moves: Sequence[Move], live: Catalogue, key: Key, arriving: Collection[KeyText] = ()) -> dict[int, str]:
    """Which moves cannot be, and why. Where case means nothing, qa-1 is taken where there is QA-1; but an item may
    change its own case.
    """
    same = [Move(move.item, key_text(move.old, key), key_text(move.new, key)) for move in moves]
    existing = KeyIndex.of(live, key).existing([move.new for move in same])
    return blocked_moves(same, existing, {key_text(code, key) for code in arriving})


def with_sheet_codes(live: Catalogue, sheet: Catalogue, asked: CodeChanges, key: Key) -> tuple[Catalogue, CodeChanges]:
    """Live under the codes by which the sheet knows its items, where a list says the new ones.

    A chain of code changes has its new codes in the sheet if the code at its end is there, which live does not have; a
    circle has them always. A sheet that has the code at a chain's beginning, too, says two things at once: then it is
    held.
    """
    codes = [code for move in asked.going for code in (move.old, move.new)]
    existing = KeyIndex.of(sheet, key).existing(codes)
    why = dict(asked.why)
    after: dict[tuple[str, ...], tuple[str, ...]] = {}
    for chain, circle in chains(asked.going):
        if not circle and chain[-1].new not in existing:
            continue
        if not circle and chain[0].old in existing:
            why |= dict.fromkeys([move.item for move in chain], BOTH)
            continue
        after |= {move.old: move.new for move in chain}
    if not after:
        return live, replace(asked, why=why)
    olds = pl.DataFrame(list(after), schema=dict.fromkeys(key.fields, pl.String), orient="row")
    place = key.fields.index(asked.field)
    olds = olds.with_columns(pl.Series(NEW_CODE, [new[place] for new in after.values()], dtype=pl.String))
    keys = stripped(live, key)
    new_codes = keys.join(olds, on=key.fields, how="left", maintain_order="left")[NEW_CODE]
    column = new_codes.zip_with(new_codes.is_not_null(), live.column(asked.field))
    return replace(live, table=live.cells.with_columns(column.alias(asked.field))), replace(asked, why=why)


def code_cells(
    live: Catalogue,
    asked: CodeChanges,
    arriving: Collection[KeyText],
    fields: Mapping[str, Field],
    key: Key,
) -> tuple[pl.DataFrame, dict[str, str]]:
    """The cells by which codes change, and those of all links that follow them: `place`, `field`, `before`, `after`,
    `reason` (why it cannot be, or null); and the old and new codes that links follow: those that no item keeps (in
    another language, say). A code that a new item of the sheet has (`arriving`) cannot be given.
    """
    coming = {key_text(code, key) for code in arriving}
    why = asked.why | {move.item: NEW_HAS for move in asked.going if key_text(move.new, key) in coming}
    why |= _blocked([move for move in asked.moves if move.item not in why], live, key)
    asked = replace(asked, why=why)
    if not asked.moves:
        return empty(CODE_CELLS), {}
    part = key.fields.index(asked.field)
    after, reason, place = (MARK + name for name in ("after", "reason", "place"))  # a key may have fields called so
    rows = [(*move.old, move.new[part], why.get(move.item)) for move in asked.moves]
    table = pl.DataFrame(rows, schema=dict.fromkeys([*key.fields, after, reason], pl.String), orient="row")
    keys = stripped(live, key).with_row_index(place)
    met = keys.join(table, on=key.fields, how="inner", maintain_order="left")
    codes = pl.DataFrame(
        {
            "place": met[place].cast(pl.Int64),
            "field": constant(asked.field, met.height),
            "before": live.at(asked.field, met[place]),
            "after": met[after],
            "reason": met[reason],
        },
        schema=dict(CODE_CELLS),
    )
    names = [name for name, field in fields.items() if field.refers and name in live.fields and name not in key.fields]
    leaves = met.filter(pl.col(reason).is_null())[place]
    named = keys.filter(pl.col(asked.field).is_in(list(asked.codes)))
    keeps = set(named.filter(~pl.col(place).is_in(leaves.implode()))[asked.field])
    free = {old: new for old, new in asked.codes.items() if old not in keeps}
    return pl.concat([codes, conform(links(live.cells, fields, free, names), CODE_CELLS)]), free


def with_followed_links(cells: pl.DataFrame, fields: Mapping[str, Field], codes: Mapping[str, str]) -> pl.Series:
    """What these cells (`field`, `after`) of a sheet become, where they name old codes that no item has any more."""
    given = set(codes.values())
    freed = {old: new for old, new in codes.items() if old not in given}
    hit = codes_in(cells.with_row_index("at"), fields, freed.keys())
    texts = [follow(text, fields[name], freed) for name, text in hit[["field", "after"]].iter_rows()]
    return scattered(cells["after"], hit["at"], pl.Series(texts, dtype=pl.String))


def waiting_codes(changes: ChangeSet, live: Catalogue) -> pl.DataFrame:
    """The code changes that wait for one that is held, and the links to a code that does not come: findings."""
    header = changes.header
    if not header.counts.recoded:
        return empty(FINDINGS)
    cells = changes.cells.with_row_index("number").with_columns(pl.col("field").cast(pl.String))
    asked = code_changes(cells, header.key)
    if not asked.height:
        return empty(FINDINGS)
    kept = gathered(held(changes.items, changes.cells), asked["number"])
    keys = stripped(changes.keys, header.compared_by).rows()
    moves = []
    for item, field, after in asked[["item", "field", "after"]].iter_rows():
        place = header.key.index(field)
        old = keys[item]
        moves.append(Move(item, old, (*old[:place], after, *old[place + 1 :])))
    existing = KeyIndex.of(live, header.compared_by).existing([move.new for move in moves])
    going = list({move.old: move for move, stays in zip(moves, kept, strict=True) if not stays}.values())
    why = _blocked(going, live, header.compared_by)
    after = {move.old: why.get(move.item) for move in going}
    waits = [(number, after.get(move.old)) for number, move in zip(asked["number"], moves, strict=True)]
    waits = [wait for wait in waits if wait[1] is not None]
    lost = {new for move in moves if after.get(move.old, "held") is not None and move.new not in existing
            for old, new in zip(move.old, move.new, strict=True) if old != new}  # fmt: skip
    waits += [(number, FOLLOWS) for number in codes_in(cells, header.settings, lost)["number"]]
    reasons = pl.DataFrame(waits, schema={"number": pl.UInt32, "reason": pl.String}, orient="row")
    held_codes = cells[["number", "item", "field", "held"]].join(
        reasons, on="number", how="inner", maintain_order="left"
    )
    held_codes = filtered(held_codes, ~not_null(held_codes["held"]))
    return stopping(held_codes, "follows", "code")
