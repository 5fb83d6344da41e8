"""Every setting of a comparison, asked for at each of its doors: as an option, as a keyword of the library, in a
mapping file and in the store file. And the errors of settings that are none.
"""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from importlib import import_module
from pathlib import Path
from typing import Any

import click
import pytest

import neat_delta
from neat_delta import CompareRequest, ListMapping, SettingError, Store
from neat_delta.app import requests
from neat_delta.app.requests import with_defaults
from neat_delta.app.settings import Request, request_of, settings_of
from neat_delta.cli.main import VERBS
from neat_delta.core.base.model.accept import Accept
from neat_delta.core.base.model.store import Sheets
from neat_delta.core.compare.decide.policy import Policy
from tests.conftest import each_of

LIVE = """sku,ean,name,price,stock,tags,photo
QA-1,0111,Hive,10.00,5,a;b,one.jpg
QA-2,0222,Frame,20.00,6,a,two.jpg
QA-3,0333,Wax,30.00,7,b,two.jpg
QA-4,0444,Jar,40.00,8,b,one.jpg
QA-5,0555,Veil,50.00,9,a,one.jpg
"""
BASE = LIVE.replace("10.00", "9.00").replace("Hive,9.00,5", "Hive,9.00,4")
SHEET = """sku,ean,name,price,stock,tags,photo
QA-1,0111,,10.50,6,a;c,one.jpg
QA-2,222,Frame,20,6,a,two.jpg
qa-3,0333,Wax,31.00,7,b,two.jpg
QA-4,0444,Jar,40.00,8,b,three.jpg
QA-9,0999,Smoker,90.00,1,a,one.jpg
"""
STORE = """version = 1
[key]
fields = ["sku"]
[fields]
ean = { kind = "code" }
price = { kind = "money", decimals = 2 }
stock = { kind = "integer" }
tags = { kind = "list", separator = ";" }
photo = { kind = "image" }
brand = { kind = "text", unseen = true }
"""
LIST = "version = 1\n"
RULES = 'version = 1\n[[rule]]\nname = "rate"\nset = { price = "ROUND(price * :rate, 2)" }\n'


@dataclass(frozen=True)
class Case:
    """A setting: the words of its option, its value in a call; what is said besides (`words`, `more`); what a mapping
    file and a store file say for it (None: it has no place there); the sheet and whether there is a base.
    """

    option: list[str]
    value: Any
    words: list[str] = field(default_factory=list)
    more: dict[str, Any] = field(default_factory=dict)
    mapping: str | None = None
    store: str | None = None
    sheet: str = SHEET
    base: bool = False


TWICE = "sku,price\nQA-1,11.00\nQA-1,12.00\n"
CASES = {
    "key": Case(["--key", "ean"], ["ean"]),
    "only": Case(["--only", "price,stock"], ["price", "stock"]),
    "ignore": Case(["--ignore", "price"], "price"),
    "map": Case(["--map", "Preis=price"], {"Preis": "price"}, sheet="sku,Preis\nQA-1,11.00\n"),
    "exact": Case(["--exact", "price"], ["price"]),
    "whole": Case(["--whole"], True, mapping="whole = true\n", store="[sheets]\nwhole = true\n"),
    "add_field": Case(["--add-field", "size"], "size", sheet="sku,size\nQA-1,large\n"),
    "images": Case(["--images", "pics"], "pics"),
    "accept": Case(["--accept", "damage:ean"], ["damage:ean"], mapping='accept = ["damage:ean"]\n'),
    "blanks": Case(
        ["--blanks", "clear"], "clear", mapping='blanks = "clear"\n', store='[sheets]\nblanks = "clear"\n'
    ),
    "clash": Case(["--clash", "sheet"], {"": "sheet"}, store='[sheets]\nclash = "sheet"\n', base=True),
    "repair": Case(["--repair"], True, mapping="repair = true\n"),
    "with_new": Case(["--with-new"], True, mapping="with_new = true\n", store="[sheets]\nwith_new = true\n"),
    "with_gone": Case(["--with-gone"], True, ["--whole"], {"whole": True}),
    "with_new_values": Case(["--with-new-values", "tags"], ["tags"], mapping='with_new_values = ["tags"]\n'),
    "accept_near_keys": Case(["--accept-near-keys"], True, mapping="accept_near_keys = true\n"),
    "match_by": Case(
        ["--match-by", "ean"], ["ean"], mapping='match_by = ["ean"]\n', sheet="ean,sku,price\n0111,QA-7,11.00\n"
    ),
    "constant": Case(
        ["--constant", "brand=Tarn"], {"brand": "Tarn"}, mapping='[constants]\nbrand = "Tarn"\n',
        sheet="sku,price\nQA-1,11.00\n",
    ),
    "prefer": Case(["--prefer", "last"], "last", mapping='prefer = "last"\n', sheet=TWICE),
    "let": Case(["--let", "rate=2"], {"rate": 2}, ["--rules", "rules.toml"], {"rules": "rules.toml"}),
}  # fmt: skip
SINGLE = {  # the same in one field, where both files have a place of their own for that
    "blanks": Case(
        ["--blanks", "clear:name"], ["clear:name"], mapping='[fields.name]\nblanks = "clear"\n',
        store='name = { blanks = "clear" }\n',
    ),
    "clash": Case(
        ["--clash", "stock=add"], {"stock": "add"},
        store=STORE.replace('stock = { kind = "integer" }', 'stock = { kind = "integer", clash = "add" }'), base=True,
    ),
}  # fmt: skip
ALL = [(name, case) for cases in (CASES, SINGLE) for name, case in cases.items()]


@pytest.fixture
def there(put, tmp_path, monkeypatch):
    monkeypatch.chdir(tmp_path)
    (tmp_path / "pics").mkdir()
    (tmp_path / "pics" / "one.jpg").touch()
    for name, text in {"live.csv": LIVE, "base.csv": BASE, "neat-delta.toml": STORE, "rules.toml": RULES}.items():
        put(name, text)
    return put


def changed(path: str) -> list[Any]:
    """All of a change set but what its inputs were called and what they said of the settings."""
    header, *items, _seal = (json.loads(line) for line in Path(path).read_text().splitlines())
    return [*(header[one] for one in ("counts", "pairs", "set_aside", "findings")), *items]


def by_options(run: Any, case: Case, *words: str) -> list[Any]:
    base = ["--base", "base.csv"] if case.base else []
    done = run("compare", "live.csv", "sheet.csv", "-o", "by-options.jsonl", *base, *words)
    if done.returncode == 2:
        return [done.stderr]
    return changed("by-options.jsonl")


@pytest.mark.parametrize(
    ("name", "case"),
    each_of(
        6,
        (
            pytest.param(name, case, id=f"{name}{'' if n < len(CASES) else '-in-one-field'}")
            for n, (name, case) in enumerate(ALL)
        ),
    ),
)
def test_a_setting_is_the_same_at_every_door(run, there, name, case):
    there("sheet.csv", case.sheet)
    wanted = by_options(run, case, *case.option, *case.words)
    assert len(wanted) > 4, wanted
    if name != "let":  # without which a rule means nothing
        assert wanted != by_options(run, case, *case.words)

    def by_call(**said: Any) -> list[Any]:
        base: dict[str, Any] = {"base": "base.csv"} if case.base else {}
        changes = neat_delta.compare("live.csv", "sheet.csv", store="neat-delta.toml", **base, **said)
        neat_delta.write_changes(changes, "by-call.jsonl")
        return changed("by-call.jsonl")

    assert by_call(**{name: case.value}, **case.more) == wanted
    beside = {one: value for one, value in case.more.items() if one in settings_of(CompareRequest)}
    asked = request_of(CompareRequest, {name: case.value} | beside)
    inputs = {one: value for one, value in case.more.items() if one not in beside}
    assert by_call(request=asked, **inputs) == wanted
    if case.mapping is not None:
        there("list.toml", LIST)
        plain = by_options(run, case, "--mapping", "list.toml", *case.option)
        there("list.toml", LIST + case.mapping)
        assert by_options(run, case, "--mapping", "list.toml") == plain == by_call(mapping="list.toml")
    if case.store is not None:
        there("neat-delta.toml", case.store if "version" in case.store else STORE + case.store)
        assert by_options(run, case) == wanted == by_call()


def test_every_setting_is_in_the_table_above():
    assert CASES.keys() == settings_of(CompareRequest).keys()


REQUESTS = {
    verb: getattr(requests, f"{verb.title()}Request") for verb in VERBS if hasattr(requests, f"{verb.title()}Request")
}


def test_the_options_of_a_verb_are_the_settings_of_its_request():
    """One name for both; and no verb has an option of a setting's name that says something else."""
    assert {*REQUESTS} == {"learn", "sheet", "check", "match", "compare", "edit", "recode", "preview", "write"}
    for verb, request in REQUESTS.items():
        command = getattr(import_module(f"neat_delta.cli.{verb}"), verb)
        options = {one.name: one for one in command.params if isinstance(one, click.Option)}
        for name, one in settings_of(request).items():
            assert options[name].opts == ["--" + name.replace("_", "-")]
            assert options[name].is_flag == (one.metavar is None) and options[name].multiple == one.form.repeated


@pytest.mark.parametrize(
    ("said", "setting", "what"),
    [
        ({"acept": "slip"}, "acept", 'there is no such setting. Did you mean "accept"?'),
        ({"accept": ["emptyed"]}, "accept", 'Did you mean "emptied"?'),
        ({"accept": "slip:"}, "accept", "'slip:' is not damage"),
        ({"blanks": "cleer"}, "blanks", "'cleer' is not hold, clear or keep"),
        ({"blanks": {"price": "cleer"}}, "blanks", "'cleer:price' is not hold"),
        ({"clash": "add"}, "clash", "'add' is not hold, sheet or live, or one of these or add for one field"),
        ({"constant": "brand"}, "constant", "'brand' is not FIELD=TEXT"),
        ({"key": 5}, "key", "5 is nothing that can be said there: The field an item is known by"),
        ({"only": "price,,stock"}, "only", "name fields with commas between them"),
        ({"with_new": "yes"}, "with_new", "'yes' is neither True nor False"),
        ({"prefer": 5}, "prefer", "5 is no text"),
        ({"exact": ["price", 5]}, "exact", "5 is no name"),
        ({"with_gone": True}, "with_gone", "say ‹whole›, too"),
        ({"let": {"rate": "2"}}, "let", "this goes with ‹rules›"),
    ],
)
def test_a_setting_that_cannot_be_is_an_error_by_its_name(said, setting, what):
    live = {"sku": ["QA-1"], "price": ["9.90"]}
    with pytest.raises(SettingError) as refusal:
        neat_delta.compare(live, live, **said)
    assert refusal.value.setting == setting and what in refusal.value.what
    assert str(refusal.value) == f"‹{setting}›: {refusal.value.what}"


@pytest.mark.parametrize(
    ("make", "values", "said"),
    [
        (neat_delta.Importer, {"blanks": "skipp"}, "‹blanks›: 'skipp' is none of: skip, clear. Did you mean \"skip\"?"),
        (neat_delta.Importer, {"form": "exel"}, "‹form›: 'exel' is none of: delimited, xlsx"),
        (neat_delta.Field, {"kind": "monye"}, 'Did you mean "money"?'),
        (neat_delta.Field, {"same": "txet"}, "‹same›: 'txet' is none of: value, text."),
        (ListMapping, {"take": "bth"}, "‹take›: 'bth' is none of: matched, new, both."),
        (neat_delta.Key, {"shared": "al"}, "‹shared›: 'al' is none of: error, all."),
        (Policy, {"blanks": "cleer"}, "‹blanks›: 'cleer' is none of: hold, clear, keep."),
        (Policy, {"accept": [Accept("emptyed")]}, 'Did you mean "emptied"?'),
    ],
)
def test_a_word_that_is_none_is_an_error_where_it_is_said(make, values, said):
    with pytest.raises(SettingError) as refusal:
        make(**values)
    assert said in str(refusal.value)


@pytest.mark.parametrize(
    ("words", "message"),
    [
        (("compare", "live.csv", "sheet.csv", "--accept", "emptyed"), '--accept: \'emptyed\' is not'),
        (("preview", "c.jsonl", "--sort", "siez"), 'none of: file, key, name, size. Did you mean "size"?'),
        (("preview", "c.jsonl", "--level", "off"), "none of: stop, warn, note"),
        (("write", "c.jsonl", "--to", "out", "--most-files", "0"), "'0' is no whole number from 1 on"),
        (("write", "c.jsonl", "--to", "out", "--importer-blanks", "skipp"), 'Did you mean "skip"?'),
        (("edit", "live.csv", "--set", "price"), "'price' is not FIELD = EXPRESSION"),
        (("edit", "live.csv", "--set", "price=1", "--set", "price=2"), '"price" is set twice'),
        (("help", "comparre"), 'There is no help on "comparre". Did you mean "compare"?'),
    ],
)  # fmt: skip
def test_an_option_that_cannot_be_is_an_error_of_that_option(run, there, words, message):
    there("sheet.csv", SHEET)
    done = run(*words)
    assert done.returncode == 2 and message in done.stderr and len(done.stderr.splitlines()) <= 2


def test_what_is_said_now_goes_over_the_list_and_that_over_the_store():
    store = Store(
        sheets=Sheets(blanks="hold", clash="live"),
        fields={"name": neat_delta.Field(blanks="keep"), "price": neat_delta.Field("money", clash="add")},
    )
    mapping = ListMapping(fields={"cost": neat_delta.ListField(blanks="clear")}, accept=["slip"])
    fields = ["name", "cost", "price"]
    asked = request_of(CompareRequest, {"accept": "damage"})
    settled = with_defaults(asked, mapping, store, fields)
    assert settled.blanks == {"": "hold", "name": "keep", "cost": "clear"}
    assert settled.clash == {"": "live", "price": "add"}
    assert settled.accept == (Accept("slip"), Accept("damage"))
    every = request_of(CompareRequest, {"blanks": "clear"})
    assert with_defaults(every, mapping, store, fields).blanks == {"": "clear"}
    assert with_defaults(CompareRequest(), None, store, ["cost"]).blanks == {"": "hold"}


def test_help_on_files_says_what_each_layout_option_does(run):
    said = run("help", "files").stdout
    for name in ("encoding", "separator", "quote", "header-line", "sheet-name", "date-form"):
        assert f"--{name} " in said
    short = run("compare", "--help").stdout
    assert "neat-delta help files" in short and "such as utf-8" not in short.lower()
    assert short.index("What is let through:") < short.index("Items and fields:") < short.index("How the files look:")
    assert run("help", "compare").stdout.splitlines()[1:] == short.splitlines()[1:]


def test_a_request_is_one_value_that_can_be_kept_and_used_again():
    asked = request_of(CompareRequest, {"accept": ["slip:price"], "blanks": "keep", "only": "price"})
    assert asked == CompareRequest(accept=asked.accept, blanks=asked.blanks, only=asked.only)
    assert isinstance(asked, Request) and asked.over(CompareRequest()) == asked
