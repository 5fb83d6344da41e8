"""Items of one key, and one item on several lines: folded, shared, and taken apart again in what is written."""

from __future__ import annotations

import pytest
from hypothesis import strategies as st

import neat_delta
from neat_delta import CatalogueError, Field, FileForm, Importer, Key, Store
from neat_delta.core.base.model.store import Continued
from neat_delta.core.sheets.match.continuation import merge_lines, split_lines
from neat_delta.files.updates import write_updates
from tests.conftest import in_two_lengths
from tests.oracle import catalogue

CONTINUED = Continued({"images": "|", "categories": ";"})
LIVE = """sku,name,images,categories
QA-1,Cedar hive,a.jpg,Hives
,,b.jpg,
,,c.jpg,Offers
QA-2,Smoker,,
,,,
,total,,
"""
STORE = Store(
    file=FileForm(continued=["images", "categories"]),
    key=Key(["sku"]),
    fields={
        "sku": Field("code"),
        "name": Field(),
        "images": Field("image", separator="|"),
        "categories": Field("list", separator=";"),
    },
)
STORE_FILE = """version = 1
[file]
continued = ["images", "categories"]
[key]
fields = ["sku"]
[fields.sku]
kind = "code"
[fields.name]
[fields.images]
kind = "image"
separator = "|"
[fields.categories]
kind = "list"
separator = ";"
"""


def test_lines_without_a_key_continue_the_item_above(put):
    folded = merge_lines(neat_delta.read(put("live.csv", LIVE)), ["sku"], CONTINUED)
    assert folded.cells.rows()[:2] == [
        ("QA-1", "Cedar hive", "a.jpg|b.jpg|c.jpg", "Hives;Offers"),
        ("QA-2", "Smoker", "", ""),
    ]
    assert folded.row(folded.cells.with_row_index("n")["n"]).to_list()[:2] == [2, 5]
    assert folded.notes == ("2 lines without a key continue the item above",)


def test_what_would_be_lost_is_an_error(put):
    with pytest.raises(CatalogueError, match=r'row 3: it has no key, so it continues the item above, and its "name"'):
        merge_lines(neat_delta.read(put("live.csv", "sku,name,images\nQA-1,x,a\n,y,b\n")), ["sku"], CONTINUED)
    with pytest.raises(CatalogueError, match=r'row 2: "images" has the separator'):
        merge_lines(neat_delta.read(put("live.csv", "sku,name,images\nQA-1,x,a|b\n,,c\n")), ["sku"], CONTINUED)


PARTS = st.lists(st.sampled_from(["a", "b", "c d", "é"]), max_size=4)


@in_two_lengths(st.lists(st.tuples(PARTS, PARTS), min_size=1, max_size=6), few=30, many=200)
def test_unfolded_and_folded_again_is_the_same(items):
    rows = [[f"q{n}", "x", "|".join(images), ";".join(paths)] for n, (images, paths) in enumerate(items)]
    whole = catalogue((["sku", "name", "images", "categories"], rows))
    lines = split_lines(whole.cells, CONTINUED.fields)
    assert lines.height == sum(max(len(images), len(paths), 1) for images, paths in items)
    apart = neat_delta.Catalogue(lines, "made.csv", lambda: "")
    assert merge_lines(apart, ["sku"], CONTINUED).cells.rows() == whole.cells.rows()


def test_the_whole_round_with_several_lines_an_item(run, put, tmp_path):
    put("neat-delta.toml", STORE_FILE)
    put("live.csv", LIVE)
    put("sheet.csv", "sku,images,categories\nQA-1,a.jpg|c.jpg,Offers;Hives\nQA-2,s.jpg,\n,t.jpg,Smokers\n")
    compared = run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl", "--accept", "new-value")
    assert "4 cells of 2 items to send, nothing held, 2 rows set aside, nothing lost." in compared.stdout
    written = run("write", "changes.jsonl", "--to", "out", "--importer-blanks", "skip")
    assert "the update files give exactly the target" in written.stdout
    assert (tmp_path / "out" / "update-1.csv").read_text() == (
        "sku,images,categories\nQA-1,a.jpg,Offers\n,c.jpg,Hives\nQA-2,s.jpg,Smokers\n,t.jpg,\n"
    )


SHARED = Store(key=Key(["sku"], shared="all"))


def round_(live: list[list[str]], sheet: list[list[str]], blanks: str, folder: str):
    tables = [catalogue((["sku", "price", "stock"], rows)) for rows in (live, sheet)]
    changes = neat_delta.compare(*tables, store=SHARED, blanks="clear")
    return changes, write_updates(changes, tables[0], Importer(blanks), folder)  # type: ignore[arg-type]


def test_a_change_goes_to_all_items_of_a_shared_key(tmp_path):
    live = [["a", "1", "5"], ["b", "1", "5"], ["a", "2", "5"], ["a", "9", "5"]]
    changes, manifest = round_(live, [["a", "9", "6"], ["b", "1", "5"]], "clear", str(tmp_path / "out"))
    assert [(item.key["sku"], item.row.live, item.cells) for item in changes.iter_items()] == [
        ("a", 2, {"price": ("1", "9"), "stock": ("5", "6")}),
        ("a", 4, {"price": ("2", "9"), "stock": ("5", "6")}),
        ("a", 5, {"stock": ("5", "6")}),
    ]
    assert (tmp_path / "out" / "update-1.csv").read_text() == "sku,price,stock\na,9,6\n"
    assert (tmp_path / "out" / "undo-1.csv").read_text() == "sku,stock\na,5\n"
    assert {(one.field, one.reason) for one in manifest.one_way} == {
        ("price", "items with the same key had different values before")
    }
    default = neat_delta.compare(
        *(catalogue((["sku", "price", "stock"], rows)) for rows in (live, [["a", "9", "6"], ["b", "2", "5"]]))
    )
    assert default.header.counts.set_aside_live == 3


CELLS = st.sampled_from(["", "1", "2", "3"])
TWINS = st.lists(st.tuples(st.sampled_from("abc"), CELLS, CELLS).map(list), min_size=1, max_size=7)


@in_two_lengths(
    TWINS,
    st.dictionaries(st.sampled_from("abcd"), st.tuples(CELLS, CELLS), min_size=1),
    st.sampled_from(["skip", "clear"]),
    few=6,
    many=80,
)
def test_with_shared_keys_everything_is_still_proven(tmp_path_factory, live, sheet, blanks):
    """`write_updates` replays what it wrote, and hands nothing over that does not give the target and live again."""
    rows = [[key, *cells] for key, cells in sheet.items()]
    changes, manifest = round_(live, rows, blanks, str(tmp_path_factory.mktemp("out") / "out"))
    counts = changes.header.counts
    assert counts.same + counts.changed + counts.absent + counts.set_aside_live == len(live)
    for item in changes.iter_items():
        wanted = sheet.get(item.key["sku"])
        for field, (before, after) in item.cells.items():
            assert before == (
                None if item.verdict == "new" else live[(item.row.live or 2) - 2][("price", "stock").index(field) + 1]
            )
            assert wanted is not None
            assert after == wanted[("price", "stock").index(field)]
    assert len(manifest.update) == 0 or counts.changed
