"""The store file: learned from live, read with errors that say where, found from any folder, as its schema says."""

from __future__ import annotations

import gzip
import json
import tomllib
from pathlib import Path

import jsonschema
import polars as pl
import pytest
from hypothesis import strategies as st

import neat_delta
from neat_delta import Field, Key, Notation, Store, StoreError, read_store
from neat_delta.core.base.infer.columns import of_column
from neat_delta.core.base.kinds import KINDS
from neat_delta.core.base.model.conflicts import conflicting_settings
from neat_delta.files.draft import draft
from neat_delta.files.schemas import schema, table_schema
from tests.conftest import in_two_lengths
from tests.oracle import catalogue

DOCS = Path(__file__).parents[1] / "docs"

LEARNED = {
    "sku": ("code", "418 of 418 are letters and digits in one word"),
    "parent_sku": ("code", "193 of 193 are letters and digits in one word, blank in 225"),
    "name": ("text", "160 different texts in 418 cells"),
    "brand": ("choice", "5 different values in 418 cells"),
    "category": ("path", "162 of 418 have levels"),
    "price": ("money", "418 of 418 are decimals with 2 places"),
    "sale_price": ("money", "46 of 46 are decimals with 2 places, blank in 372"),
    "stock": ("integer", "418 of 418 are whole numbers"),
    "weight_kg": ("decimal", "418 of 418 are decimals with 3 places"),
    "size": ("text", "24 different texts in 418 cells"),
    "barcode": ("code", "137 of 418 have a leading zero"),
    "images": ("image", "418 of 418 are images, 271 with several"),
    "tags": ("list", "274 of 418 have several values, 8 different in all"),
    "supplier_code": ("code", "52 of 418 have a leading zero"),
    "created": ("date", "418 of 418 are dates, YYYY-MM-DD"),
}


def test_the_demo_store_is_learned_with_the_evidence(run, store):
    done = run("learn", "live.csv", "-o", "store.toml", "--table-schema", "schema.json")
    assert (done.returncode, done.stderr) == (0, "")
    assert "418 of 418 are decimals with 2 places" in done.stdout
    text = (store / "store.toml").read_text()
    found = tomllib.loads(text)
    for name, (kind, evidence) in LEARNED.items():
        assert found["fields"][name]["kind"] == kind, name
        assert f"[fields.{name}] # {evidence}" in text
    assert found["file"] == {"format": "delimited", "encoding": "utf-8", "separator": ",", "line_end": "LF"}
    assert found["key"] == {"fields": ["sku"], "name": "name"}
    assert found["fields"]["sku"]["unique"] and found["fields"]["price"]["decimals"] == 2
    assert found["fields"]["tax_class"]["values"] == ["clothing", "food", "standard"]
    descriptor = json.loads((store / "schema.json").read_text())
    assert descriptor["primaryKey"] == ["sku"]
    assert {field["name"]: field["type"] for field in descriptor["fields"]}["created"] == "date"
    assert run("learn", "live.csv", "-o", "store.toml").returncode == 0  # it is just this draft
    (store / "store.toml").write_text(text + "# read through\n")
    again = run("learn", "live.csv", "-o", "store.toml")
    assert again.returncode == 2
    assert (
        "store.toml: there is a file of that name. It may be somebody's work; --replace overwrites it" in again.stderr
    )
    assert run("learn", "live.csv").stdout == text


def test_the_draft_says_of_live_nothing_but_itself(run, store):
    """Under its own draft, the demo's sheet gives what it gives without one; live never differs from itself."""
    run("learn", "live.csv", "-o", "neat-delta.toml")
    own = run("compare", "live.csv", "live.csv")
    assert (own.returncode, "store  neat-delta.toml" in own.stdout) == (0, True)
    call = ("compare", "live.csv", "sheet.csv", "--json", "--accept", "new-value")
    told = json.loads(run(*call).stdout)["header"]["counts"]
    (store / "neat-delta.toml").unlink()
    without = json.loads(run(*call).stdout)["header"]["counts"]
    assert told == without


def learned(texts: list[str], name: str = "field") -> tuple[str, Field]:
    rows = [[f"k{n}", text] for n, text in enumerate(texts)]
    field = neat_delta.learn(catalogue((["sku", name], rows))).store.fields[name]
    return field.kind, field


KINDS_OF = {
    "leading zeros": (["00417", "12", "7"], "code"),
    "13 digits": (["2900096541266", "5"], "code"),
    "letters and digits": (["A-1", "B2", "7x"], "code"),
    "whole numbers": (["0", "12", "-7", ""], "integer"),
    "decimals in several lengths": (["1.5", "2", "0.125"], "text"),
    "decimals": (["1.50", "32.00", "0.25"], "decimal"),
    "days and months": (["03.11", "24.12"], "text"),
    "customs codes": (["0409.00", "0409.90"], "text"),
    "thousands or decimals": (["12.990", "3.990"], "text"),
    "three decimals": (["12.990", "0.250"], "decimal"),
    "as many digits in all": (["75338", "10115"], "text"),
    "versions": (["1.1", "1.10", "2.0"], "text"),
    "capitals and a number": (["RAL 9010", "RAL 7016"], "text"),
    "two currencies": (["19.90 EUR", "5.00 USD"], "text"),
    "comma prices": (["90,90", "12,50", "8,00"], "decimal"),
    "with currency": (["€ 1.50", "€ 2.00"], "money"),
    "yes and no": (["yes", "no", "yes"], "flag"),
    "one and zero": (["1", "0", "1"], "integer"),
    "only yes": (["yes", "yes"], "text"),
    "only true": (["true", "true"], "flag"),
    "dates": (["2026-05-12", "2025-01-01"], "date"),
    "dates that can be read in two ways": (["01/02/2026", "03/04/2026"], "text"),
    "dates that can be read in one": (["01/02/2026", "13/04/2026"], "date"),
    "almost all numbers": (["1.5", "2.5", "on request"], "text"),
    "measures": (["250 ml", "1.5 l"], "measure"),
    "json": (['{"a": 1}', "[]"], "json"),
    "links": (["https://example.org/a", "http://example.org/b"], "link"),
    "images": (["a.jpg", "img/b.png|img/c.png"], "image"),
    "paths": (["Hives > Parts", "Hives > Floors", "Hives > Parts", "Hives"], "path"),
    "tags": (["a|b", "b|a", "b|c", "c|b", "a"], "list"),
    "names with a comma": ([f"{a}, {b}" for a in ("Hive", "Frame") for b in ("8 frames", "10 frames", "long")], "text"),
    "sentences": (["Well made. Packed flat.", "Light, warm."], "text"),
    "blank": (["", " "], "text"),
}


@pytest.mark.parametrize(
    "heading, texts, kind",
    [
        ("weight", ["1.5", "2", "0.125"], "decimal"),
        ("Version", ["1.50", "32.00"], "text"),
        ("price", ["12.05", "3.11"], "money"),
        ("price", ["12.990", "3.990"], "text"),
        ("stock", ["1200", "1500"], "integer"),
        ("postcode", ["120", "75338"], "text"),
        ("feeder", ["1", "2"], "integer"),
        ("price", ["0409.00", "12.00"], "text"),
    ],
)
def test_a_heading_says_what_numbers_are_but_not_against_them(heading, texts, kind):
    assert learned(texts, heading)[0] == kind


def test_prices_that_are_whole_numbers_are_said_to_be(run, put):
    put("live.csv", "sku,price\nQA-1,12\nQA-2,5\n")
    assert "[fields.price] # 2 of 2 are whole numbers, and the heading says money" in run("learn", "live.csv").stdout


def test_a_doubtful_kind_is_drafted_as_text_with_the_better_one_in_a_comment(run, put, tmp_path):
    put(
        "live.csv",
        "sku,tariff,list price,from,price\n"
        + "".join(f"QA-{n},0409.{n},{n}.990,0{n}/04/2026,€{n}.50\n" for n in range(1, 9)),
    )
    assert run("learn", "live.csv", "-o", "neat-delta.toml").returncode == 0
    text = (tmp_path / "neat-delta.toml").read_text()
    for said in (
        'but some have zeros in front: if they are numbers, kind = "decimal"',
        "but the mark may stand before decimals, or between thousands: if they are numbers",
        'are dates, DD/MM/YYYY or MM/DD/YYYY: say which with kind = "date"',
        'kind = "money"\ndecimals = 2\ncurrency = "€#"',
    ):
        assert said in text, text
    assert text.count('kind = "text"') == 3


@pytest.mark.parametrize("texts, kind", KINDS_OF.values(), ids=KINDS_OF)
def test_caution_beats_cleverness(texts, kind):
    assert learned(texts)[0] == kind


@in_two_lengths(
    st.lists(
        st.sampled_from(["", "1", "0.50", "007", "1,5", "yes", "no", "2026-01-02", "3 kg", "a|b", "b|a", "x > y"]),
        min_size=1,
        max_size=30,
    ),
    few=60,
    many=300,
)
def test_what_is_learned_reads_every_cell_it_was_learned_from(texts):
    rows = [[f"k{n}", text] for n, text in enumerate(texts)]
    live = catalogue((["sku", "field"], rows))
    found = neat_delta.learn(live).store
    field = found.fields["field"]
    filled = live.cells["field"].filter(live.cells["field"] != "")
    assert not KINDS[field.kind].read(filled, field, found.writing).has_nulls()
    assert field.kind != "integer" or not any(text.startswith("00") for text in texts)


def test_decimal_commas_and_thousands_are_learned():
    rows = [["a", "1.234,50", "01.02.2026"], ["b", "19,90", "28.02.2026"]]
    found = neat_delta.learn(catalogue((["sku", "Preis", "Datum"], rows))).store
    assert found.writing == Notation(",", ".", "DD.MM.YYYY")
    assert found.fields["Preis"].kind == "money"


WRONG = {
    "not toml": ("version = 1\n[file\n", "line 2: it is not TOML here"),
    "no version": ("[key]\n", "it does not say its version, and this Neat Delta reads version 1"),
    "another version": ("version = 2\n", "line 1, version: it is of version 2"),
    "unknown table": ("version = 1\n[feilds.a]\n", 'line 2, feilds: there is no such key. Did you mean "fields"?'),
    "unknown key": (
        'version = 1\n\n[fields.price]\nkind = "money"\ndecimls = 2\n',
        'line 5, fields.price.decimls: there is no such key. Did you mean "decimals"?',
    ),
    "unknown kind": (
        'version = 1\n[fields."Sale price"]\nkind = "mony"\n',
        'line 3, fields."Sale price".kind: "mony" is none of: text, code,',
    ),
    "wrong type": (
        'version = 1\n[fields.price]\nkind = "money"\ndecimals = "two"\n',
        "line 4, fields.price.decimals: it must be a whole number, and is text in quotes",
    ),
    "out of range": ("version = 1\n[fields.price]\ndecimals = 99\n", "line 3, fields.price.decimals: "),
    "not a table": ("version = 1\nfields = 3\n", "line 2, fields: it must be a table"),
    "setting of another kind": (
        'version = 1\n[fields.a]\nkind = "text"\ndecimals = 2\n',
        "line 4, fields.a.decimals: it means nothing to the kind text; it is for decimal and money",
    ),
    "list without separator": ('version = 1\n[fields.a]\nkind = "list"\n', "line 3, fields.a.kind: a list needs its"),
    "marks": (
        'version = 1\n[writing]\ndecimal_mark = ","\nthousands_mark = ","\n',
        "line 4, writing.thousands_mark: it is the same as the decimal mark",
    ),
    "date form": (
        'version = 1\n[writing]\ndate_form = "DD.MM"\n',
        "line 3, writing.date_form: a date form has YYYY, MM",
    ),
    "a number without end": (
        'version = 1\n[fields.a]\nkind = "money"\nleast = 1e999999999\n',
        "line 4, fields.a.least: it has more than 24 digits or 12 decimals, as no amount has",
    ),
    "a share without end": (
        "version = 1\nlargest_round = 1e999999999\n",
        "line 2, largest_round: it has more than 24 digits",
    ),
    "carried without a heading": (
        'version = 1\n[importer]\nblanks = "skip"\ncarries = ["b"]\nheadings = ["a"]\n[key]\nfields = ["a"]\n'
        "[fields.a]\n[fields.b]\n",
        'line 4, importer.carries: "b" is not among the headings, so no file can have it',
    ),
    "marks in every row": (
        'version = 1\n[importer]\nlists = "marked"\nmissing = "deleted"\n[fields.a]\nkind = "list"\nseparator = ","\n',
        'line 4, importer.missing: a file has every item, and a blank would clear "a" of those that keep it',
    ),
    "marks under fixed headings": (
        'version = 1\n[importer]\nlists = "marked"\nheadings = ["a"]\n[fields.a]\nkind = "list"\nseparator = ","\n',
        'line 4, importer.headings: "a": every row must have it, and it is never sent unless it changes',
    ),
    "differences in every row": (
        'version = 1\n[importer]\nadjusted = ["a"]\nmissing = "deleted"\n[fields.a]\nkind = "integer"\n',
        'line 4, importer.missing: a file has every item, and a blank would clear "a"',
    ),
    "a mark for a patch": (
        'version = 1\n[importer]\nblanks = "skip"\nempties = "x"\nform = "merge patch"\n',
        "line 4, importer.empties: a patch says by itself that a field is emptied, so it needs no mark",
    ),
    "name of no field": (
        'version = 1\n[key]\nname = "title"\n[fields.a]\n',
        'line 3, key.name: there is no field "title"',
    ),
    "heading twice": (
        'version = 1\n[fields.a]\nalso = ["Trade"]\n[fields.b]\nalso = ["Trade"]\n',
        'line 5, fields.b.also: the heading "Trade" already belongs to the field "a"',
    ),
    "yes is no": (
        'version = 1\n[fields.a]\nkind = "flag"\nyes = ["x"]\nno = ["X"]\n',
        'line 4, fields.a.yes: "x" cannot mean both',
    ),
    "separator": ('version = 1\n[file]\nseparator = ";;"\n', "line 3, file.separator: it must be one plain character"),
    "a separator that is a quote": (
        'version = 1\n[importer]\nseparator = "\\""\n',
        "line 3, importer.separator: it must be one plain character",
    ),
    "a separator that no file can have": (
        'version = 1\n[file]\nseparator = "\\u0000"\n',
        "line 3, file.separator: it must be one plain character",
    ),
    "a list's separator that no file can have": (
        'version = 1\n[fields.a]\nkind = "list"\nseparator = "\\u0000"\n',
        "line 4, fields.a.separator: it has a character in it that no file can have",
    ),
    **{
        f"a mark for lists, {mark!r}": (
            f'version = 1\n[importer]\nlists = "marked"\nadds = "{mark}"\n[fields.a]\nkind = "list"\nseparator = "|"\n',
            f"line 4, importer.adds: {said}",
        )
        for mark, said in {
            "|": "it is not to be told from",
            "+|": "it is not to be told from",
            "+ ": "it begins or ends with a blank",
            "--": "it begins as takes_away does",
            "-": "it is the same as takes_away",
        }.items()
    },
    "a mark that begins as the other": (
        'version = 1\n[importer]\nlists = "marked"\ntakes_away = "+-"\n',
        "line 4, importer.takes_away: it begins as adds does",
    ),
    "a mark of blanks": (
        'version = 1\n[importer]\nblanks = "skip"\nempties = "  "\n',
        "line 4, importer.empties: it is blank, and the importer skips blanks",
    ),
    "a default that is the mark": (
        'version = 1\n[importer]\nblanks = "skip"\nempties = "-"\ndefaults = { a = "-" }\n',
        "importer.defaults.a: it is the mark that empties a field",
    ),
    "a default of the key": (
        'version = 1\n[key]\nfields = ["a"]\n[importer.defaults]\na = "x"\n',
        "line 5, importer.defaults.a: it is of the key",
    ),
    "a flag of blanks": (
        'version = 1\n[importer.removal]\nhow = "flag"\nheading = "drop"\nvalue = " "\n',
        "line 5, importer.removal.value: it is blank, and a blank cell removes nothing",
    ),
    "a removal by the mark": (
        'version = 1\n[importer]\nblanks = "skip"\nempties = "-"\n[importer.removal]\nhow = "value"\nheading = "a"\n'
        'value = "-"\n',
        "line 8, importer.removal.value: it is the mark that empties a field",
    ),
    "a removal on a locked field": (
        'version = 1\n[importer.removal]\nhow = "value"\nheading = "a"\nvalue = "x"\n[fields.a]\nlocked = true\n',
        'line 4, importer.removal.heading: "a" is locked',
    ),
    "a removal on a field that is told as a difference": (
        'version = 1\n[importer]\nadjusted = ["a"]\n[importer.removal]\nhow = "value"\nheading = "a"\nvalue = "0"\n'
        '[fields.a]\nkind = "integer"\n',
        'line 6, importer.removal.heading: "a" is told as a difference',
    ),
    "a removal on the key": (
        'version = 1\n[key]\nfields = ["a"]\n[importer.removal]\nhow = "value"\nheading = "a"\nvalue = "0"\n'
        "[fields.a]\n",
        'line 6, importer.removal.heading: "a" is of the key',
    ),
    "a column that is called like a flag": (
        'version = 1\n[importer.columns]\ndrop = { text = "x" }\n[importer.removal]\nhow = "flag"\nheading = "drop"\n'
        'value = "1"\n',
        'line 6, importer.removal.heading: "drop" is what another column is called',
    ),
    "a column that is called like what a field is called": (
        'version = 1\n[importer.with_adjusted]\nPreis = "x"\n[fields.price]\nheading = "Preis"\n',
        'line 3, importer.with_adjusted.Preis: "Preis" is what another column is called',
    ),
    "a column that is called like a new code": (
        'version = 1\n[importer.columns]\nnewer = { text = "x" }\n'
        '[importer.code_change]\nhow = "row"\nheading = "newer"\n',
        'line 6, importer.code_change.heading: "newer" is what another column is called',
    ),
    "a heading that is blank": (
        'version = 1\n[importer.called]\na = " "\n[fields.a]\n',
        "line 3, importer.called.a: a heading is not blank",
    ),
    "an expression that means nothing": (
        'version = 1\n[importer.columns]\nleast = { expression = "ROUND(" }\n',
        "line 3, importer.columns.least: its expression means nothing",
    ),
    "an expression of no field": (
        'version = 1\n[importer.columns]\nleast = { expression = "cots + 1" }\n[fields.cost]\nkind = "money"\n',
        'line 3, importer.columns.least: its expression reads "cots", which is no field. Did you mean "cost"?',
    ),
    "continued": (
        'version = 1\n[file]\ncontinued = ["a"]\n[fields.a]\n',
        'line 3, file.continued: the field "a" needs a',
    ),
}


@pytest.mark.parametrize("text, message", WRONG.values(), ids=WRONG)
def test_what_is_wrong_is_said_with_its_line(run, store, put, text, message):
    put("store.toml", text)
    done = run("compare", "live.csv", "sheet.csv", "--store", "store.toml")
    assert (done.returncode, done.stdout) == (2, "")
    assert done.stderr.startswith("Error: store.toml")
    assert done.stderr.count("\n") == 1
    assert message in done.stderr


def test_it_is_found_from_any_folder_below_and_by_the_environment(run, store, monkeypatch):
    (store / "neat-delta.toml").write_text('version = 1\n[key]\nfields = ["barcode"]\n')
    (store / "other.toml").write_text('version = 1\n[key]\nfields = ["supplier_code"]\n')
    assert "key    barcode" in run("compare", "live.csv", "live.csv").stdout
    assert "key    supplier_code" in run("compare", "live.csv", "live.csv", NEAT_DELTA_STORE="other.toml").stdout
    told = run("compare", "live.csv", "live.csv", "--store", "neat-delta.toml", NEAT_DELTA_STORE="other.toml")
    assert "key    barcode" in told.stdout
    (store / "below").mkdir()
    monkeypatch.chdir(store / "below")
    from neat_delta.files.storefile import find_store

    assert find_store(None) == str(store / "neat-delta.toml")
    assert run("compare", "live.csv", "live.csv", "--store", "none.toml").returncode == 2


def test_fields_may_have_names_of_their_own(run, put, tmp_path):
    """The change set speaks of fields, the files of headings; update files bear live's."""
    put(
        "neat-delta.toml",
        'version = 1\n[key]\nfields = ["sku"]\n[fields.sku]\nheading = "Art.-Nr."\nkind = "code"\n'
        '[fields.price]\nheading = "Preis"\nkind = "money"\ndecimals = 2\nalso = ["VK"]\n[importer]\nblanks = "skip"\n',
    )
    put("live.csv", "Art.-Nr.;Preis;Preis alt\n1;10,00;\n2;1,50;x\n")
    put("sheet.csv", "VK;SKU;\n11;1;note\n1.5;2;\n")
    done = run("compare", "live.csv", "sheet.csv", "-o", "changes.jsonl", "--decimal-mark", ".")
    assert (done.returncode, done.stderr) == (0, "")
    assert "1 cell of 1 item to send, nothing held, nothing lost." in done.stdout
    text = (tmp_path / "changes.jsonl").read_text()
    assert '"cells":{"price":["10,00","11,00"]}' in text
    written = run("write", "changes.jsonl", "--to", "out", "--json")
    assert json.loads(written.stdout)["manifest"]["importer"] == {"blanks": "skip"}
    assert (tmp_path / "out" / "update-1.csv").read_text() == "Art.-Nr.;Preis\n1;11,00\n"
    assert "11,00" in run("preview", "changes.jsonl").stdout


def test_the_json_schema_agrees_with_the_code(store, run):
    published = json.loads((DOCS / "store-file.schema.json").read_text())
    assert published == schema()
    jsonschema.Draft202012Validator.check_schema(published)
    validator = jsonschema.Draft202012Validator(published)
    run("learn", "live.csv", "-o", "store.toml")
    validator.validate(tomllib.loads((store / "store.toml").read_text()))
    demo = Path(neat_delta.__file__).parent / "demo" / "neat-delta.toml"
    validator.validate(tomllib.loads(demo.read_text()))  # with relations, levels and exact decimals
    for text, message in WRONG.values():
        if "there is no such key" in message or "is none of" in message or "must be" in message.partition(": ")[2][:8]:
            assert not validator.is_valid(tomllib.loads(text))


def test_the_reference_names_every_key():
    text = (DOCS / "store-file.md").read_text()
    for struct in (neat_delta.FileForm, Notation, Key, Field, neat_delta.Importer):
        for name in struct.__struct_fields__:
            assert f"`{name}`" in text, name
    for kind in KINDS:
        assert f"`{kind}`" in text


FIELDS = st.builds(
    Field,
    kind=st.sampled_from(["text", "code", "integer"]),
    also=st.lists(st.text(max_size=4), max_size=1).map(lambda names: [f"also {n}" for n in names]),
    required=st.booleans(),
)


@in_two_lengths(
    st.dictionaries(
        st.text(st.characters(codec="utf-8", exclude_categories=["Cc", "Cs"]), min_size=1, max_size=6),
        FIELDS,
        max_size=4,
    ),
    few=30,
    many=150,
)
def test_a_draft_is_read_back_as_it_was_meant(tmp_path_factory, fields):
    fields = {"sku": Field("code")} | {name: field for name, field in fields.items() if name != "sku"}
    also = [name for field in fields.values() for name in field.also]
    if len({*also, *fields}) != len(also) + len(fields):
        return
    meant = Store(key=Key(["sku"]), fields=fields, writing=Notation(",", "."))
    live = catalogue((list(fields), [["x"] * len(fields)]))
    text = draft(neat_delta.Learned(meant, dict.fromkeys(fields, "as drawn")), live)
    path = tmp_path_factory.mktemp("store") / "store.toml"
    path.write_text(text)
    assert read_store(str(path)) == meant
    assert table_schema(meant)["primaryKey"] == ["sku"]


def test_a_missing_store_file_is_one_clear_error():
    with pytest.raises(neat_delta.FileError, match="there is no such file"):
        read_store("nowhere.toml")
    with pytest.raises(StoreError, match="it is not UTF-8"):
        read_store(str(Path(__file__).parent / "data" / "locked.xlsx"))


def test_one_store_file_has_every_setting_and_all_of_them_work_together(run, put, tmp_path):
    """The catalogue is packed, quoted otherwise, has a title above its headings, decimal commas and folded lines."""
    source = (Path(__file__).parent / "data" / "every-setting.toml").read_text()
    told, shapes = tomllib.loads(source), schema()["$defs"]
    said = {
        "Store": set(told),
        "Standing": set().union(*told["exceptions"]),
        "Field": set().union(*told["fields"].values()),
    }
    said |= {"FileForm": set(told["file"]), "Notation": set(told["writing"]), "Key": set(told["key"])}
    said |= {"Sheets": set(told["sheets"]), "StoreName": set(told["store"])}
    said |= {
        "Importer": set(told["importer"]),
        "Relations": set(told["relations"]),
        "ResultsForm": set(told["results"]),
    }
    said |= {"Delivery": set(told["delivery"]), "KeptRounds": set(told["ledger"])}
    said |= {"OutputColumn": set().union(*told["importer"]["columns"].values())}
    said |= {"Removal": set(told["importer"]["removal"]), "CodeChange": set(told["importer"]["code_change"])}
    assert said == {name: set(shape["properties"]) for name, shape in shapes.items() if "properties" in shape}
    put("neat-delta.toml", source)
    headings = "sku;parent;Bezeichnung;price;cost;sale;floor;ceiling;from;to;shown;stock;tags;category;colour;barcode"
    items = [
        "QA-1;;Hive;1.019,90;500,00;;;;2026-05-01;2026-05-31;shown;3;a;Hives > Deep;red;40170725",
        ";;;;;;;;;;;;b;;;",
        "QA-2;QA-1;Lid;20,00;19,00;;;;;;hidden;0;;Hives > Deep;blue;",
    ]

    def packed(*lines: str) -> bytes:
        quoted = [";".join(f"'{cell}'" for cell in line.split(";")) for line in ("Quillfern", headings, *lines)]
        return gzip.compress("".join(line + "\r\n" for line in quoted).encode("cp1252"), mtime=0)

    put("live.csv.gz", packed(*items))
    assert run("check", "live.csv.gz").returncode == 0  # the exception covers the lid's margin
    edited = [
        items[0].replace("1.019,90", "1.120,00").replace(";3;", ";4;"),
        ";;;;;;;;;;;;c;;;",
        items[2].replace("QA-2", "qa-2").replace("Lid", ""),
    ]
    put("sheet.csv.gz", packed(*edited))
    done = run(
        "compare", "live.csv.gz", "sheet.csv.gz", "-o", "c.jsonl", "--blanks", "clear", "--json", "--quote", "sheet='"
    )
    assert (done.returncode, done.stderr) == (1, "")
    records = [json.loads(line) for line in (tmp_path / "c.jsonl").read_text().splitlines()[1:]]
    cells = {item["key"]["sku"]: item["cells"] for item in records if "verdict" in item}
    assert cells == {
        "QA-1": {"price": ["1.019,90", "1.120,00"], "stock": ["3", "4"], "tags": ["a|b", "a|c"]},
        "QA-2": {"title": ["Lid", ""]},
    }
    held = [(item["key"]["sku"], one) for item in records for one in item.get("held", [])]
    assert held == [
        ("QA-1", {"field": "stock", "reason": "check: locked"}),
        ("QA-1", {"field": "tags", "reason": "check: new-value"}),
        ("QA-2", {"field": "title", "reason": "check: required"}),
    ]
    assert run("write", "c.jsonl", "--to", "out").returncode == 1
    sent = (tmp_path / "out" / "update-1.csv").read_bytes().decode()
    headings = "sku,category,Preis,stock,Bezeichnung,tags,rule_name,least,stock reason,delete,new number"
    assert sent == f"{headings}\nQA-1,Hives > Deep,'1.120,00',,,,standard,'550,00',,,\n"


@pytest.mark.parametrize(
    ("text", "line", "said"),
    [
        ('[[exceptions]]\nwhich = "QA-1"', 2, "exceptions.0: it does not say its check."),
        ('[[exceptions]]\ncheck = "margin"', 2, "exceptions.0: it does not say its reason."),
        ('largest_round = "5"', 2, "largest_round: it must be a number, and is text in quotes."),
        ('[fields.price]\nkind = "money"\nleast = "2"', 4, "fields.price.least: it must be a number"),
        ('[importer.removal]\nheading = "x"', 2, "importer.removal: flag and value need a heading and a value"),
        ('[importer.removal]\nhow = "row"\nheading = "x"', 2, "and how is row."),
        ('[importer.code_change]\nheading = "y"', 2, "importer.code_change: how is never"),
        ('[importer.removal]\nhow = "row"\n[importer.code_change]\nhow = "replace"\nheading = "y"', 6, "is made anew"),
        ('[importer]\ndefaults = { nam = "A" }', 3, 'there is no field "nam", here or in live. Did you mean "name"?'),
        ('[importer]\ncarries = ["pric"]', 3, 'there is no field "pric", here or in live. Did you mean "price"?'),
        (
            '[importer]\nblanks = "skip"\nheadings = ["sku"]\n[importer.columns]\nrule = { text = "a" }',
            4,
            'importer.headings: the column "rule" is not among them, and a file has no others.',
        ),
        (
            '[importer]\nblanks = "skip"\nheadings = ["sku"]\n'
            '[importer.removal]\nhow = "flag"\nheading = "gone"\nvalue = "1"',
            4,
            'importer.headings: the heading of a removal "gone" is not among them',
        ),
        ('[importer]\nheadings = ["sku", "prise"]', 3, 'there is no field "prise", here or in live.'),
        ('[importer.called]\nprise = "Price"', 3, 'importer.called.prise: there is no field "prise"'),
        ('[importer.columns.c]\nexpression = "prise + 1"', 2, 'reads "prise", which is no field. Did you'),
        ('[fields.price]\nkind = "money"\n[importer]\nneeds = ["nam"]', 5, 'Did you mean "name"?'),
    ],
)  # fmt: skip
def test_what_a_store_file_lacks_or_names_wrongly_is_a_line(put, run, text, line, said):
    put("live.csv", "sku,name,price\nQA-1,Hive,2.00\n")
    put("neat-delta.toml", f"version = 1\n{text}\n")
    done = run("compare", "live.csv", "live.csv")
    assert done.returncode == 2 and done.stderr.startswith(f"Error: neat-delta.toml, line {line}, "), done.stderr
    assert said in done.stderr


def test_fields_of_live_need_not_be_declared_beside_others(put, run):
    put("live.csv", "sku,name,price\nQA-1,Hive,2.00\n")
    put("sheet.csv", "sku,name,price\nQA-1,Hive,3.00\n")
    text = (
        '[fields.price]\nkind = "money"\n[importer]\nneeds = ["name"]\ncarries = ["name"]\n[relations]\nprice = "price"'
    )
    put("neat-delta.toml", f"version = 1\n{text}\n")
    assert run("compare", "live.csv", "sheet.csv", "-o", "c.jsonl").returncode == 0
    assert run("write", "c.jsonl", "--to", "out").returncode == 0


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ('[[rule]]\nset = { price = "1" }', "line 2, rule.0: it does not say its name."),
        ('[[rule]]\nname = "x"', "line 2, rule.0: it does not say its set."),
        ('[table.m]\nby = { a = "b" }', "line 2, table.m: it does not say its file."),
        ('[table.m]\nfile = "x.csv"', "line 2, table.m: it does not say its by."),
    ],
)
def test_what_a_rules_file_lacks_is_a_line(put, run, text, said):
    put("live.csv", "sku,name,price\nQA-1,Hive,2.00\n")
    put("r.toml", f"version = 1\n{text}\n")
    done = run("edit", "live.csv", "--rules", "r.toml")
    assert done.returncode == 2 and done.stderr == f"Error: r.toml, {said}\n"


@pytest.mark.parametrize(
    ("importer", "held"),
    [
        ("", False),
        ('encoding = "cp1252"', True),
        ('encoding = "cp1250"', False),
        ('encoding = "cp1252"\nform = "json"', False),
    ],
)
def test_a_letter_that_the_update_files_cannot_have_is_held_by_compare(put, run, importer, held):
    put("live.csv", "sku,name\nQA-1,Miód\nQA-2,Hive\n")
    put("sheet.csv", "sku,name\nQA-1,Miód\nQA-2,Łąka\n")
    put("neat-delta.toml", f"version = 1\n[fields.name]\n[importer]\n{importer}\n")
    done = run("compare", "live.csv", "sheet.csv")
    assert (done.returncode == 1) == held == ("unwritable" in done.stdout), done.stdout + done.stderr


def test_a_price_is_what_its_heading_calls_one():
    """Whatever else is more than the cost on every row, and stands before it."""
    rows = {"sku": ["A", "B", "C"], "weight": ["30.50", "80.25", "12.75"], "cost": ["3.00", "8.00", "1.00"],
            "price": ["5.00", "9.00", "2.00"]}  # fmt: skip
    assert neat_delta.learn(neat_delta.as_catalogue(rows)).store.relations.price == "price"


def test_a_setting_of_one_kind_says_which():
    (conflict,) = conflicting_settings(Store(fields={"tags": Field("text", ordered=True)}))
    assert conflict.what == "it means nothing to the kind text; it is for list"


def test_two_decimals_under_a_heading_that_says_nothing_may_be_days():
    """A day and a month on every row are no numbers; amounts of which some are no day are."""
    days = [f"{1 + n % 28}.{1 + n % 12:02}" for n in range(40)]
    rows = {"sku": [f"QA-{n}" for n in range(40)], "foo": days, "bar": [f"{30 + n}.{13 + n}" for n in range(40)]}
    fields = neat_delta.learn(neat_delta.as_catalogue(rows)).store.fields
    assert "foo" not in fields or fields["foo"].kind == "text"
    assert (fields["bar"].kind, fields["bar"].decimals) == ("decimal", 2)


@pytest.mark.parametrize(("longest", "kind"), [(40, "choice"), (41, "text")])
def test_what_is_chosen_among_is_short(longest, kind):
    values = ["oak", "pine", "x" * longest] * 10
    rows = {"sku": [f"QA-{n}" for n in range(30)], "wood": values}
    fields = neat_delta.learn(neat_delta.as_catalogue(rows)).store.fields
    assert fields.get("wood", Field()).kind == kind


@pytest.mark.parametrize(("tops", "cells", "kind"), [(3, 9, "path"), (4, 9, "text"), (2, 4, "path"), (3, 4, "text")])
def test_of_paths_the_first_levels_repeat_three_times_or_there_are_two(tops, cells, kind):
    texts = [f"{'ABCD'[number % tops]} > part {number}" for number in range(cells)]
    field, _ = of_column(pl.Series("shelf", texts), Notation(), False, thorough=True)
    assert field.kind == kind
