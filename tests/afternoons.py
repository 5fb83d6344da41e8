"""Made-up shops, the ordinary edits of an afternoon, and the accidents that happen on it; all from a seed.

Every edit and accident takes a random generator and the sheet's columns (lists of texts, in the sheet's order of rows),
and changes them in place; an accident says which field or fields it hit.
"""

from __future__ import annotations

import html
import random
from collections.abc import Callable
from datetime import date, timedelta
from decimal import ROUND_HALF_UP, Decimal
from typing import get_args

import polars as pl

from neat_delta import Catalogue, Field, Key, Store
from neat_delta.core.base.model.store import CheckName

Sheet = dict[str, list[str]]

GOODS = ("Cedar hive", "Pine hive", "Deep frame", "Wired foundation", "Rapid feeder", "Crème honey jar", "Cotton suit",
         "Copper smoker", "Heather honey", "Beeswax block", "Folding veil", "Queen cage", "Röslein honey")  # fmt: skip
CATEGORIES = ("Hives", "Hives > Parts", "Frames", "Wax", "Feeders", "Jars", "Clothing > Suits", "Smokers", "Honey")
BRANDS = ("Quillfern", "Tarn & Thistle", "Ottermead", "Söderbi")
SIZES = ("1 l", "2 l", "250 ml", "S", "M", "L", "10-12", "3/8")
TAGS = ("gift", "bulk", "winter", "spring", "organic")

STORE = Store(
    key=Key(["sku"], "name"),
    fields={
        "sku": Field(kind="code"),
        "category": Field(kind="path", levels=" > "),
        "price": Field(kind="money", decimals=2),
        "sale_price": Field(kind="money", decimals=2),
        "cost": Field(kind="money", decimals=2),
        "stock": Field(kind="integer"),
        "status": Field(kind="flag", yes=["shown"], no=["hidden"]),
        "weight": Field(kind="decimal", decimals=3),
        "barcode": Field(kind="code"),
        "article": Field(kind="code"),
        "created": Field(kind="date"),
        "tags": Field(kind="list", separator=","),
        "active": Field(kind="choice"),
        "image": Field(kind="image"),
    },
    # What a spreadsheet and a hand do is looked for here, and nothing else.
    checks={name: "off" for name in get_args(CheckName) if name != "unreadable"},
)


def cents(value: Decimal | float) -> str:
    """An amount with two decimals."""
    return str(Decimal(value).quantize(Decimal("0.01"), ROUND_HALF_UP))


def shop(rng: random.Random, items: int) -> Sheet:
    """A live catalogue."""
    found: Sheet = {
        name: []
        for name in (
            "sku", "name", "brand", "category", "price", "sale_price", "cost", "stock", "status", "weight", "size",
            "barcode", "article", "created", "tags", "active", "image", "description",
        )
    }  # fmt: skip
    number, opened = rng.randrange(100, 5_000), date(2019, 3, 4)
    while len(found["sku"]) < items:
        good, category = rng.choice(GOODS), rng.choice(CATEGORIES)
        base = Decimal(rng.randint(2, 240)) + Decimal(rng.choice(("0.90", "0.50", "0.95")))
        family = rng.choice((1, 1, 2, 3, 5))
        for step in range(family):
            price = base + step * rng.choice((1, 2, 5))
            size = rng.choice(SIZES)
            row = {
                "sku": f"QA-{number:05d}",
                "name": f"{good}, {size}, {rng.choice(('white', 'natural', 'khaki'))} {number % 97}",
                "brand": rng.choice(BRANDS),
                "category": category,
                "price": cents(price),
                "sale_price": cents(price * Decimal("0.85")) if rng.random() < 0.2 else "",
                "cost": cents(price * rng.randint(45, 70) / 100),
                "stock": str(rng.choice((0, rng.randint(1, 30), rng.randint(10, 400)))),
                "status": "hidden" if rng.random() < 0.1 else "shown",
                "weight": f"{rng.uniform(0.05, 18):.3f}",
                "size": size,
                "barcode": rng.choice(("04", "29")) + f"{rng.randrange(10**11):011d}",
                "article": f"{rng.randrange(1, 99_999):05d}" if rng.random() < 0.9 else "MAR-02",
                "created": (opened + timedelta(days=rng.randrange(2_500))).isoformat(),
                "tags": ", ".join(sorted(rng.sample(TAGS, rng.randint(1, 3)))),
                "active": rng.choice(("true", "false")),
                "image": f"img/{good.lower().replace(' ', '-')}-{number}.jpg",
                "description": f'<p>{good} "{size}" & more – ready.</p>\nFits.\n' + "Made well. " * rng.randint(1, 40),
            }  # fmt: skip
            for name, text in row.items():
                found[name].append(text)
            number += rng.randint(1, 3)
    return {name: texts[:items] for name, texts in found.items()}


def catalogue(sheet: Sheet, path: str) -> Catalogue:
    """The columns as the product holds them."""
    return Catalogue(pl.DataFrame(sheet, schema=dict.fromkeys(sheet, pl.String)), path, lambda: path)


def some(rng: random.Random, sheet: Sheet, share: float) -> list[int]:
    """A share of the rows, or those of one category."""
    rows = range(len(sheet["sku"]))
    if rng.random() < 0.5:
        category = rng.choice(sheet["category"])
        return [row for row in rows if sheet["category"][row] == category]
    return [row for row in rows if rng.random() < share]


# What people do on purpose.


def price_rise(rng: random.Random, sheet: Sheet) -> None:
    """By some per cent, with or without the shop's endings; or by a fixed step."""
    how, rate, step = (
        rng.randrange(3),
        Decimal(rng.randint(-30, 25)) / 100,
        Decimal(rng.choice(("0.50", "1", "2", "5"))),
    )
    for row in some(rng, sheet, 0.3):
        old = Decimal(sheet["price"][row])
        new = old + step if how == 0 else old * (1 + rate)
        sheet["price"][row] = cents(new.to_integral_value() + Decimal("0.90") if how == 1 else new)


def new_costs(rng: random.Random, sheet: Sheet) -> None:
    """A supplier's new list: up a little, some down."""
    for row in some(rng, sheet, 0.4):
        sheet["cost"][row] = cents(Decimal(sheet["cost"][row]) * rng.randint(93, 112) / 100)


def stock_count(rng: random.Random, sheet: Sheet) -> None:
    """Counted, delivered, or sold out."""
    how = rng.randrange(3)
    for row in some(rng, sheet, 0.5):
        old = int(sheet["stock"][row])
        sheet["stock"][row] = str((max(0, old + rng.randint(-9, 9)), old + rng.choice((6, 12, 24)), 0)[how])


def sale(rng: random.Random, sheet: Sheet) -> None:
    """An offer begins, with its tag, or ends."""
    rate, ends = Decimal(rng.randint(50, 90)) / 100, rng.random() < 0.3
    for row in some(rng, sheet, 0.2):
        if ends:
            sheet["sale_price"][row] = ""
            continue
        sheet["sale_price"][row] = cents(Decimal(sheet["price"][row]) * rate)
        if rng.random() < 0.5:
            sheet["tags"][row] += ", offer"


def clearance(rng: random.Random, sheet: Sheet) -> None:
    """A handful of items at one price, which is not a tenth of what they cost."""
    first = rng.randrange(len(sheet["sku"]) - 6)
    for row in range(first, first + rng.randint(2, 6)):
        if Decimal(sheet["price"][row]) < 70:
            sheet["price"][row] = "9.90"


def rename(rng: random.Random, sheet: Sheet) -> None:
    """One product is called otherwise, in its name and perhaps its description; or a word is added."""
    good, new = rng.choice(GOODS), rng.choice(("Fine", "Classic", "Field"))
    also = rng.random() < 0.5
    for row, name in enumerate(sheet["name"]):
        if name.startswith(good):
            sheet["name"][row] = name.replace(good, f"{new} {good.lower()}")
            if also:
                sheet["description"][row] = sheet["description"][row].replace(good, f"{new} {good.lower()}")


def corrections(rng: random.Random, sheet: Sheet) -> None:
    """Names and descriptions written anew, a few."""
    for row in rng.sample(range(len(sheet["sku"])), 9):
        sheet["name"][row] = f"{rng.choice(GOODS)}, {rng.choice(SIZES)}, no {rng.randrange(9_999)}"
        sheet["description"][row] = f"{sheet['name'][row]}: {rng.choice(TAGS)} & {rng.choice(BRANDS)}."


def status_change(rng: random.Random, sheet: Sheet) -> None:
    """Shown or hidden: a range, those out of stock, or here and there."""
    new = rng.choice(("shown", "hidden"))
    rows = some(rng, sheet, 0.1) if rng.random() < 0.6 else [r for r, text in enumerate(sheet["stock"]) if text == "0"]
    for row in rows:
        sheet["status"][row] = new if rng.random() < 0.8 else rng.choice(("shown", "hidden"))


def regroup(rng: random.Random, sheet: Sheet) -> None:
    """A category moves; weights are weighed again; new codes from a supplier."""
    old, new = rng.sample(CATEGORIES, 2)
    for row, category in enumerate(sheet["category"]):
        if category == old:
            sheet["category"][row] = new
    for row in rng.sample(range(len(sheet["sku"])), 6):
        sheet["weight"][row] = f"{Decimal(sheet['weight'][row]) * rng.randint(80, 125) / 100:.3f}"
        sheet["article"][row] = f"{rng.randrange(1, 99_999):05d}"
        sheet["created"][row] = (date(2026, 1, 1) + timedelta(days=rng.randrange(200))).isoformat()


EDITS = (price_rise, new_costs, stock_count, sale, clearance, rename, corrections, status_change, regroup)


def ordinary(rng: random.Random, live: Sheet) -> Sheet:
    """A sheet as it comes back from an ordinary afternoon: one to four edits, in any order of rows, often cut."""
    sheet = {name: list(texts) for name, texts in live.items()}
    arranged(rng, sheet)
    for edit in rng.sample(EDITS, rng.randint(1, 4)):
        edit(rng, sheet)
    if rng.random() < 0.5:
        arranged(rng, sheet)
    if rng.random() < 0.3:
        keep = [row for row in range(len(sheet["sku"])) if rng.random() < 0.8]
        for name, texts in sheet.items():
            sheet[name] = [texts[row] for row in keep]
    return sheet


def arranged(rng: random.Random, sheet: Sheet) -> None:
    """The rows as they were, sorted by some column, or in no order."""
    rows = list(range(len(sheet["sku"])))
    how = rng.randrange(3)
    if how == 1:
        by = rng.choice(list(sheet))
        rows.sort(key=lambda row: (len(sheet[by][row]) if by in {"price", "stock"} else 0, sheet[by][row]))
    elif how == 2:
        rng.shuffle(rows)
    for name, texts in sheet.items():
        sheet[name] = [texts[row] for row in rows]


# What happens to them. Each hits 20 cells or more, but for the sheet that is too small for it.

MANY = 24


def block(rng: random.Random, sheet: Sheet, many: int = MANY) -> range:
    """Some rows one under the other."""
    many = rng.randint(many, max(many, len(sheet["sku"]) // 2))
    first = rng.randrange(max(1, len(sheet["sku"]) - many))
    return range(first, min(first + many, len(sheet["sku"])))


def put(rng: random.Random, sheet: Sheet, field: str, change: Callable[[str], str | None], most: int = 60) -> list[str]:
    """Change the cells of a field that the change does something to, 20 of them or more where there are."""
    hit = 0
    rows = list(range(len(sheet["sku"])))
    rng.shuffle(rows)
    for row in rows:
        new = change(sheet[field][row])
        if new is not None and new != sheet[field][row] and hit < most:
            sheet[field][row], hit = new, hit + 1
    return [field]


def zeros_lost(rng: random.Random, sheet: Sheet) -> list[str]:
    """00417 as 417."""
    field = rng.choice(("barcode", "article"))
    return put(rng, sheet, field, lambda text: text.lstrip("0") if text.startswith("0") else None)


def scientific(rng: random.Random, sheet: Sheet) -> list[str]:
    """5901234123457 as 5.90123E+12."""
    mark = rng.choice(".,")
    return put(rng, sheet, "barcode", lambda text: f"{Decimal(text):.5E}".replace(".", mark))


def decimals_added(rng: random.Random, sheet: Sheet) -> list[str]:
    """417 as 417.0."""
    return put(rng, sheet, "barcode", lambda text: text.lstrip("0") + ".0")


def apostrophe(rng: random.Random, sheet: Sheet) -> list[str]:
    """00417 as '00417 or ="00417"."""
    form = rng.choice(("'{}", '="{}"'))
    return put(rng, sheet, "barcode", form.format)


def grouped(rng: random.Random, sheet: Sheet) -> list[str]:
    """48213 as 48,213."""
    return put(rng, sheet, "article", lambda text: f"{int(text):,}" if text.isdecimal() and int(text) > 999 else None)


MONTHS = {
    "en": ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec"),
    "de": ("Jan", "Feb", "Mrz", "Apr", "Mai", "Jun", "Jul", "Aug", "Sep", "Okt", "Nov", "Dez"),
    "ru": ("янв", "фев", "мар", "апр", "май", "июн", "июл", "авг", "сен", "окт", "ноя", "дек"),
    "fr": ("janv.", "févr.", "mars", "avr.", "mai", "juin", "juil.", "août", "sept.", "oct.", "nov.", "déc."),
    "pl": ("sty", "lut", "mar", "kwi", "maj", "cze", "lip", "sie", "wrz", "paź", "lis", "gru"),
}


def as_date(rng: random.Random, text: str) -> str | None:
    """What a spreadsheet makes of 12.05, if it takes it for a date."""
    day, _, month = text.partition(".")
    if not (day.isdecimal() and month.isdecimal() and 1 <= int(day) <= 28 and 1 <= int(month) <= 12):
        return None
    found = date(2026, int(month), int(day))
    names = MONTHS[rng.choice(list(MONTHS))]
    return rng.choice(
        (f"{int(day)}-{names[int(month) - 1]}", f"{int(day)}. {names[int(month) - 1]}", found.isoformat(),
         found.strftime("%d/%m/%Y"), str((found - date(1899, 12, 30)).days), f"{found.isoformat()}T00:00:00")
    )  # fmt: skip


def dated(rng: random.Random, sheet: Sheet) -> list[str]:
    """12.05 as 12 May. First live must have such prices."""
    return put(rng, sheet, "price", lambda text: as_date(rng, text))


def dated_sizes(rng: random.Random, sheet: Sheet) -> list[str]:
    """10-12 as 10-Dec, 3/8 as 2026-03-08."""
    made = {"10-12": ("10-Dec", "2026-12-10", "12.okt"), "3/8": ("03. Aug", "2026-08-03", "8-Mar")}
    return put(rng, sheet, "size", lambda text: rng.choice(made[text]) if text in made else None)


def mark_lost(rng: random.Random, sheet: Sheet) -> list[str]:
    """19.90 as 1990."""
    return put(rng, sheet, "price", lambda text: text.replace(".", "").lstrip("0"))


def other_mark(rng: random.Random, sheet: Sheet) -> list[str]:
    """19.90 as 19,90, in a few cells of a sheet that has points."""
    return put(rng, sheet, "weight", lambda text: text.replace(".", ","), 20)


def percent(rng: random.Random, sheet: Sheet) -> list[str]:
    """0.199 as 19.9%."""
    return put(rng, sheet, "weight", lambda text: f"{Decimal(text) * 100}%")


def currency(rng: random.Random, sheet: Sheet) -> list[str]:
    """1.250 as € 1.250, in a field that is no money."""
    return put(rng, sheet, "weight", lambda text: rng.choice(("€ {}", "{} EUR", "${}")).format(text))


def binary(rng: random.Random, sheet: Sheet) -> list[str]:
    """19.9 as 19.899999999999999."""
    return put(rng, sheet, "cost", lambda text: str(Decimal(text) - Decimal("1e-15")))


def serial(rng: random.Random, sheet: Sheet) -> list[str]:
    """2019-03-04 as 43528."""
    return put(rng, sheet, "created", lambda text: str((date.fromisoformat(text) - date(1899, 12, 30)).days))


def day_and_month(rng: random.Random, sheet: Sheet) -> list[str]:
    """2019-03-04 as 2019-04-03."""

    def swap(text: str) -> str | None:
        year, month, day = text.split("-")
        return f"{year}-{day}-{month}" if int(day) <= 12 and day != month else None

    return put(rng, sheet, "created", swap)


def encoding(rng: random.Random, sheet: Sheet) -> list[str]:
    """Crème as CrÃ¨me, or as Cr?me."""
    how = rng.choice((("utf-8", "cp1252"), ("utf-8", "mac-roman"), ("ascii", "ascii"), ("utf-8", "cp1251")))
    return put(rng, sheet, "name", lambda text: text.encode(how[0], "replace").decode(how[1], "replace"))


def quotes(rng: random.Random, sheet: Sheet) -> list[str]:
    """Plain quotes as typographic ones."""
    return put(rng, sheet, "description", lambda text: text.replace(' "', " “").replace('"', "”"))


def cut(rng: random.Random, sheet: Sheet) -> list[str]:
    """Texts cut at 255 characters."""
    return put(rng, sheet, "description", lambda text: text[:255] if len(text) > 255 and text[254] != " " else None)


def lines(rng: random.Random, sheet: Sheet) -> list[str]:
    """Line breaks that became spaces."""
    return put(rng, sheet, "description", lambda text: text.replace("\n", " "))


def odd_spaces(rng: random.Random, sheet: Sheet) -> list[str]:
    """Spaces that do not break."""
    return put(rng, sheet, "name", lambda text: text.replace(" ", "\u00a0"))


def escaped(rng: random.Random, sheet: Sheet) -> list[str]:
    """& as &amp;."""
    return put(rng, sheet, "description", html.escape)


def failed(rng: random.Random, sheet: Sheet) -> list[str]:
    """#N/A where a look-up found nothing."""
    return put(rng, sheet, "cost", lambda _: rng.choice(("#N/A", "#REF!", "#VALUE!", "#NV", "Err:502")))


def hashes(rng: random.Random, sheet: Sheet) -> list[str]:
    """##### where a column was too narrow."""
    return put(rng, sheet, "cost", lambda _: "#" * rng.randint(3, 9))


def formula(rng: random.Random, sheet: Sheet) -> list[str]:
    """The formula for its value."""
    return put(rng, sheet, "cost", lambda _: rng.choice(("=VLOOKUP(A2;B:C;2)", "=E2*1.08", "=SUM(A1:A3)")))


def word_for_true(rng: random.Random, sheet: Sheet) -> list[str]:
    """TRUE for true."""
    words = rng.choice((("TRUE", "FALSE"), ("WAHR", "FALSCH"), ("VRAI", "FAUX")))
    return put(rng, sheet, "active", lambda text: words[text == "false"])


DAMAGE: dict[Callable[[random.Random, Sheet], list[str]], str] = {
    zeros_lost: "leading zeros lost",
    scientific: "scientific notation",
    decimals_added: "decimals added to a code",
    apostrophe: "apostrophe or equals sign in front",
    grouped: "thousands marks in a code",
    dated: "turned into a date",
    dated_sizes: "turned into a date",
    mark_lost: "decimal mark lost",
    other_mark: "another decimal mark",
    percent: "per cent",
    currency: "currency sign",
    binary: "binary rounding",
    serial: "a date turned into a number or words",
    day_and_month: "day and month swapped",
    encoding: "wrong encoding",
    quotes: "quotes or dashes replaced",
    cut: "cut short",
    lines: "line breaks lost",
    odd_spaces: "non-breaking or unseen spaces",
    escaped: "HTML escaped twice",
    failed: "a formula that failed",
    hashes: "hashes for a value",
    formula: "a formula for its value",
    word_for_true: "a spreadsheet's word for true or false",
}
"""What a spreadsheet does, and what it is called."""


COLUMNS = ("price", "cost", "stock", "weight", "barcode", "name", "created", "image")


def sorted_alone(rng: random.Random, sheet: Sheet) -> list[str]:
    """One column in order, whole or in part."""
    field, rows = rng.choice((*COLUMNS, "article")), block(rng, sheet)
    number = field in {"price", "cost", "stock", "weight"}
    texts = sorted((sheet[field][row] for row in rows), key=lambda text: (Decimal(text) if number else 0, text))
    for row, text in zip(rows, texts if rng.random() < 0.7 else texts[::-1], strict=True):
        sheet[field][row] = text
    return [field]


def shifted(rng: random.Random, sheet: Sheet) -> list[str]:
    """One column some rows down or up."""
    field, rows, step = rng.choice(COLUMNS), block(rng, sheet), rng.choice((-2, -1, 1, 2, 3))
    old = list(sheet[field])
    for row in rows:
        if 0 <= row - step < len(old):
            sheet[field][row] = old[row - step]
    return [field]


def sideways(rng: random.Random, sheet: Sheet) -> list[str]:
    """Some rows one column to the right or to the left."""
    fields = [name for name in sheet if name != "sku"]
    first = rng.randrange(len(fields) - 8)
    some_fields = fields[first : first + rng.randint(6, 9)]
    step = rng.choice((-1, 1))
    for row in block(rng, sheet):
        old = [sheet[name][row] for name in some_fields]
        for place, name in enumerate(some_fields):
            if 0 <= place - step < len(old):
                sheet[name][row] = old[place - step]
    return some_fields[1:-1]


def series(rng: random.Random, sheet: Sheet) -> list[str]:
    """19.90, 20.90, 21.90 or Jar 1, Jar 2, Jar 3."""
    field, rows = (
        rng.choice(("price", "cost", "stock", "name", "barcode", "created", "article", "image")),
        block(rng, sheet),
    )
    first, step = rng.randint(3, 40), rng.choice((1, 1, 2, 10))
    for place, row in enumerate(rows):
        number = first + place * step
        sheet[field][row] = {
            "price": f"{number}.90",
            "cost": f"{number}.15",
            "stock": str(number),
            "name": f"Jar {number}",
            "barcode": str(2_900_000_000_000 + number),
            "created": (date(2026, 1, 1) + timedelta(days=place * step)).isoformat(),
            "article": f"{number + 10_000}",
            "image": f"img/jar-{number}.jpg",
        }[field]
    return [field]


def dragged(rng: random.Random, sheet: Sheet) -> list[str]:
    """One cell dragged over those under it."""
    field, rows = rng.choice(("price", "cost", "barcode", "name", "image", "description")), block(rng, sheet)
    for row in rows:
        sheet[field][row] = sheet[field][rows[0]]
    return [field]


def swapped(rng: random.Random, sheet: Sheet) -> list[str]:
    """Two columns in each other's place, whole or in part."""
    one, other = rng.sample(("price", "cost", "weight", "barcode", "name", "image"), 2)
    for row in block(rng, sheet):
        sheet[one][row], sheet[other][row] = sheet[other][row], sheet[one][row]
    return [one, other]


def replaced(rng: random.Random, sheet: Sheet) -> list[str]:
    """A replace-all meant for the names that hit the images, too."""
    old, new = rng.choice((("honey", "nectar"), ("hive", "home"), ("frame", "comb"), ("1", "7")))
    hit = []
    for name in ("name", "image", "description", "barcode") if old == "1" else ("name", "image", "description"):
        if any(old in text for text in sheet[name]):
            sheet[name] = [text.replace(old, new) for text in sheet[name]]
            hit.append(name)
    return hit


def decimal_slip(rng: random.Random, sheet: Sheet) -> list[str]:
    """Ten or a hundred times the price, or a tenth of it, after a rise of a few per cent."""
    field = rng.choice(("price", "cost", "weight"))
    times = rng.choice((Decimal(10), Decimal(100), Decimal("0.1")))
    for row in rng.sample(range(len(sheet["sku"])), MANY):
        new = Decimal(sheet[field][row]) * times * rng.randint(97, 108) / 100
        sheet[field][row] = f"{new:.3f}" if field == "weight" else cents(new)
    return [field]


SLIPS: dict[Callable[[random.Random, Sheet], list[str]], str] = {
    sorted_alone: "a column sorted on its own",
    shifted: "a column shifted by rows",
    sideways: "cells shifted sideways",
    series: "a series filled down",
    dragged: "one value over many items",
    swapped: "two columns swapped",
    replaced: "replaced in more fields than one",
    decimal_slip: "a decimal slip",
}
"""What a hand does, and what it is called."""


# What a hand does that shows in other ways than one value beside the others.


def price_as_cost(rng: random.Random, sheet: Sheet) -> list[str]:
    """The prices pasted over the costs, in all rows."""
    sheet["cost"] = list(sheet["price"])
    return ["cost"]


def row_pasted(rng: random.Random, sheet: Sheet) -> list[str]:
    """One row pasted over the five under it, but for the SKU."""
    first = rng.randrange(len(sheet["sku"]) - 6)
    fields = [name for name in sheet if name != "sku"]
    for name in fields:
        sheet[name][first + 1 : first + 6] = [sheet[name][first]] * 5
    return fields


def other_calendar(rng: random.Random, sheet: Sheet) -> list[str]:
    """All dates 1,462 days later or earlier."""
    step = timedelta(rng.choice((1_462, -1_462)))
    sheet["created"] = [(date.fromisoformat(text) + step).isoformat() for text in sheet["created"]]
    return ["created"]


def names_cut(rng: random.Random, sheet: Sheet) -> list[str]:
    """Names cut at one length."""
    most = rng.randint(14, 24)
    sheet["name"] = [text[:most].rstrip() for text in sheet["name"]]
    return ["name"]


def wrong_century(rng: random.Random, sheet: Sheet) -> list[str]:
    """Years as 0026, or 2062 for 2026."""
    if rng.random() < 0.5:
        return put(rng, sheet, "created", lambda text: f"00{text[2:]}", 30)
    return put(rng, sheet, "created", lambda text: f"20{rng.randint(55, 69)}{text[4:]}", 30)


def prices_gone(rng: random.Random, sheet: Sheet) -> list[str]:
    """All prices 0.00."""
    sheet["price"] = ["0.00"] * len(sheet["price"])
    return ["price"]


def keys_sorted(rng: random.Random, sheet: Sheet) -> list[str]:
    """The SKUs in order, and nothing else."""
    order = sorted(sheet["sku"], reverse=rng.random() < 0.5)
    if order == sheet["sku"]:
        order.reverse()
    sheet["sku"] = order
    return [name for name in sheet if name != "sku"]


def field_divided(rng: random.Random, sheet: Sheet) -> list[str]:
    """A whole field a tenth of what it was."""
    field = rng.choice(("price", "cost", "weight", "stock"))
    if field == "stock":
        sheet[field] = [str(int(text) * 10) for text in sheet[field]]
    else:
        places = Decimal("0.001" if field == "weight" else "0.01")
        sheet[field] = [str((Decimal(text) / 10).quantize(places, ROUND_HALF_UP)) for text in sheet[field]]
    return [field]


def three_places(rng: random.Random, sheet: Sheet) -> list[str]:
    """Prices as a formula leaves them."""
    rate = 1 + Decimal(rng.randint(11, 99)) / 1000
    return put(rng, sheet, "price", lambda text: str((Decimal(text) * rate).quantize(Decimal("0.001"))), 60)


def ten_sorted(rng: random.Random, sheet: Sheet) -> list[str]:
    """A column in order within ten rows."""
    field, first = rng.choice(("price", "cost", "weight", "barcode", "name")), rng.randrange(len(sheet["sku"]) - 10)
    number = field in {"price", "cost", "weight"}
    rows = slice(first, first + 10)
    sheet[field][rows] = sorted(sheet[field][rows], key=lambda text: (Decimal(text) if number else 0, text))
    return [field]


HANDS: dict[Callable[[random.Random, Sheet], list[str]], str] = {
    price_as_cost: "a column copied over another",
    row_pasted: "a row pasted over others",
    other_calendar: "dates of another calendar",
    names_cut: "texts cut at one length",
    wrong_century: "a year far off",
    prices_gone: "amounts set to zero",
    keys_sorted: "keys sorted on their own",
    field_divided: "a decimal slip",
    three_places: "unreadable",
    ten_sorted: "some rows of a column sorted",
}
"""What else a hand does, and what it is called."""


def filtered(rng: random.Random, sheet: Sheet) -> list[str]:
    """Only what a filter left was saved."""
    field = rng.choice(("status", "category", "brand"))
    few = rng.choice(sheet[field])
    stays = rng.random() < 0.5
    keep = [row for row, text in enumerate(sheet[field]) if (text == few) == stays]
    for name, texts in sheet.items():
        sheet[name] = [texts[row] for row in keep]
    return []


def pasted_twice(rng: random.Random, sheet: Sheet) -> list[str]:
    """Some rows once more at the end."""
    rows = block(rng, sheet)
    for texts in sheet.values():
        texts.extend([texts[row] for row in rows])
    return []


ROWS: dict[Callable[[random.Random, Sheet], list[str]], str] = {
    filtered: "rows missing",
    pasted_twice: "rows pasted twice",
}
"""What happens to whole rows, and what it is called."""
