"""What `neat-delta demo` goes through: one round, and a chapter for each thing more, as commands that are run for real.

Whoever adds a capability adds a step here, or a chapter.
"""

from __future__ import annotations

from dataclasses import dataclass

__all__ = ["CHAPTERS", "ROUND", "Chapter", "Step"]


@dataclass(frozen=True, slots=True)
class Step:
    """A command as it is typed after `neat-delta`, with a title and what it is for.

    `typed` is what somebody changes in a file beforehand, as pairs of old and new text by the file's name.
    """

    title: str
    command: str
    words: str
    typed: tuple[str, tuple[tuple[str, str], ...]] | None = None


@dataclass(frozen=True, slots=True)
class Chapter:
    """A part of the demo: what it is about in a few words, what it begins with, its steps, and how to go on; and
    whether a practice store is open meanwhile, at the address that a step calls $SHOP.
    """

    about: str
    introduction: str
    steps: tuple[Step, ...]
    next: str = ""
    shop: bool = False


ROUND = Chapter(
    "one round",
    """\
Quillfern Apiary Supply, a made-up shop for beekeepers, has exported live.csv. In jars.csv
somebody raised five prices and ended an offer, and the spreadsheet took a cost for a day.""",
    (
        Step(
            "Learn.",
            "learn live.csv -o draft.toml --no-questions -q",
            "Once: draft what the store's files and fields are, with the evidence.",
        ),
        Step(
            "Compare.",
            "compare live.csv jars.csv --repair -o jars.jsonl",
            "What changed, and what nobody typed? By neat-delta.toml: a draft, read through.",
        ),
        Step(
            "Preview.",
            "preview jars.jsonl --field price",
            "Look at it, before and after.",
        ),
        Step(
            "Write.",
            "write jars.jsonl --to jars",
            "The smallest file that imports just that, and its undo, proven by replay.",
        ),
        Step(
            "Rehearse.",
            "practice live.csv --import jars --to imported",
            "Import it in a small shop on this machine, by the rules of your store.",
        ),
        Step(
            "Confirm.",
            "confirm jars.jsonl imported/after.csv --results imported/results.csv",
            "See in the next export, and in the store's report, whether it landed.",
        ),
    ),
    """\
Now you: change something in {folder}/jars.csv, save it, and in that folder
  neat-delta compare live.csv jars.csv -o mine.jsonl
  neat-delta preview mine.jsonl""",
)
"""What a bare `neat-delta demo` goes through."""

ACCIDENTS = Chapter(
    "what spreadsheets and tired hands do, found and mended; what a store refuses",
    """\
sheet.csv is the copy that somebody edited in a spreadsheet for an afternoon: other row
order, fewer columns, a price rise for wax, an offer on clothing, stock counted, a name
corrected, two new items typed in; and a few accidents.""",
    (
        Step(
            "What do I edit?",
            """sheet live.csv -o wax.xlsx --where "category = 'Wax'" --fields price,cost,stock""",
            """\
A working sheet with only what is to be touched: codes are text, the key is protected,
values are checked as they are typed. Somebody edited the whole export instead, in a
spreadsheet that knows nothing of shops.""",
        ),
        Step(
            "What changed?",
            "compare live.csv sheet.csv",
            """\
What could do harm is held until you say so: cells that were emptied, items that are new,
rows that nobody can place. And what nobody typed: costs became days and codes numbers, a
look-up failed, the stock of the frames slid down by one row, a price has its decimal mark
in the wrong place. Checks look at the rest: a tag that the store never had would be new.""",
        ),
        Step(
            "What is certain to be damage?",
            "compare live.csv sheet.csv --repair --with-new-values tags -o changes.jsonl -q",
            """\
Where only the writing was damaged, --repair puts live's own value back. The look-up that
failed, the slid column and the slipped mark stay held: only you know what was meant. The
tag "spring offer" is new to the store, as it is meant to be. -q prints what waits for you.""",
        ),
        Step(
            "Is it what I meant?",
            "preview changes.jsonl --sort size --by category --records quotes.csv --page page.html",
            """\
First the figures: how far each field goes up and down, and what that does to margins and
stock. quotes.csv has offers that are still open: some are touched by the new costs. Then
item by item, the largest changes first. page.html has all of it with charts, for the
colleague who decides: open it in a browser.""",
        ),
        Step(
            "What do I import?",
            "write changes.jsonl --to out",
            """\
The smallest files that turn live into exactly that, and the files that take it back.
Before they are handed over, they are read back from disk and replayed on live.""",
        ),
        Step(
            "What would the store say to it?",
            "practice live.csv --import out --to rehearsal --refuse QA-1146 --refuse QA-1330 --refuse QA-1417 "
            "--round sale_price:1",
            """\
On demand something goes wrong in the practice store, as it does in real ones: three rows are
refused, and sale prices are rounded without a word.""",
        ),
        Step(
            "Did all of it land?",
            "confirm changes.jsonl rehearsal/after.csv --files out --results rehearsal/results.csv --mend mend.csv "
            "--replace",
            """\
Two witnesses: what the store says, and what its next export shows. Where they do not agree
is said first. What was refused goes into a sheet to be mended, with the store's message
beside each item.""",
        ),
        Step(
            "And once it is mended?",
            "compare rehearsal/after.csv mend.csv --with-new-values tags -o mended.jsonl",
            """\
Somebody lowered two of the sale prices in mend.csv. It is a sheet like any other, and
remembers what it was made from.""",
            ("mend.csv", (("121.20", "115.00"), ("119.12", "112.00"))),
        ),
        Step(
            "Send it again.",
            "write mended.jsonl --to again --rehearse",
            "--rehearse imports the files into a practice store, too, before they are handed over.",
        ),
        Step(
            "The second time.",
            "practice rehearsal/after.csv --import again --to second",
            "Now nothing goes wrong.",
        ),
        Step(
            "And now?",
            "confirm mended.jsonl second/after.csv --files again --results second/results.csv",
            "Done, say both witnesses.",
        ),
    ),
    """\
The practice store in the browser, with its pages; Ctrl-C ends it:

  neat-delta practice live.csv""",
)

TUESDAY = Chapter(
    "the store has moved on while you were editing",
    """\
sheet.csv was cut from live.csv on Monday. On Tuesday the shop has sold, and a colleague has
changed prices: fresh.csv is the new export.""",
    (
        Step(
            "What did I change, and what did they?",
            "compare fresh.csv sheet.csv --base live.csv --repair --with-new-values tags --clash stock=add "
            "-o tuesday.jsonl",
            """\
With --base Neat Delta knows what sheet.csv was cut from: what the store changed meanwhile
stays, what you changed is sent. What both changed is a clash, and is held until somebody
chooses, here or in the page. Of the stock the choice is made: --clash stock=add adds your
difference to what is there now. The tags that both of you added stay both.""",
        ),
        Step(
            "And what do I import then?",
            "write tuesday.jsonl --to tuesday",
            "The files are against Tuesday's export: not one cell of the colleague's is in them.",
        ),
    ),
    """\
A colleague answers in the page, also where both changed a price; then with what the page saved:

  neat-delta preview tuesday.jsonl --page tuesday.html
  neat-delta write tuesday.jsonl --signed-off answers.json --to answered""",
)

SUPPLIER = Chapter(
    "a supplier's list, in words of its own, and our prices from it",
    """\
supplier.csv has titles above its headings, other names for the fields, decimal commas,
semicolons and an encoding of old; some barcodes lost their leading zeros.""",
    (
        Step(
            "Which heading is which?",
            "match live.csv supplier.csv --match-by barcode --save supplier.toml",
            """\
Before anything is compared, and as a draft of the list's description for the next month. A
heading that live does not have is never guessed.""",
        ),
        Step(
            "And our prices from it?",
            "compare live.csv supplier.csv --mapping soderbi.toml --new-to new-items.csv -o list.jsonl",
            """\
soderbi.toml is that description, with what else is to be said: how its numbers are written,
what is left out on purpose, and that retail.toml has the rules by which our prices follow.
Items are found by barcode and written by SKU. An item that live does not have goes into a
sheet of its own, to be filled in.""",
        ),
    ),
    """\
Look at them, and write them:

  neat-delta preview list.jsonl
  neat-delta write list.jsonl --to list""",
)

RULES = Chapter(
    "prices by rule, explained step by step",
    """\
retail.toml has two rules: cost plus 85 % where the cost changed, and our endings, .50 and
.90. Numbers are exact decimals, and nothing is guessed where an input is blank.""",
    (
        Step(
            "What comes of them?",
            "compare live.csv supplier.csv --mapping soderbi.toml -o ruled.jsonl -q",
            "soderbi.toml names the rules of its list; a result that a check finds too far from live's price is held.",
        ),
        Step(
            "Where does a price come from?",
            "preview ruled.jsonl --explain QA-1027",
            "The row as it came, and each step: what went in, what every part comes to, what live has.",
        ),
        Step(
            "And a quick edit, with no list at all?",
            """edit live.csv --set "price = ENDS_AT(price * 1.05, 0.90)" --where "category LIKE 'Smokers%'" --try 5""",
            "--try shows a sample, the least, the greatest and the oddest results, and writes nothing.",
        ),
    ),
    """\
In a file, to be sent:

  neat-delta edit live.csv --set "price = ENDS_AT(price * 1.05, 0.90)" --where "category LIKE 'Smokers%'" \\
    -o smokers.jsonl
  neat-delta write smokers.jsonl --to smokers""",
)

CODES = Chapter(
    "new codes: passed on, swapped, and the links that follow",
    """\
codes.csv has old codes and new ones: smokers get a range of their own, two change places,
one takes the code that another leaves.""",
    (
        Step(
            "What changes with them?",
            "recode live.csv codes.csv -o recoded.jsonl",
            "The links to their parents follow. What cannot be is held.",
        ),
        Step(
            "In which order?",
            "write recoded.jsonl --to recoded",
            """\
The steps stand in an order that works, by way of a temporary code for those that change
places.""",
        ),
    ),
)

STOCK = Chapter(
    "stock by location, counted by people",
    """\
stock.csv has a row for each item and location; count.csv was filled in by people with words
of their own. count.toml knows these, and buffer.toml keeps two of each back in the main
store.""",
    (
        Step(
            "What was counted?",
            "compare stock.csv count.csv --store stock.toml --mapping count.toml -o count.jsonl",
            "A place and an item that nobody knows are said, each by itself.",
        ),
        Step(
            "What does that come to?",
            "preview count.jsonl",
            "The total of each item over its locations, before and after.",
        ),
        Step(
            "And what does the store want to know?",
            """write count.jsonl --store stock.toml --reason "spring count" --to counted""",
            "Why the stock changes, in every row: its store file says so.",
        ),
    ),
)

ELSEWHERE = Chapter(
    "an export from an address, and files delivered",
    """\
A practice store with live.csv, a stand-in on this machine, is open meanwhile at $SHOP: what
it exports is an address, and it takes what is sent there.""",
    (
        Step(
            "From an address.",
            "compare $SHOP/export.csv jars.csv --repair -o web.jsonl -q",
            "Fetched once, whole or not at all, and kept, so that it is what is written and proven later.",
        ),
        Step(
            "Write.",
            "write web.jsonl --to web -q",
            "The same files as ever.",
        ),
        Step(
            "To an address.",
            'deliver web --to "$SHOP/import?name={file}&action={action}" --again',
            "What arrives is noted in the folder, with the store's answer; --again: it may not be the first time.",
        ),
        Step(
            "Did it land?",
            "confirm web.jsonl $SHOP/export.csv",
            "The answer is the store's report; the export is fetched again.",
        ),
        Step(
            "Or into a folder that a shop looks into.",
            "deliver web --to polled --again",
            "Under another name until it is whole, and what a person reads last. practice --watch is such a shop.",
        ),
    ),
    shop=True,
)

WEEKS = Chapter(
    "a round that is set up once, its ledger, and what it changed",
    """\
weekly.toml says what a round is of, what may pass without a person, and where it goes. A
practice store with live.csv, a stand-in on this machine, is open meanwhile at $SHOP.""",
    (
        Step(
            "What would be done?",
            "run weekly.toml --print",
            "With what, from where; nothing is done.",
        ),
        Step(
            "The first week.",
            "run weekly.toml -q",
            "From its sources to the store, each step noted: what is held stays here, the rest goes.",
        ),
        Step(
            "Did it land?",
            "run weekly.toml --confirm -q",
            "The next export and the store's answer say; what is to be mended would be in a sheet.",
        ),
        Step(
            "A week in which a hand slipped.",
            "run sale.toml -q",
            "Half a price is no belief of a shop's: the round waits, and nothing went.",
        ),
        Step(
            "It is given up,",
            'run sale.toml --close last --because "a tenth off was meant"',
            "for a reason that whoever asks will read.",
        ),
        Step(
            "The third week.",
            "run weekly.toml -q --log weekly.jsonl",
            "The list says nothing new, and the wax becomes dearer again.",
        ),
        Step(
            "What did we change?",
            "history",
            "All rounds, and each of them, an item or a field.",
        ),
        Step(
            "And this one?",
            "history --sku QA-1035",
            "When, from what to what, by which round, list and rule, and what became of it.",
        ),
        Step(
            "Take the last round back.",
            "undo --round last --now $SHOP/export.csv --to last-week --replace -q",
            "Only what still stands as it set it; the ledger has what it was compared with.",
        ),
    ),
    shop=True,
)

CHAPTERS = {
    "accidents": ACCIDENTS,
    "tuesday": TUESDAY,
    "supplier": SUPPLIER,
    "rules": RULES,
    "codes": CODES,
    "stock": STOCK,
    "elsewhere": ELSEWHERE,
    "weeks": WEEKS,
}
"""The chapters by their names, in the order in which `neat-delta demo all` goes through them after the round."""
