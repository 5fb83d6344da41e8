"""The laws that Neat Delta never breaks, on drawn catalogues, edits and importers."""

from __future__ import annotations

from typing import Literal

import polars as pl
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import neat_delta
from neat_delta import Accept, CatalogueError, Importer, Key, Layout, ProofError, Store
from neat_delta.files.changeset import change_lines, read_changes
from neat_delta.files.delimited import read_text, write_delimited
from tests.oracle import WHITE, Table, catalogue, expected, filled, imported, rounds, table_of

BLANKS = st.sampled_from(["hold", "clear", "keep"])
IMPORTERS = st.sampled_from(["skip", "clear"])
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
    live: Table, sheet: Table, blanks: Literal["hold", "clear", "keep"], with_new: bool
) -> neat_delta.ChangeSet | None:
    """The change set, or None where nothing can be matched at all."""
    try:
        return neat_delta.compare(
            catalogue(live), catalogue(sheet), store=TEXTS, blanks=blanks, with_new=with_new, accept=ANY
        )
    except CatalogueError:
        for headings, rows in (live, sheet):
            keys = [row[headings.index("sku")].strip(WHITE) for row in rows]
            if rows and not any(key and keys.count(key) == 1 for key in keys):
                return None
        raise


@given(rounds(), BLANKS, st.booleans())
@settings(max_examples=400)
def test_compare_finds_what_the_rules_say(round_, blanks, with_new):
    """And law 5: every row of both inputs is counted once."""
    live, sheet = round_
    changes = compared(live, sheet, blanks, with_new)
    if changes is None:
        return
    wanted = expected(live, sheet, blanks, with_new)
    found = {
        item.key["sku"].strip(WHITE): (item.verdict, item.cells, {(held.field, held.reason) for held in item.held})
        for item in changes.each()
    }
    assert found == wanted.items
    counts = changes.header.counts
    assert (counts.same, counts.set_aside_live, counts.set_aside_sheet) == (
        wanted.same,
        wanted.aside["live"],
        wanted.aside["sheet"],
    )
    assert counts.same + counts.changed + counts.gone + counts.set_aside_live == len(live[1])
    assert counts.same + counts.changed + counts.new + counts.set_aside_sheet == len(sheet[1])
    assert counts.cells == sum(len(cells) for _, cells, _ in wanted.items.values())
    listed = [(row.file, row.row) for row in changes.header.set_aside]
    assert len(set(listed)) == len(listed) == counts.set_aside_live + counts.set_aside_sheet
    for item in changes.each():
        for name, row in (("live", item.row.live), ("sheet", item.row.sheet)):
            headings, rows = live if name == "live" else sheet
            assert row is None or rows[row - 2][headings.index("sku")].strip(WHITE) == item.key["sku"].strip(WHITE)


@given(rounds(), BLANKS, st.booleans(), IMPORTERS, DIALECTS)
@settings(max_examples=400)
def test_importing_the_files_gives_the_target_and_the_undo_gives_live(
    round_, blanks, with_new, importer_blanks, dialect
):
    """Laws 1 to 4 and 6, through the bytes of the files, against an importer written a second time."""
    live, sheet = round_
    changes = compared(live, sheet, blanks, with_new)
    if changes is None:
        return
    importer = Importer(importer_blanks)
    planned = neat_delta.plan(changes, catalogue(live), importer)
    written = {
        name: [read_text(write_delimited(table.cells, dialect), name, dialect).cells for table in tables]
        for name, tables in (("update", planned.update), ("undo", planned.undo))
    }

    # Held, never lost: each cell is sent, or held by itself, with its item, or by this importer.
    held = {(item, field) for item, field, *_ in planned.held.iter_rows()}
    sent = {(item, field) for item, field, *_ in planned.sent.iter_rows()}
    wanted: Table = (list(live[0]), [list(row) for row in live[1]])
    for number, item in enumerate(changes.each()):
        held |= {(number, field) for field in item.cells if {None, field} & {one.field for one in item.held}}
        assert {(number, field) for field in item.cells} == {one for one in held | sent if one[0] == number}
        if item.verdict == "new" and not item.held:
            wanted[1].append([item.key.get(field, "") for field in live[0]])
        for field, (_, after) in item.cells.items():
            if (number, field) in sent:
                at = next(n for n, row in enumerate(wanted[1]) if row[live[0].index("sku")] == item.key["sku"])
                wanted[1][at][live[0].index(field)] = after or ""
    assert not held & sent

    # Proven and complete: the target, with no other cell touched. Minimal: every filled cell changes something.
    store = live
    for frame in written["update"]:
        table = table_of(frame)
        before = {row[live[0].index("sku")]: row for row in store[1]}
        for row in table[1]:
            cells = dict(zip(table[0], row, strict=True))
            if cells["sku"] in before:
                for field, text in cells.items():
                    if field != "sku" and (importer_blanks == "clear" or filled(text)):
                        assert before[cells["sku"]][live[0].index(field)] != text
        store = imported(store, table, importer_blanks)
    assert store == wanted
    assert sum(table.changed for table in planned.update) == len(sent)

    # Reversible, but for what is listed as one way.
    for frame in written["undo"]:
        store = imported(store, table_of(frame), importer_blanks)
    back = [list(row) for row in live[1]]
    for number, field, _ in planned.one_way.iter_rows():
        key = changes.keys["sku"][number]
        if field is None:
            back.append(next(row for row in wanted[1] if row[live[0].index("sku")] == key))
        else:
            at = next(n for n, row in enumerate(back) if row[live[0].index("sku")] == key)
            back[at][live[0].index(field)] = wanted[1][at][live[0].index(field)]
    assert store[1] == back
    assert importer_blanks == "skip" or all(field is None for _, field, _ in planned.one_way.iter_rows())
    neat_delta.prove(catalogue(live), changes, planned, written["update"], written["undo"], importer)


@given(rounds(), BLANKS, st.booleans(), IMPORTERS, st.data())
@settings(max_examples=200)
def test_the_proof_fails_for_files_that_do_anything_else(round_, blanks, with_new, importer_blanks, data):
    live, sheet = round_
    changes = compared(live, sheet, blanks, with_new)
    if changes is None:
        return
    importer = Importer(importer_blanks)
    planned = neat_delta.plan(changes, catalogue(live), importer)
    tables = [table.cells for table in planned.update]
    if not tables:
        return
    spoiled = data.draw(st.integers(0, len(tables) - 1))
    table = tables[spoiled]
    row = data.draw(st.integers(0, table.height - 1))
    field = data.draw(st.sampled_from(table.columns))
    text = data.draw(st.sampled_from(["spoiled", "7"]))
    if table[field][row] == text or (field == "sku" and table[field][row] not in live[1]):
        text += "!"
    tables[spoiled] = table.with_columns(
        pl.when(pl.int_range(pl.len()) == row).then(pl.lit(text)).otherwise(field).alias(field)
    )
    with pytest.raises(ProofError):
        neat_delta.prove(catalogue(live), changes, planned, tables, [table.cells for table in planned.undo], importer)


@given(rounds(), BLANKS, st.booleans())
@settings(max_examples=100)
def test_a_change_set_read_back_is_the_same(tmp_path, round_, blanks, with_new):
    """And law 9: the same bytes again."""
    live, sheet = round_
    changes = compared(live, sheet, blanks, with_new)
    if changes is None:
        return
    content = b"".join(change_lines(changes))
    (tmp_path / "changes.jsonl").write_bytes(content)
    again = read_changes(str(tmp_path / "changes.jsonl"))
    assert again.header == changes.header
    assert list(again.each()) == list(changes.each())
    assert b"".join(change_lines(again)) == content
