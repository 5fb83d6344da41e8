"""Writes the demo store: Quillfern Apiary Supply, a made-up shop for beekeepers.

`python -m tests.generate DIR` writes `live.csv` (the export of 418 items), `jars.csv` (a few prices that somebody
raised), `sheet.csv` (the copy somebody edited, with the accidents of the afternoon), `supplier.csv` (a supplier's
list), `codes.csv` (new codes), `quotes.csv` (open quotes) and `fresh.csv` (the export of the day after). All ship in
the package; the same seed always gives the same bytes.
"""

from __future__ import annotations

import csv
import io
import random
import sys
from collections.abc import Iterable
from datetime import date, timedelta
from decimal import ROUND_HALF_UP, Decimal
from pathlib import Path

SEED = 418
ITEMS = 418

FIELDS = (
    "sku",
    "parent_sku",
    "name",
    "brand",
    "category",
    "price",
    "sale_price",
    "cost",
    "stock",
    "status",
    "weight_kg",
    "size",
    "colour",
    "barcode",
    "images",
    "tags",
    "short_description",
    "description",
    "tax_class",
    "supplier_code",
    "created",
    "min_order",
)
"""The headings of the live export, in its order."""

# What the shop sells: category path, names, sizes, colours, price range, weight range, tax class.
RANGES: tuple[tuple[str, tuple[str, ...], tuple[str, ...], tuple[str, ...], int, int, float, str], ...] = (
    (
        "Hives > Complete hives",
        ("Cedar hive", "Pine hive", "Long hive", "Top-bar hive", "Nucleus hive"),
        ("6 frames", "8 frames", "10 frames"),
        ("",),
        79,
        320,
        14.0,
        "standard",
    ),
    (
        "Hives > Parts",
        ("Brood box", "Super", "Hive floor, open mesh", "Pitched roof", "Crown board", "Queen excluder"),
        ("8 frames", "10 frames"),
        ("",),
        12,
        59,
        3.5,
        "standard",
    ),
    (
        "Frames",
        ("Deep frame", "Shallow frame", "Straight-sided frame", 'Frame, 1 3/8" spacing'),
        ("pack of 10", "pack of 50"),
        ("",),
        11,
        68,
        2.2,
        "standard",
    ),
    (
        "Wax",
        (
            "Wired foundation",
            "Unwired foundation",
            "Drone foundation",
            "Beeswax block",
            "Cosmetic beeswax pellets",
        ),
        ("250 g", "1 kg", "5 kg"),
        ("natural", "white"),
        6,
        74,
        1.6,
        "standard",
    ),
    (
        "Feeders",
        ("Rapid feeder", "Frame feeder", "Contact feeder", "Entrance feeder"),
        ("1 l", "2 l", "4 l"),
        ("",),
        4,
        22,
        0.5,
        "standard",
    ),
    (
        "Jars",
        ("Hexagonal jar", "Round jar", "Crème honey jar", "Sample jar"),
        ("28 ml", "190 ml", "250 ml", "370 ml"),
        ("gold lid", "black lid"),
        1,
        9,
        0.3,
        "standard",
    ),
    (
        "Clothing > Suits",
        ("Ventilated suit", "Cotton suit", "Half suit", "Children's suit"),
        ("XS", "S", "M", "L", "XL"),
        ("white", "khaki"),
        49,
        139,
        1.4,
        "clothing",
    ),
    (
        "Clothing > Gloves and veils",
        ("Goatskin gloves", "Nitrile gloves, box of 100", "Folding veil", "Ring veil"),
        ("S", "M", "L"),
        ("",),
        9,
        32,
        0.3,
        "clothing",
    ),
    (
        "Smokers",
        ("Copper smoker", "Stainless smoker", "Smoker bellows", "Smoker pellets"),
        ("small", "large"),
        ("",),
        7,
        58,
        0.9,
        "standard",
    ),
    (
        "Honey",
        ("Heather honey", "Lime-blossom honey", "Chestnut honey", "Röslein forest honey", "Comb honey"),
        ("227 g", "454 g", "1 kg"),
        ("",),
        5,
        24,
        0.8,
        "food",
    ),
)

BRANDS = ("Quillfern", "Bramblewick Works", "Tarn & Thistle", "Ottermead", "Söderbi")
USES = ("beginner", "professional", "organic", "gift", "new season", "bulk", "winter", "spring")


def cents(value: float | Decimal) -> Decimal:
    """A price with two decimals, rounded half up."""
    return Decimal(value).quantize(Decimal("0.01"), ROUND_HALF_UP)


def shelf_price(rng: random.Random, low: int, high: int) -> Decimal:
    """A price as this shop writes them: .90, .50 or .95 at the end."""
    return Decimal(rng.randint(low, high)) + Decimal(rng.choice(("0.90", "0.90", "0.50", "0.95")))


def barcode(rng: random.Random) -> str:
    """A 13-digit number with a right check digit (GS1 modulo 10), from the ranges kept for use inside a shop."""
    body = rng.choice(("0400", "2900", "2901")) + f"{rng.randrange(10**8):08d}"
    total = sum(int(digit) * (3 if place % 2 else 1) for place, digit in enumerate(body))
    return body + str(-total % 10)


def words(name: str) -> str:
    """A file-name form of a product's name."""
    return "-".join("".join(c if c.isascii() and c.isalnum() else " " for c in name.lower()).split())


def descriptions(rng: random.Random, name: str, category: str, size: str) -> tuple[str, str]:
    """The short and the long description, with the commas, quotes, line breaks and HTML that real ones have."""
    short = rng.choice(
        (
            f"{name}, {size}: ready for the season.",
            f'Our "{name.lower()}", tried on our own stands.',
            f"{name}; sturdy, simple, made to last.",
        )
    )
    facts = rng.sample(
        (
            "No tools needed",
            "Packed flat",
            "Spare parts always in stock",
            "Fits all our hives",
            "Made from 80% offcuts",
        ),
        3,
    )
    shape = rng.randrange(3)
    if shape == 0:
        long = (
            f"<p>{name} for {category.rpartition('> ')[2].lower()}.</p><ul>"
            + "".join(f"<li>{f}</li>" for f in facts)
            + "</ul>"
        )
    elif shape == 1:
        long = f"{name}, {size}.\n\n- " + "\n- ".join(facts) + '\n\nAsk us about the "first hive" set.'
    else:
        long = f"{name} ({size}): {facts[0].lower()}, {facts[1].lower()} & {facts[2].lower()}."
    return short, long


def catalogue(rng: random.Random) -> list[dict[str, str]]:
    """The live catalogue: products with their variants under them, until there are 418 items."""
    items: list[dict[str, str]] = []
    number = 1001
    opened = date(2019, 3, 4)
    while len(items) < ITEMS:
        category, names, sizes, colours, low, high, weight, tax = RANGES[len(items) // 9 % len(RANGES)]
        base = rng.choice(names)
        brand = rng.choice(BRANDS)
        chosen = sorted(rng.sample(range(len(sizes)), min(len(sizes), rng.choice((1, 2, 3)))))
        colour = rng.choice(colours)
        price = shelf_price(rng, low, high)
        tags = ", ".join(sorted(rng.sample(USES, rng.randint(1, 3))))
        supplier = f"{rng.randrange(1, 99999):05d}"
        parent = f"QA-{number}" if len(chosen) > 1 else ""
        for step, place in enumerate(chosen):
            size = sizes[place]
            own = price + step * rng.randint(max(1, low // 6), max(2, high // 8))
            stock = rng.choice((0, rng.randint(1, 24), rng.randint(10, 260)))
            sku = f"QA-{number}"
            short, long = descriptions(rng, base, category, size)
            items.append(
                {
                    "sku": sku,
                    "parent_sku": "" if sku == parent else parent,
                    "name": f"{base}, {size}" + (f", {colour}" if colour else ""),
                    "brand": brand,
                    "category": category,
                    "price": str(own),
                    "sale_price": str(cents(own * Decimal("0.85"))) if rng.random() < 0.15 else "",
                    "cost": str(cents(own * Decimal(rng.randint(48, 72)) / 100)),
                    "stock": str(stock),
                    "status": "hidden" if rng.random() < 0.06 else "shown",
                    "weight_kg": f"{weight * rng.uniform(0.6, 1.4):.3f}",
                    "size": size,
                    "colour": colour,
                    "barcode": barcode(rng),
                    "images": ";".join(f"img/{words(base)}-{n}.jpg" for n in range(1, rng.randint(2, 4))),
                    "tags": tags,
                    "short_description": short,
                    "description": long,
                    "tax_class": tax,
                    "supplier_code": supplier,
                    "created": (opened + timedelta(days=(number - 1001) * 5)).isoformat(),
                    "min_order": "6" if category == "Jars" else "1",
                }
            )
            number += 1
    return items[:ITEMS]


SHEET_FIELDS = (
    "name",
    "sku",
    "category",
    "stock",
    "price",
    "sale_price",
    "cost",
    "status",
    "tags",
    "colour",
    "tax_class",
    "supplier_code",
    "barcode",
    "note",
)
"""The headings of the edited sheet: fewer than live has, in another order, and one of the editor's own."""


def edited(live: list[dict[str, str]], rng: random.Random) -> list[dict[str, str]]:
    """The copy that somebody worked on for an afternoon."""
    rows = [{field: item.get(field, "") for field in SHEET_FIELDS} for item in live]
    by_sku = {row["sku"]: row for row in rows}

    wax = [row for row in rows if row["category"] == "Wax"]
    for row in wax[:16]:  # the wax supplier's price rise, passed on
        row["cost"] = str(cents(Decimal(row["cost"]) * Decimal("1.06")))
        row["price"] = str((Decimal(row["price"]) * Decimal("1.08")).to_integral_value() + Decimal("0.90"))
    wax[0]["note"] = "new list from 1 May"
    for row in rng.sample([row for row in rows if row["category"].startswith("Clothing")], 6):  # spring offer
        row["sale_price"] = str(cents(Decimal(row["price"]) * Decimal("0.80")))
        row["tags"] = row["tags"] + ", spring offer"
    for row in [row for row in rows if row["sale_price"] and row["category"] == "Jars"][:3]:  # offers that ended
        row["sale_price"] = ""
        row["note"] = "offer over"
    for row in rng.sample([row for row in rows if row["category"] == "Feeders"], 9):  # counted on Tuesday
        row["stock"] = str(max(0, int(row["stock"]) + rng.choice((-6, -3, -1, 2, 12, 40))))
    for row in rng.sample([row for row in rows if row["status"] == "hidden"], 2):
        row["status"] = "shown"
    honey = next(row for row in rows if row["name"].startswith("Röslein"))
    honey["name"] = honey["name"].replace("Röslein forest honey", "Rösslein forest honey")

    gone = {row["sku"] for row in rows if row["category"] == "Honey"} - {honey["sku"]}
    keep = [row for row in rows if row["sku"] not in set(sorted(gone)[:12])]
    keep.sort(key=lambda row: (row["category"], row["name"], row["sku"]))

    extra = dict.fromkeys(SHEET_FIELDS, "")
    keep.append(
        extra
        | {
            "sku": "QA-1501",
            "name": "Copper smoker, travel size",
            "category": "Smokers",
            "price": "34.90",
            "cost": "19.80",
        }
        | {"stock": "25", "status": "hidden", "tags": "gift, new season", "tax_class": "standard"}
    )
    keep.append(
        extra
        | {
            "sku": "QA-1502",
            "name": 'Frame, 1 3/8" spacing, pack of 100',
            "category": "Frames",
            "price": "112.50",
        }
        | {
            "cost": "68.00",
            "stock": "8",
            "status": "hidden",
            "tax_class": "standard",
            "supplier_code": "00417",
        }
    )
    keep.append(extra | {"name": "Total", "stock": str(sum(int(row["stock"]) for row in keep))})
    twice = next(row for row in keep if row["category"] == "Smokers" and row["sku"] in by_sku)
    keep.insert(keep.index(twice) + 1, twice | {"price": str(Decimal(twice["price"]) + 2)})
    return keep


MONTHS = ("Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sep", "Oct", "Nov", "Dec")


def accidents(rows: list[dict[str, str]]) -> None:
    """What the spreadsheet and a tired hand did to the sheet meanwhile."""
    in_category: dict[str, list[dict[str, str]]] = {}
    for row in rows:
        in_category.setdefault(row["category"], []).append(row)
    gloves, parts = in_category["Clothing > Gloves and veils"], in_category["Hives > Parts"]
    for row in gloves:  # opened with a double click: codes are numbers now
        row["supplier_code"] = row["supplier_code"].lstrip("0")
        row["barcode"] = f"{Decimal(row['barcode']):.5E}" if row is gloves[0] else row["barcode"]
    for row in parts:  # costs such as 11.04 are days now
        day, month = row["cost"].split(".")
        if int(day) <= 28 and 1 <= int(month) <= 12:
            row["cost"] = f"{int(day)}-{MONTHS[int(month) - 1]}"
    for row in [row for row in rows if row["name"].startswith("Crème")][:4]:  # saved in another encoding in between
        row["name"] = row["name"].encode().decode("cp1252")
    for row in in_category["Smokers"][2:4]:  # a look-up in a supplier's list that lacks them
        row["cost"] = "#N/A"
    frames = in_category["Frames"][4:22]  # one cell too many was inserted, and the stock slid down
    for row, above in zip(frames[:0:-1], frames[-2::-1], strict=True):
        row["stock"] = above["stock"]
    hive = in_category["Hives > Complete hives"][3]  # 189.90 typed as 1899.00
    hive["price"] = str(Decimal(hive["price"]) * 10)


def supplier_list(live: list[dict[str, str]], rng: random.Random) -> bytes:
    """A supplier's price list: titles above, its own headings, decimal commas, Windows-1252, zeros lost from some
    codes.
    """
    rows = [["Söderbi trade list", "", "", ""], ["valid from 2026-05-01", "", "", ""], ["", "", "", ""]]
    rows.append(["EAN", "Article", "Trade", "RRP"])
    for item in live:
        if item["brand"] == "Söderbi" and rng.random() < 0.7:
            trade = cents(Decimal(item["cost"]) * rng.choice((Decimal(1), Decimal("1.04"))))
            code = item["barcode"].lstrip("0") if rng.random() < 0.3 else item["barcode"]
            rows.append([code, item["name"], f"{trade}".replace(".", ","), f"{item['price']}".replace(".", ",")])
    rows.append(["2900999999992", "Söderbi comb knife", "8,40", "16,90"])
    out = io.StringIO(newline="")
    csv.writer(out, delimiter=";", lineterminator="\r\n").writerows(rows)
    return out.getvalue().encode("cp1252")


def stock_by_location(live: list[dict[str, str]], rng: random.Random) -> list[list[str]]:
    """The stock of the jars and the feeders, split over two locations."""
    rows = [["sku", "location", "quantity"]]
    for item in live:
        if item["category"] in {"Jars", "Feeders"}:
            shop = rng.randint(0, int(item["stock"]))
            rows += [[item["sku"], "ST-01", str(int(item["stock"]) - shop)], [item["sku"], "ST-02", str(shop)]]
    return rows


def count(stock: list[list[str]], rng: random.Random) -> list[list[str]]:
    """What somebody counted there, with their own words; a word mistyped, and an item that nobody knows."""
    words = {"ST-01": "Main store", "ST-02": "Shop 2"}
    rows = [["Item", "Place", "Counted"]]
    for sku, place, quantity in stock[1:41]:
        number = int(quantity) + (2 if place == "ST-01" else 0)  # with the two that are kept back
        rows.append([sku, words[place], str(max(0, number + rng.choice((0, 0, 0, -1, 2))))])
    rows[7][1] = "Shp 2"
    return [*rows, ["QA-7001", "Main store", "12"]]


def as_rows(rows: Iterable[Iterable[str]]) -> bytes:
    """CSV as RFC 4180 has it."""
    out = io.StringIO(newline="")
    csv.writer(out, lineterminator="\n").writerows(rows)
    return out.getvalue().encode()


CUSTOMERS = ("Meadow School", "The Orchard Club", "Hillside Apiary", "Lindenbee Cafe", "Old Mill Market")


def open_quotes(live: list[dict[str, str]], sheet: list[dict[str, str]], rng: random.Random) -> bytes:
    """Open quotes: some items under the price on the shelf, most of them of those whose cost rises."""
    by_sku = {item["sku"]: item for item in live}
    risen = [by_sku[row["sku"]] for row in sheet if row["sku"] in by_sku and row["cost"] > by_sku[row["sku"]]["cost"]]
    rows = [["Quote", "Customer", "SKU", "Quantity", "Unit price"]]
    for number, item in enumerate([*rng.sample(risen, 6), *rng.sample(live, 4)]):
        price = cents(Decimal(item["price"]) * rng.choice((Decimal("0.96"), Decimal("0.9"), Decimal("0.7"))))
        quote = (f"Q-{311 + number // 2}", CUSTOMERS[number // 2], item["sku"])
        rows.append([*quote, str(rng.choice((2, 5, 10, 20))), str(price)])
    out = io.StringIO(newline="")
    csv.writer(out, lineterminator="\r\n").writerows(rows)
    return out.getvalue().encode()


CODES = (
    ("QA-1073", "QS-1001"),  # smokers get a range of codes of their own
    ("QA-1074", "QS-1002"),
    ("QA-1075", "QS-1003"),
    ("QA-1076", "QA-1077"),  # the labels on the shelf had changed places
    ("QA-1077", "QA-1076"),
    ("QA-1078", "QA-1079"),  # one takes the code that another leaves
    ("QA-1079", "QS-1004"),
    ("QA-1080", "QA-1163"),  # which is that of a smoker
    ("QA-8010", "QS-1005"),  # mistyped: there is no such item
)
"""Old codes and new ones, as somebody wrote them down."""


def tuesday(live: list[dict[str, str]], meant: list[dict[str, str]], rng: random.Random) -> list[dict[str, str]]:
    """The catalogue a day later: the shop was open, and a colleague worked in it. `meant` is the edited copy without
    its accidents.
    """
    rows = [dict(item) for item in live]
    before, sheet = {item["sku"]: item for item in live}, {row["sku"]: row for row in meant}
    counted = [row for row in rows if row["sku"] in sheet and sheet[row["sku"]]["stock"] != row["stock"]]
    for row in [*counted[:3], *rng.sample([row for row in rows if int(row["stock"]) > 8], 38)]:  # sold meanwhile
        row["stock"] = str(max(0, int(before[row["sku"]]["stock"]) - rng.randint(1, 5)))
    wax = [row for row in rows if row["category"] == "Wax"]
    wax[2]["price"] = sheet[wax[2]["sku"]]["price"]  # the colleague had heard of it, too
    for row in wax[4:6]:
        row["price"] = str(cents(Decimal(row["price"]) * Decimal("1.05")))
    for row in [row for row in rows if row["category"] == "Smokers"][:6]:
        row["price"] = str(Decimal(row["price"]) + 1)
    offered = next(row for row in rows if "spring offer" in sheet.get(row["sku"], {"tags": ""})["tags"])
    offered["tags"] += ", bestseller"
    left = {counted[5]["sku"], next(row["sku"] for row in rows if row["category"] == "Jars")}  # no longer sold
    rows = [row for row in rows if row["sku"] not in left]
    new = wax[-1] | {"sku": "QA-1419", "name": "Beeswax candle, pair", "price": "8.50", "cost": "3.90", "stock": "40"}
    return [*rows, new | {"barcode": barcode(rng), "supplier_code": "30177", "created": "2026-04-28"}]


def as_csv(fields: Iterable[str], rows: Iterable[dict[str, str]], line_end: str, bom: str = "") -> bytes:
    """CSV as RFC 4180 has it, with the line ends and the mark at the start that are asked for."""
    out = io.StringIO(newline="")
    writer = csv.DictWriter(out, list(fields), lineterminator=line_end)
    writer.writeheader()
    writer.writerows(rows)
    return (bom + out.getvalue()).encode()


MORNING_FIELDS = ("sku", "name", "price", "sale_price", "cost", "stock")
"""The headings of the jars that somebody went through in a morning."""


def morning(live: list[dict[str, str]]) -> list[dict[str, str]]:
    """The jars, with five prices raised and an offer that ended; and a cost that the spreadsheet took for a day."""
    rows = [{field: item[field] for field in MORNING_FIELDS} for item in live if item["category"] == "Jars"]
    hexagonal = [row for row in rows if row["name"].startswith("Hexagonal")]
    for row in hexagonal[-5:]:
        row["price"] = str(Decimal(row["price"]) + Decimal("1.00"))
    next(row for row in hexagonal if row["sale_price"])["sale_price"] = ""
    cost = next(row for row in hexagonal if row["cost"] == "5.10")
    cost["cost"] = "5-Oct"
    return sorted(rows, key=lambda row: row["name"])


def demo_files() -> dict[str, bytes]:
    """The demo store's files by name."""
    rng = random.Random(SEED)
    live = catalogue(rng)
    sheet = edited(live, rng)
    meant = [dict(row) for row in sheet]
    accidents(sheet)
    stock = stock_by_location(live, random.Random(SEED + 2))
    return {
        "live.csv": as_csv(FIELDS, live, "\n"),
        "sheet.csv": as_csv(SHEET_FIELDS, sheet, "\r\n", bom="\ufeff"),
        "jars.csv": as_csv(MORNING_FIELDS, morning(live), "\r\n", bom="\ufeff"),
        "supplier.csv": supplier_list(live, rng),
        "codes.csv": as_csv(
            ("sku", "new code"), ({"sku": old, "new code": new} for old, new in CODES), "\r\n", bom="\ufeff"
        ),
        "fresh.csv": as_csv(FIELDS, tuesday(live, meant, random.Random(SEED + 1)), "\n"),
        "quotes.csv": open_quotes(live, meant, rng),
        "stock.csv": as_rows(stock),
        "count.csv": as_rows(count(stock, random.Random(SEED + 3))),
    }


def main() -> None:
    """Write the files into the folder named on the command line."""
    folder = Path(sys.argv[1])
    for name, content in demo_files().items():
        (folder / name).write_bytes(content)


if __name__ == "__main__":
    main()
