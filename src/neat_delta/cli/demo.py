"""`neat-delta demo`: the whole round on the demo store, each command run for real and explained."""

from __future__ import annotations

import contextlib
from importlib.resources import files
from pathlib import Path

import click

from neat_delta.cli.common import make_folder

__all__ = ["demo"]

FILES = (
    *("live.csv", "sheet.csv", "fresh.csv", "supplier.csv", "codes.csv", "quotes.csv", "stock.csv", "count.csv"),
    *("neat-delta.toml", "soderbi.toml", "retail.toml", "stock.toml", "count.toml", "buffer.toml"),
)

INTRODUCTION = """\
Quillfern Apiary Supply is a made-up shop for beekeepers with 418 items. live.csv is
its catalogue as the store exported it, and neat-delta.toml says what its fields hold;
`neat-delta learn live.csv` drafted it, somebody read it through and added what no
export shows, and every command here finds it by its name. sheet.csv is the copy that
somebody edited in a spreadsheet for an afternoon: other row order, fewer columns, a
price rise for wax, an offer on clothing, stock counted, a name corrected, two new items
typed in; and a few accidents."""

STEPS = (
    (
        "What do I edit?",
        ("sheet", "live.csv", "-o", "wax.xlsx", "--where", "category = 'Wax'", "--fields", "price,cost,stock"),
        """\
A working sheet with only what is to be touched: codes are text, the key is protected,
values are checked as they are typed. Somebody edited the whole export instead, in a
spreadsheet that knows nothing of shops.""",
    ),
    (
        "What changed?",
        ("compare", "live.csv", "sheet.csv"),
        """\
Items are matched by SKU, so the order of rows and columns means nothing. Every row of
both files is accounted for. Items that the sheet lacks are left alone. What could do
harm is held until you say so: cells that were emptied, items that are new, rows that
nobody can place. And what nobody typed: the spreadsheet took costs for days and codes
for numbers, a look-up failed, the stock of the frames slid down by one row, a price has
its decimal mark in the wrong place. Checks look at the rest: a tag that the store never
had would become a new one.""",
    ),
    (
        "What is certain to be damage?",
        ("compare", "live.csv", "sheet.csv", "--repair", "--with-new-values", "tags", "-o", "changes.jsonl"),
        """\
Where only the writing was damaged, --repair puts live's own value back. The look-up
that failed, the slid column and the slipped mark stay held: only you know what was
meant. The tag "spring offer" is new to the store, as it is meant to be this time.""",
    ),
    (
        "Is it what I meant?",
        (
            *("preview", "changes.jsonl", "--sort", "size", "--by", "category"),
            *("--records", "quotes.csv", "--page", "page.html"),
        ),
        """\
First the figures: how far each field goes up and down, and what that does to margins
and stock. quotes.csv has offers that are still open: some are touched by the new costs.
Then item by item, before and after, here with the largest changes first. page.html has
all of it with charts, for the colleague who decides: open it in a browser.""",
    ),
    (
        "What do I import?",
        ("write", "changes.jsonl", "--to", "out"),
        """\
The smallest files that turn live into exactly that, and the files that take it back.
Before they are handed over, they are read back from disk and replayed on live.""",
    ),
    (
        "What would the store say to it?",
        (
            *("practice", "live.csv", "--import", "out", "--to", "rehearsal"),
            *("--refuse", "QA-1146", "--refuse", "QA-1330", "--refuse", "QA-1417", "--round", "sale_price:1"),
        ),
        """\
A rehearsal, in a small shop on this machine that imports as the store file says. On demand
something goes wrong in it, as it does in real ones: three rows are refused, and sale prices
are rounded without a word. `neat-delta practice live.csv` alone opens it in the browser.""",
    ),
    (
        "Did all of it land?",
        (
            *("confirm", "changes.jsonl", "rehearsal/after.csv", "--files", "out"),
            *("--results", "rehearsal/results.csv", "--mend", "mend.csv"),
        ),
        """\
Two witnesses: what the store says, and what its next export shows. Where they do not agree
is said first. What was refused goes into a sheet to be mended, with the store's message
beside each item.""",
    ),
    (
        "And once it is mended?",
        ("compare", "rehearsal/after.csv", "mend.csv", "--with-new-values", "tags", "-o", "mended.jsonl"),
        """\
Somebody lowered two of the sale prices in mend.csv. It is a sheet like any other, and
remembers what it was made from.""",
    ),
    (
        "Send it again",
        ("write", "mended.jsonl", "--to", "again", "--rehearse"),
        """\
--rehearse imports the files into a practice store, too, before they are handed over.""",
    ),
    (
        "The second time",
        ("practice", "rehearsal/after.csv", "--import", "again", "--to", "second"),
        """\
Now nothing goes wrong.""",
    ),
    (
        "And now?",
        (
            *("confirm", "mended.jsonl", "second/after.csv", "--files", "again"),
            *("--results", "second/results.csv"),
        ),
        """\
Done, say both witnesses.""",
    ),
    (
        "And if the store has moved on?",
        (
            *("compare", "fresh.csv", "sheet.csv", "--base", "live.csv", "--repair", "--with-new-values", "tags"),
            *("--clash", "stock=add", "-o", "tuesday.jsonl"),
        ),
        """\
Nobody imported that on Monday. On Tuesday the shop has sold, and a colleague has changed
prices: fresh.csv is the new export. With --base Neat Delta knows what sheet.csv was cut
from: what the store changed meanwhile stays, what you changed is sent. What both changed
is a clash, and is held until somebody chooses, here or in the page. Of the stock the
choice is made: --clash stock=add adds your difference to what is there now. The tags that
both of you added stay both.""",
    ),
    (
        "And what do I import then?",
        ("write", "tuesday.jsonl", "--to", "tuesday"),
        """\
The files are against Tuesday's export: not one cell of the colleague's is in them.""",
    ),
    (
        "And new codes?",
        ("recode", "live.csv", "codes.csv", "-o", "recoded.jsonl"),
        """\
codes.csv has old codes and new ones: smokers get a range of their own, two change places,
one takes the code that another leaves. The links to their parents follow. What cannot be
is held. `write` orders the steps so that they work, by way of a temporary code for those
that change places.""",
    ),
    (
        "And a supplier's list?",
        ("match", "live.csv", "supplier.csv", "--match-by", "barcode", "--save", "supplier.toml"),
        """\
supplier.csv has titles above its headings, other names for the fields, decimal commas,
semicolons and an encoding of old; some barcodes lost their leading zeros. `match` shows
which heading means which field before anything is compared, and drafts the description
of the list for the next month. A heading that live does not have is never guessed.""",
    ),
    (
        "And our prices from it?",
        (
            *("compare", "live.csv", "supplier.csv", "--mapping", "soderbi.toml"),
            *("--new-to", "new-items.csv", "-o", "list.jsonl"),
        ),
        """\
soderbi.toml is that description, with what else is to be said: how its numbers are
written, what is left out on purpose, and that retail.toml has the rules by which our
prices follow: cost plus 85 %, ending in .50 or .90. Items are found by barcode and written
by SKU. An item that live does not have goes into a sheet of its own, to be filled in.""",
    ),
    (
        "Where does a price come from?",
        ("preview", "list.jsonl", "--explain", "QA-1027"),
        """\
The row as it came, and each step: what went in, what every part comes to, what live has.""",
    ),
    (
        "And a quick edit, with no list at all?",
        (
            *("edit", "live.csv", "--set", "price = ENDS_AT(price * 1.05, 0.90)"),
            *("--where", "category LIKE 'Smokers%'", "--try", "5"),
        ),
        """\
--try shows a sample, the least, the greatest and the oddest results, and writes nothing.
Numbers are exact decimals; a value whose input is blank is reported, not guessed.""",
    ),
    (
        "And a count by location?",
        ("compare", "stock.csv", "count.csv", "--store", "stock.toml", "--mapping", "count.toml", "-o", "count.jsonl"),
        """\
stock.csv has a row for each item and location; count.csv was filled in by people with
words of their own. count.toml knows these, and buffer.toml keeps two of each back in the
main store. A place and an item that nobody knows are said, each by itself. `preview` shows
the total of each item over its locations, before and after.""",
    ),
)

MENDED = {"mend.csv": ((b"121.20", b"115.00"), (b"119.12", b"112.00"))}
"""What somebody types into a file once a step has made it."""

REPLACED = ("sheet", "match", "preview", "write", "practice", "confirm")
"""The commands that leave a file of theirs alone unless they are told to replace it."""

NEXT = """\
Now you. Open {folder}/sheet.csv in a spreadsheet, change something, save it, and in that folder:

  neat-delta compare live.csv sheet.csv --repair --with-new-values tags -o changes.jsonl
  neat-delta preview changes.jsonl
  neat-delta write changes.jsonl --to out --replace

With a colleague who answers in the page, also where both changed a price:

  neat-delta preview tuesday.jsonl --page tuesday.html
  neat-delta write tuesday.jsonl --signed-off answers.json --to answered

The files of the new codes:

  neat-delta write recoded.jsonl --to recoded

The practice store in the browser, with its pages:

  neat-delta practice live.csv

The prices that follow from the supplier's list, and the count:

  neat-delta write list.jsonl --to list
  neat-delta preview count.jsonl
  neat-delta write count.jsonl --store stock.toml --reason "spring count" --to counted

`neat-delta compare --help` has the choices: --blanks, --with-new, --accept, --key, --only."""


@click.command(epilog="\b\nExample:\n  neat-delta demo --to quillfern-demo")
@click.option(
    "--to",
    "folder",
    metavar="DIR",
    default="quillfern-demo",
    show_default=True,
    help="The folder to work in; it is made if need be.",
)
def demo(folder: str) -> int:
    """Go the whole round on a made-up shop, step by step."""
    from neat_delta.cli.compare import compare
    from neat_delta.cli.confirm import confirm
    from neat_delta.cli.edit import edit
    from neat_delta.cli.match import match
    from neat_delta.cli.practice import practice
    from neat_delta.cli.preview import preview
    from neat_delta.cli.recode import recode
    from neat_delta.cli.sheet import sheet
    from neat_delta.cli.write import write
    from neat_delta.files.inputs import inputs_kept
    from neat_delta.files.whole import write_whole
    from neat_delta.report.text import quoted

    again = _lay_out(Path(folder))
    commands = {"sheet": sheet, "compare": compare, "recode": recode, "match": match}
    commands |= {"preview": preview, "write": write, "edit": edit, "practice": practice, "confirm": confirm}
    _say("The demo store", INTRODUCTION)
    click.echo(f"\nThe files are in {folder}.")
    for title, (verb, *args), words in STEPS:
        _say(title, words)
        click.secho(f"\n$ neat-delta {' '.join(map(quoted, [verb, *args]))}\n", bold=True)
        with contextlib.chdir(folder):
            for name in (arg for arg in args if arg in MENDED and verb == "compare"):
                for old, new in MENDED[name]:
                    write_whole(name, [Path(name).read_bytes().replace(old, new)])
            replacing = ["--replace"] if verb in REPLACED and again else []
            with inputs_kept():
                commands[verb].main([*args, *replacing], standalone_mode=False)
    _say("What next?", NEXT.format(folder=folder))
    return 0


def _lay_out(folder: Path) -> bool:
    """Put the demo's files into the folder; whether they were there already. Files that were edited are never lost."""
    from neat_delta.core.base.support.errors import OutputError
    from neat_delta.files.whole import write_whole

    shipped = {name: files("neat_delta.demo").joinpath(name).read_bytes() for name in FILES}
    edited = [name for name in FILES if (folder / name).exists() and (folder / name).read_bytes() != shipped[name]]
    if edited:
        raise OutputError(
            f"{folder / edited[0]}: this is not the demo's file as it was; you may have edited it. "
            "Choose another folder with --to, or work on in that one: neat-delta compare live.csv sheet.csv"
        )
    again = (folder / FILES[0]).exists()
    make_folder(str(folder))
    for name, content in shipped.items():
        write_whole(str(folder / name), [content])
    return again


def _say(title: str, words: str) -> None:
    click.secho(f"\n{title}", bold=True, underline=True)
    click.echo(words)
