"""Sixty columns as shops have them, in the notations that their exports use, and what hands and programs do to a cell.

A column has a heading, the sort of thing it really holds, and texts drawn from a seed.
"""

from __future__ import annotations

import json
import random
import re
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, timedelta
from decimal import Decimal
from typing import Literal

Sort = Literal["text", "number", "date", "flag", "json"]
"""Text is all of which every letter counts, codes and lists among it."""

Draw = Callable[[random.Random], str]


@dataclass(frozen=True)
class Column:
    """One column: its heading, its sort, how a cell is drawn, and whether some cells are blank."""

    heading: str
    sort: Sort
    draw: Draw
    blanks: float = 0.0

    def cells(self, rng: random.Random, rows: int) -> list[str]:
        """So many cells."""
        return ["" if rng.random() < self.blanks else self.draw(rng) for _ in range(rows)]


def one_of(*texts: str) -> Draw:
    return lambda rng: rng.choice(texts)


def digits(rng: random.Random, many: int) -> str:
    return "".join(rng.choices("0123456789", k=many))


def several(words: str, between: str, most: int = 4) -> Draw:
    return lambda rng: between.join(rng.sample(words.split(), rng.randint(1, most)))


def day(form: str) -> Draw:
    return lambda rng: (date(2019, 1, 1) + timedelta(rng.randrange(2900))).strftime(form)


ColumnNotation = tuple[str, str, str]
"""Decimal mark, thousands mark, and the currency around an amount (# for the number)."""

NOTATIONS: dict[str, ColumnNotation] = {
    "point": (".", "", "#"),
    "comma": (",", "", "#"),
    "point and comma": (".", ",", "#"),
    "comma and point": (",", ".", "#"),
    "euro sign": (".", "", "€#"),
    "code after": (",", ".", "# EUR"),
    "dollars": (".", ",", "$#"),
}


def number(notation: ColumnNotation, places: int, most: int, *, currency: bool = False) -> Draw:
    point, thousands, around = notation

    def draw(rng: random.Random) -> str:
        value = Decimal(rng.randrange(10**places * most)) / 10**places
        text = f"{value:,.{places}f}".replace(",", "\0").replace(".", point).replace("\0", thousands)
        return around.replace("#", text) if currency else text

    return draw


def columns(notation: ColumnNotation) -> list[Column]:
    """The sixty, those of numbers in this notation."""
    money = number(notation, 2, 400, currency=True)
    return [
        Column("colour number", "text", lambda rng: f"RAL {rng.choice((9010, 7016, 3020, 1021, 5010))}"),
        Column("Norm", "text", lambda rng: f"{rng.choice(('DIN', 'ISO', 'EN'))} {rng.randint(1, 999)}"),
        Column("port", "text", one_of("USB 2.0", "USB 3.0", "USB 3.2")),
        Column("pack", "text", lambda rng: f"{rng.choice((5, 10, 20, 50))} PCS"),
        Column("filament", "text", one_of("PLA/ABS 1.75", "PLA/ABS 2.85", "PET/G 1.75")),
        Column("tariff", "text", lambda rng: f"0{digits(rng, 3)}.{rng.choice(('00', '10', '90'))}"),
        Column("customs code", "text", lambda rng: digits(rng, 8)),
        Column("collected", "text", lambda rng: f"{rng.randint(1, 28):02}.{rng.randint(1, 12):02}"),
        Column("supplier part", "text", lambda rng: digits(rng, 5)),
        Column("UPC", "text", lambda rng: digits(rng, 12)),
        Column("short EAN", "text", lambda rng: digits(rng, 8)),
        Column("phone", "text", lambda rng: f"{rng.choice(('+', '00'))}49{digits(rng, 8)}"),
        Column("Telefon", "text", lambda rng: f"0{digits(rng, 3)} {digits(rng, 6)}"),
        Column("firmware version", "text", lambda rng: f"{rng.randint(1, 4)}.{rng.choice((0, 1, 2, 9, 10, 11, 20))}"),
        Column("build", "text", lambda rng: f"{rng.randint(1, 4)}.{rng.randint(0, 20)}.{rng.randint(0, 9)}"),
        Column("x", "text", lambda rng: f"{rng.randint(1, 9)}.{rng.randint(0, 9)}"),
        Column("postcode", "text", lambda rng: digits(rng, 5)),
        Column("edition", "text", lambda rng: str(rng.randint(1985, 2026))),
        Column("dimensions", "text", lambda rng: f"{rng.randint(10, 90)} x {rng.randint(10, 90)} cm"),
        Column("frame size", "text", one_of("3/8", "1 3/8", "1/2", "10-12", "5/8")),
        Column("size", "text", one_of("S", "M", "L", "XL", "10-12", "38", "40")),
        Column("shoe", "text", one_of("38", "38.5", "39", "40.5", "41")),
        Column("ring", "text", one_of("52", "54", "56.5", "60")),
        Column("cell size", "text", one_of("4.9", "5.1", "5.3", "5.40")),
        Column("name", "text", one_of("Crème jar", "Smoker™", "Größe L hive", "Tetra® pack", "Słoik", "Cedar hive")),
        Column("title", "text", one_of('1 3/8" frame - wired', "Wax & comb", "Feeder (2 l)", "Queen's cage")),
        Column("html", "text", one_of("<p>Salt & oil</p>", "<b>Dry - firm</b>\n\n<i>End</i>", "<p>5€</p>")),
        Column("remark", "text", one_of("call us", "on request", "tried", "-", "n/a", "5")),
        Column("volume", "text", one_of("250 ml", "1000 ml", "1 l", "0.5 l", "750 mL")),
        Column("power", "text", one_of("20W", "100 W", "1500 W", "75 W")),
        Column("strength", "text", one_of("100 mg", "200 mg", "5 g")),
        Column("contents", "text", lambda rng: f"{rng.choice((100, 250, 500))} g"),
        Column("capacity", "text", lambda rng: f"{rng.randint(1, 9)},{rng.randint(1, 9)} l"),
        Column("ingredients", "text", several("honey wax pollen propolis oil", ", ")),
        Column("tags", "text", several("gift bulk winter spring organic", ",")),
        Column("sizes", "text", several("10 20 30 40", ",")),
        Column(
            "related", "text", lambda rng: "|".join(f"QA-{rng.randint(100, 120)}" for _ in range(rng.randint(1, 3)))
        ),
        Column("category", "text", one_of("Hives > Parts", "Hives", "Honey", "Wax > Sheets", "Clothing > Suits")),
        Column("categories", "text", one_of("Hives > Parts|Offers", "Honey|Gifts", "Wax > Sheets|Offers|Hives")),
        Column("breadcrumb", "text", one_of("Shop/Hives/Parts", "Shop/Honey", "Shop/Wax")),
        Column("images", "text", several("img/a.jpg img/b.jpg img/c.png", ";", 3)),
        Column("link", "text", lambda rng: f"https://quillfern.example/p/{rng.randint(100, 999)}"),
        Column("contact", "text", one_of("Bees@quillfern.example", "wax@quillfern.example", "Shop@quillfern.example")),
        Column("grade", "text", one_of("A", "B", "1", "2+")),
        Column("barcode", "text", lambda rng: f"{rng.choice(('0', '2', '5'))}{digits(rng, 12)}"),
        Column("mpn", "text", lambda rng: f"{rng.choice(('MAR', 'DEC', 'QF'))}-{rng.randint(1, 12):02}"),
        Column("lot", "text", lambda rng: f"{rng.randint(10, 99)}E{rng.randint(2, 9)}"),
        Column("attributes", "json", lambda rng: json.dumps({"b": rng.randint(1, 9), "a": [1.0, "x"]})),
        Column("options", "json", lambda rng: f'{{"colour":"{rng.choice(("red", "blue"))}","n":{rng.randint(1, 5)}}}'),
        Column("shown", "flag", one_of("yes", "no")),
        Column("active", "flag", one_of("true", "false")),
        Column("created", "date", day("%Y-%m-%d")),
        Column("valid from", "date", day("%d/%m/%Y")),
        Column("changed", "date", day("%m/%d/%Y")),
        Column("Datum", "date", day("%d.%m.%Y")),
        Column("seen", "date", day("%Y-%m-%dT%H:%M:%SZ")),
        Column("stock", "number", lambda rng: str(rng.choice((0, rng.randint(1, 30), rng.randint(100, 990))))),
        Column("price", "number", money),
        Column("sale price", "number", money, 0.5),
        Column("weight", "number", number(notation, 3, 20)),
        Column("cost", "number", number(notation, 2, 300)),
        Column("list price", "text", lambda rng: f"{rng.randint(3, 90)}.{rng.choice((490, 990, 900))}"),
    ]


# What a hand does to one cell.


def one_letter(rng: random.Random, text: str) -> str:
    place = rng.randrange(len(text) + 1)
    letter = rng.choice("0123456789" if text[place - 1 : place].isdigit() else "aäxŁ5 .,-/")
    return rng.choice((text[:place] + letter + text[place:], text[:place] + letter + text[place + 1 :]))


def left_out(rng: random.Random, text: str) -> str:
    place = rng.randrange(len(text))
    return text[:place] + text[place + 1 :] or text


def exchanged(rng: random.Random, text: str) -> str:
    parts = re.split(r"([,;|/ .>-]+)", text)
    words = parts[::2]
    rng.shuffle(words)
    parts[::2] = words
    return "".join(parts)


def zeros(rng: random.Random, text: str) -> str:
    return rng.choice((f"0{text}", f"{text}0", text.lstrip("0") or text, re.sub(r"0(?=\D*$)", "", text), f"{text}.0"))


def sign(rng: random.Random, text: str) -> str:
    return rng.choice((f"+{text}", f"-{text}", text.replace("+", ""), text.replace("-", "–")))


UNITS = (("ml", "l"), ("mL", "ml"), (" W", "W"), ("W", " W"), ("mg", "Mg"), (" g", "g"), (" g", " kg"), ("cm", "mm"))


def unit(rng: random.Random, text: str) -> str:
    found = [pair for pair in UNITS if pair[0] in text]
    return text.replace(*rng.choice(found)) if found else text + " kg"


def currency(rng: random.Random, text: str) -> str:
    bare = re.sub(r"[€$]|\s*EUR$", "", text)
    return rng.choice(("{} EUR", "{} USD", "€{}", "${}", "{}", "£{}")).format(bare)


def case(rng: random.Random, text: str) -> str:
    return rng.choice((text.upper(), text.lower(), text.title(), text.swapcase()))


def notation(rng: random.Random, text: str) -> str:
    return rng.choice((text.replace(".", ","), text.replace(",", "."), text.translate({46: 44, 44: 46}), f"1.{text}"))


def another_number(rng: random.Random, text: str) -> str:
    """Another number typed in some notation."""
    value = rng.choice((rng.randrange(1, 400), rng.randrange(1, 9999)))
    return (
        rng.choice(("{:,.2f}", "{:.2f}", "{:.3f}", "{:.1f}", "{:.0f}", "{:,.0f}"))
        .format(value / rng.choice((1, 7, 10)))
        .translate(rng.choice(({}, {}, {46: 44, 44: 46})))
    )


def another_day(rng: random.Random, text: str) -> str:
    return day(rng.choice(("%d/%m/%Y", "%m/%d/%Y", "%Y-%m-%d", "%d.%m.%Y", "%m-%d-%Y", "%Y-%m-%dT%H:%M:%S")))(rng)


def from_elsewhere(rng: random.Random, text: str) -> str:
    return rng.choice(("on", "ano", "tak", "x", "1", "ISO 912", "2.999", "1.234,50", "Tetra Pack", "PLN 5", "12-May"))


HANDS = (one_letter, left_out, exchanged, zeros, sign, unit, currency, case, notation, another_number, another_day,
         from_elsewhere)  # fmt: skip
ANYWHERE = HANDS[:9]


def mutated(rng: random.Random, column: Column, text: str) -> str:
    """The text as a hand may change it: another text, not blank."""
    for _ in range(40):
        hands = HANDS if column.sort in {"number", "date", "flag"} or rng.random() < 0.1 else ANYWHERE
        new = rng.choice(hands)(rng, text or "5")
        if new != text and new.strip():
            return new
    return text + "x"


# The reviewed equalities, written a second time: what a program does to a cell by itself (docs/equal.md).

WHITE = "\t\n\x0b\x0c\r \x85\xa0\u1680\u2028\u2029\u202f\u205f\u3000" + "".join(map(chr, range(0x2000, 0x200B)))


def folded(text: str) -> str:
    return unicodedata.normalize("NFC", text.replace("\r\n", "\n").replace("\r", "\n")).strip(WHITE)


def readings(text: str) -> set[Decimal]:
    """All that a text of digits and marks may mean."""
    text = text.strip(WHITE).replace("−", "-")
    found = set()
    for point, others in ((".", ", '’\u00a0\u202f"), (",", ". '’\u00a0\u202f")):
        group = f"[{re.escape(others)}]"
        if re.fullmatch(
            rf"[+-]?(?:[0-9]+|[1-9][0-9]{{0,2}}(?:{group}[0-9]{{3}})+)?(?:{re.escape(point)}[0-9]+)?", text
        ) and re.search("[0-9]", text):
            found.add(Decimal(re.sub(group, "", text).replace(point, ".")))
    return found


def apart(text: str) -> tuple[str, str, str]:
    """An amount's currency before it, its number, and its currency after it."""
    match = re.fullmatch(r"([+-]?)([€$£]?\s*)([0-9.,+-]*)(\s*(?:EUR|USD|€|\$|£)?)", text.strip(WHITE))
    return (match[2], match[1] + match[3], match[4]) if match else ("", text.strip(WHITE), "")


def day_of(text: str, form: str) -> date | None:
    forms = {"%Y-%m-%d": r"(?P<Y>\d{4})-(?P<m>\d{2})-(?P<d>\d{2})"}
    pattern = forms.get(form) or re.escape(form).replace("%Y", r"(?P<Y>\d{4})").replace(
        "%m", r"(?P<m>\d{1,2})"
    ).replace("%d", r"(?P<d>\d{1,2})")
    match = re.fullmatch(pattern + r"(?:[T ]00:00(?::00)?)?", text.strip(WHITE))
    try:
        return date(int(match["Y"]), int(match["m"]), int(match["d"])) if match else None
    except ValueError:
        return None


FORM_OF = {"created": "%Y-%m-%d", "valid from": "%d/%m/%Y", "changed": "%m/%d/%Y", "Datum": "%d.%m.%Y"}


def days_of(column: Column, text: str) -> set[date | None]:
    """The days that a cell of a column may mean; one day where its form leaves no other."""
    own = day_of(text, FORM_OF.get(column.heading, "%Y-%m-%d")) or day_of(text, "%Y-%m-%d")
    if own:
        return {own}
    return {
        day_of(text, form)
        for form in ("%d.%m.%Y", "%d/%m/%Y", "%m/%d/%Y", "%d-%m-%Y", "%m-%d-%Y", "%Y/%m/%d", "%Y.%m.%d")
    } - {None}


def rewritten(column: Column, before: str, after: str) -> bool:
    """Whether a program by itself may have made the one of the other."""
    return folded(before) == folded(after) or BY_PROGRAMS.get(column.sort, _never)(column, before, after)


def _never(column: Column, before: str, after: str) -> bool:
    return False


def _json_rewritten(column: Column, before: str, after: str) -> bool:
    one, other = (re.sub(r'("(?:[^"\\]|\\.)*")|\s+', r"\1", text) for text in (before, after))
    return one == other


def _flag_rewritten(column: Column, before: str, after: str) -> bool:
    return before.strip(WHITE).casefold() == after.strip(WHITE).casefold()


def _date_rewritten(column: Column, before: str, after: str) -> bool:
    days = days_of(column, before)
    return len(days) == 1 and days == days_of(column, after)


def money(parts: tuple[str, str, str]) -> str:
    """The currency of an amount, on whichever side of it."""
    return parts[0].strip(WHITE) + parts[2].strip(WHITE)


def _number_rewritten(column: Column, before: str, after: str) -> bool:
    one, other = apart(before), apart(after)
    if money(other) not in {"", money(one)} or re.match(r"\+|-?0[0-9]", other[1]):
        return False
    was, now = readings(one[1]), readings(other[1])
    return len(now) == 1 and now <= was


BY_PROGRAMS = {
    "json": _json_rewritten,
    "flag": _flag_rewritten,
    "date": _date_rewritten,
    "number": _number_rewritten,
}


def as_typed(column: Column, before: str, typed: str, sent: str) -> bool:
    """Whether what is sent is the text as typed, or the same value in live's whole writing."""
    if sent == typed:
        return True
    if column.sort == "flag":
        return sent.casefold() == typed.strip(WHITE).casefold()
    if column.sort == "date":
        days = days_of(column, typed)
        return len(days) == 1 and days_of(column, sent) == days
    if column.sort == "number":
        one, other, old = apart(typed), apart(sent), apart(before)
        old = old if before else other if (one[0], one[2]) == ("", "") else one
        around = (other[0], other[2]) == (old[0], old[2])
        meant = readings(one[1])
        return around and len(meant) == 1 and meant <= readings(other[1]) and money(one) in {"", money(old)}
    return sent == typed.strip(WHITE)  # the space around a choice or a category is nobody's
