"""The laws that Neat Delta never breaks, on drawn catalogues, edits and importers."""

from __future__ import annotations

import random
from collections import defaultdict
from collections.abc import Iterable
from dataclasses import replace
from pathlib import Path
from typing import Literal, get_args
from unittest import mock

import msgspec
import polars as pl
import pytest
from hypothesis import Phase
from hypothesis import strategies as st

import neat_delta
from neat_delta import Accept, CatalogueError, Importer, Key, Layout, ProofError, Store
from neat_delta.core.base.model.importer import SPARSE, CodeChange, FormName, Removal
from neat_delta.core.base.model.update import ITEM, Action
from neat_delta.files.changelines import change_lines
from neat_delta.files.changeset import read_changes
from neat_delta.files.writers.forms import FORMS, UpdateLayout
from tests.conftest import in_two_lengths
from tests.oracle import (
    WHITE,
    Rows,
    Table,
    catalogue,
    code_lists,
    expected,
    filled,
    imported,
    many_rounds,
    rounds,
)

BLANKS = st.sampled_from(["hold", "clear", "keep"])
IMPORTERS: st.SearchStrategy[Literal["skip", "clear"]] = st.sampled_from(["skip", "clear"])
DIALECTS = st.builds(
    Layout,
    separator=st.sampled_from(",;\t|"),
    line_end=st.sampled_from(["LF", "CRLF"]),
    bom=st.booleans(),
    quote_all=st.booleans(),
    encoding=st.sampled_from(["utf-8", "utf-16-le"]),
    escape=st.sampled_from(["", "\\"]),
    header_line=st.just(1),
    quote=st.just('"'),
)

TEXTS = Store(key=Key(["sku"]))
"""A store of which nothing is known but its key: every field is text."""

ANY = [Accept("damage"), Accept("slip")]
"""The laws are about what is compared; what drawn texts look like is let through."""


def compared(
    live: Table,
    sheet: Table,
    blanks: Literal["hold", "clear", "keep"],
    with_new: bool,
    with_gone: bool = False,
    *,
    whole: bool = True,
    codes: Table | None = None,
) -> neat_delta.ChangeSet | None:
    """The change set, or None where nothing can be matched at all."""
    try:
        return neat_delta.compare(
            catalogue(live),
            catalogue(sheet),
            store=TEXTS,
            blanks=blanks,
            with_new=with_new,
            with_gone=with_gone,
            whole=whole,
            accept=ANY,
            codes=catalogue(codes, "codes.csv") if codes and codes[1] else None,
        )
    except CatalogueError:
        for headings, rows in (live, sheet):
            keys = [row[headings.index("sku")].strip(WHITE) for row in rows]
            if rows and not any(key and keys.count(key) == 1 for key in keys):
                return None
        raise


@in_two_lengths(rounds(), BLANKS, st.booleans(), st.booleans(), few=12, many=150)
def test_compare_finds_what_the_rules_say(round_, blanks, with_new, whole):
    """And law 5: every row is counted once. Items that a sheet lacks are left alone, unless it is whole."""
    live, sheet = round_
    changes = compared(live, sheet, blanks, with_new, whole=whole)
    if changes is None:
        return
    wanted = expected(live, sheet, blanks, with_new)
    absent = [key for key, (verdict, _, _) in wanted.items.items() if verdict == "gone" and not whole]
    for key in absent:
        del wanted.items[key]
    found = {
        item.key["sku"].strip(WHITE): (item.verdict, item.cells, {(held.field, held.reason) for held in item.held})
        for item in changes.iter_items()
    }
    assert found == wanted.items
    counts = changes.header.counts
    assert (counts.same, counts.set_aside_live, counts.set_aside_sheet) == (
        wanted.same,
        wanted.aside["live"],
        wanted.aside["sheet"],
    )
    assert counts.absent == len(absent)
    assert counts.same + counts.changed + counts.gone + counts.absent + counts.set_aside_live == len(live[1])
    assert counts.same + counts.changed + counts.new + counts.set_aside_sheet == len(sheet[1])
    assert counts.cells == sum(len(cells) for _, cells, _ in wanted.items.values())
    listed = [(row.file, row.row) for row in changes.header.set_aside]
    assert len(set(listed)) == len(listed) == counts.set_aside_live + counts.set_aside_sheet
    for item in changes.iter_items():
        for name, row in (("live", item.row.live), ("sheet", item.row.sheet)):
            headings, rows = live if name == "live" else sheet
            assert row is None or rows[row - 2][headings.index("sku")].strip(WHITE) == item.key["sku"].strip(WHITE)


FORM_NAMES: list[FormName] = [*get_args(FormName), "delimited", "delimited", "delimited", "delimited"]


@st.composite
def importers(draw: st.DrawFn, fields: list[str]) -> Importer:
    """An importer with rules of its own."""
    blanks = draw(IMPORTERS)
    form: FormName = draw(st.sampled_from(FORM_NAMES))
    how: Literal["never", "row", "flag"] = draw(
        st.sampled_from(["never", "row", *([] if form in SPARSE else ["flag"])])
    )
    others = [field for field in fields if field != "sku"]
    some = st.lists(st.sampled_from(others), max_size=1) if draw(st.booleans()) else st.just([])
    return Importer(
        blanks=blanks,
        empties=draw(st.sampled_from([None, "!none!", "a"])) if blanks == "skip" else None,
        takes=draw(st.sampled_from(["both", "both", "both", "updates", "additions"])),
        carries=draw(some),
        needs=draw(some),
        defaults=dict.fromkeys(draw(some), "0"),
        removal=Removal(how, "leaves", "1") if how == "flag" else Removal(how),
        form=form,
        code_change=CodeChange(
            draw(st.sampled_from(["row", "row", *(["replace"] if how != "never" or "patch" in form else []), "never"]))
        ),
    )


def through_files(
    tables: Iterable[neat_delta.Table], importer: Importer, layout: Layout, folder: Path
) -> list[tuple[Action, pl.DataFrame]]:
    """The tables, written and read back."""
    form = FORMS[importer.form]
    found = []
    for table in tables:
        shape = UpdateLayout(layout, ["sku"], table.action, "made")
        made = folder / f"made{form.ending(layout)}"
        made.write_bytes(form.write(table.cells, shape))
        found.append((table.action, form.read(made, shape)))
    return found


def said(frame: pl.DataFrame) -> Rows:
    return frame.to_dicts()


def the_target(changes, live, planned, importer):
    """What live is to become by the change set and by what the importer refuses; the items added and removed, and the
    rows of those. And law 6, held, never lost: each item and cell is sent, or held by compare, or by this importer.
    """
    at = live[0].index("sku")
    anew = importer.form == "merge patch" or (importer.form != "json patch" and importer.code_change.how == "replace")
    refused = {(item, field) for item, field, _ in planned.held.iter_rows()}
    sent: dict[int, set[str]] = defaultdict(set)
    for item, field, *_ in planned.sent.iter_rows():
        sent[item].add(field)
    wanted: Table = (list(live[0]), [list(row) for row in live[1]])
    by_key = {row[at]: row for row in wanted[1]}
    added, removed, returned, rows = [], [], [], {}
    for number, item in enumerate(changes.iter_items()):
        whole = {None} & {one.field for one in item.held} or (number, None) in refused
        held = {field for field in item.cells if whole or field in {one.field for one in item.held}}
        held |= {field for field in item.cells if (number, field) in refused}
        assert {field for field in item.cells if field not in held} == sent[number]
        row = by_key.get(item.key["sku"])
        rows[number] = row
        if item.verdict == "gone" and not whole:
            assert row is not None
            wanted[1].remove(row)
            removed.append(number)
            returned.append(row)
        elif "sku" in item.cells and "sku" not in held and anew:
            assert row is not None
            wanted[1].remove(row)
            removed.append(number)
            returned.append(list(row))
            added.append((number, row))
        elif item.verdict == "new" and not whole:
            row = [item.key.get(field, "") for field in live[0]]
            for field, text in importer.defaults.items():
                row[live[0].index(field)] = text
            added.append((number, row))
        for field, (_, after) in item.cells.items():
            if row is not None and field not in held:
                row[live[0].index(field)] = after or ""
    wanted[1].extend(row for _, row in added)
    return wanted, added, removed, returned, rows


@in_two_lengths(rounds(), BLANKS, st.booleans(), st.booleans(), st.data(), DIALECTS, st.integers(1, 8), few=6, many=100)
def test_importing_the_files_gives_the_target_and_the_undo_gives_live(
    tmp_path, round_, blanks, with_new, with_gone, data, dialect, most_files
):
    """Laws 1 to 4 and 6, through the bytes of the files, against an importer written a second time."""
    live, sheet = round_
    changes = compared(live, sheet, blanks, with_new, with_gone, codes=data.draw(code_lists(live)))
    if changes is not None:
        importer = data.draw(importers(live[0]))
        hold_the_laws(
            changes, live, importer, dialect, most_files, tmp_path, lambda places: data.draw(st.sampled_from(places))
        )


TOGETHER = 100


@in_two_lengths(
    st.data(),
    BLANKS,
    st.booleans(),
    st.booleans(),
    DIALECTS,
    st.integers(1, 8),
    st.randoms(use_true_random=False),
    few=4,
    many=50,
    phases=[Phase.explicit, Phase.generate],
)
def test_the_same_of_many_rounds_at_once(tmp_path, data, blanks, with_new, with_gone, dialect, most_files, rng):
    """In the campaign 5,000 of them."""
    live, sheet, codes = many_rounds(random.Random(rng.getrandbits(64)), TOGETHER)
    changes = compared(live, sheet, blanks, with_new, with_gone, codes=codes)
    if changes is not None:
        importer = data.draw(importers(live[0]))
        hold_the_laws(changes, live, importer, dialect, most_files, tmp_path, rng.choice)


def hold_the_laws(changes, live, importer, dialect, most_files, folder, pick):
    """Ask the laws of one change set; `pick` chooses what is left out to see whether it is missed."""
    form = FORMS[importer.form]
    planned = neat_delta.plan(
        changes,
        catalogue(live),
        importer,
        most_files=most_files,
        file_cost=0,
        fits=lambda texts: form.hold(texts, dialect),
    )
    update, undo = (through_files(tables, importer, dialect, folder) for tables in (planned.update, planned.undo))
    at = live[0].index("sku")

    wanted, added, removed, returned, rows = the_target(changes, live, planned, importer)
    assert sorted(planned.removed) == sorted(removed)
    assert sorted(planned.added[ITEM]) == sorted(number for number, _ in added)
    anew = set(removed) & {number for number, _ in added}
    in_order = sorted if anew else list  # made anew, an item stands at the end

    # Proven and complete: the target, with no other cell touched. Minimal: what changes nothing is counted as such.
    store, needless = live, 0
    for action, frame in update:
        before = {row[at]: dict(zip(live[0], row, strict=True)) for row in store[1]}
        for cells in said(frame) if action == "change" else ():
            for field, text in cells.items():
                silent = text is None or (
                    importer.form not in SPARSE and importer.blanks == "skip" and not filled(text)
                )
                if field != "sku" and not silent:
                    needless += before[cells["sku"] or ""][field] == ("" if text == importer.empties else text)
        store = imported(store, said(frame), importer, action)
    assert in_order(store[1]) == in_order(wanted[1])
    assert needless == sum(table.required + table.carried for table in planned.update if table.action == "change")
    assert sum(table.changed for table in planned.update if table.action == "change") == sum(
        field != "sku" for field in planned.set["field"]
    )
    changing = [table for table in planned.update if table.action == "change"]
    if all(form.hold(texts, dialect).all() for texts in catalogue(live).cells):  # what cannot be held is not carried
        recodes = any(table.action == "recode" for table in planned.update)  # whose items go before, by themselves
        held = {*changes.cells.filter(changes.cells["held"].is_not_null())["field"].cast(pl.String)}  # nor what is held
        asked = held & {name for table in changing for name in table.cells.columns}
        assert len(changing) <= max(most_files, 1 + recodes) + (1 + recodes) * len(asked)
    if len(changing) < most_files or importer.blanks == "skip" or importer.form in SPARSE:
        assert sum(table.carried for table in changing) == 0

    # Reversible, but for what is listed as one way.
    for action, frame in undo:
        store = imported(store, said(frame), importer, action)
    stays = {(item, field) for item, field, _ in planned.one_way.iter_rows()}
    keys = changes.keys["sku"].to_list()
    back = [list(row) for row in live[1] if row[at] not in {keys[number] for number in removed}]
    for number, field in stays:
        row = next((row for row in back if row[at] == keys[number]), None)
        if field is not None and row is not None:
            row[live[0].index(field)] = rows[number][live[0].index(field)]
    back += [row for number, row in added if (number, None) in stays]
    back += [row for number, row in zip(removed, returned, strict=True) if (number, None) not in stays]
    assert in_order(store[1]) == in_order(back)
    neat_delta.prove(catalogue(live), changes, planned, update, undo, importer)

    nothing_could_be_left_out(
        changes, live, planned, importer, undo, lambda less: through_files(less, importer, dialect, folder), pick
    )


def nothing_could_be_left_out(changes, live, planned, importer, undo, written, pick):
    """Without one of its changes, the files miss the target."""
    places = [
        (number, row, field)
        for number, table in enumerate(planned.update)
        for row, cells in enumerate(said(table.cells))
        for field, text in cells.items()
        if field not in {"sku", "leaves"} and filled(text or "") and table.required + table.carried == 0
    ]
    if places:
        number, row, field = pick(places)
        less = list(planned.update)
        column = pl.when(pl.int_range(pl.len()) == row).then(None).otherwise(field).alias(field)
        less[number] = replace(less[number], cells=less[number].cells.with_columns(column))
        with pytest.raises(ProofError):
            neat_delta.prove(catalogue(live), changes, planned, written(less), undo, importer)


@in_two_lengths(rounds(), BLANKS, st.booleans(), IMPORTERS, st.data(), few=8, many=100)
def test_the_proof_fails_for_files_that_do_anything_else(round_, blanks, with_new, importer_blanks, data):
    live, sheet = round_
    changes = compared(live, sheet, blanks, with_new)
    if changes is None:
        return
    importer = Importer(importer_blanks)
    planned = neat_delta.plan(changes, catalogue(live), importer)
    tables = [(table.action, table.cells.select(pl.all().fill_null(""))) for table in planned.update]
    if not tables:
        return
    spoiled = data.draw(st.integers(0, len(tables) - 1))
    action, table = tables[spoiled]
    row = data.draw(st.integers(0, table.height - 1))
    field = data.draw(st.sampled_from(table.columns))
    text = data.draw(st.sampled_from(["spoiled", "7"]))
    if table[field][row] == text or (field == "sku" and table[field][row] not in live[1]):
        text += "!"
    tables[spoiled] = (
        action,
        table.with_columns(pl.when(pl.int_range(pl.len()) == row).then(pl.lit(text)).otherwise(field).alias(field)),
    )
    undo = [(table.action, table.cells) for table in planned.undo]
    with pytest.raises(ProofError):
        neat_delta.prove(catalogue(live), changes, planned, tables, undo, importer)


@in_two_lengths(rounds(), BLANKS, st.booleans(), few=8, many=100)
def test_a_change_set_read_back_is_the_same(tmp_path, round_, blanks, with_new):
    """And law 9: the same bytes again."""
    live, sheet = round_
    changes = compared(live, sheet, blanks, with_new)
    if changes is None:
        return
    content = b"".join(change_lines(changes))
    (tmp_path / "changes.jsonl").write_bytes(content)
    items = msgspec.json.Encoder().encode_lines(list(changes.iter_items()))
    assert content.split(b"\n", 1)[1].startswith(items)
    assert content.count(b"\n") == 2 + changes.items.height + changes.damaged.height + changes.flags.height
    for many in (20_000, 0):  # item by item, and what is plain column by column
        with mock.patch("neat_delta.core.base.support.sizes.ITEMS_READ_BY_COLUMN", many):
            again = read_changes(str(tmp_path / "changes.jsonl"))
        assert again.header == changes.header
        assert list(again.iter_items()) == list(changes.iter_items())
        assert b"".join(change_lines(again)) == content
