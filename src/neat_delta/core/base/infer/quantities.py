"""What headings say of the numbers under them."""

from __future__ import annotations

import re
from typing import Literal

__all__ = ["numbers_under"]

MONEY = re.compile(
    r"price|cost(?!um)|rrp|msrp|amount|fee(?!d)|deposit|preis|kosten|prix|co[uû]t|precio|coste|prezzo|costo|pre[çc]o|prijs|"
    r"pris|cena|cen[ay]|ár|цена|стоимость",
    re.IGNORECASE,
)
"""What headings of money have in them."""

CODE_WORDS = (
    "code codes no nr num number nummer numer sku art article artikel item part mpn model ref reference id "
    "ids key ean upc gtin isbn asin barcode serial hs hts cn taric tariff customs zoll zolltarif cas zip "
    "postcode plz postal post phone tel telephone telefon mobile fax vat ustid version ver release revision "
    "rev ral pantone din iso norm standard date day days month year birthday datum tag jahr ring size groesse "
    "größe taille talla rozmiar colour color farbe batch lot bin shelf location row position pos group class "
    "grade level"
)
"""Words in headings of what is no number, though it is made of digits."""

QUANTITY = re.compile(
    r"stock|qty|quantit|inventory|on.?hand|count(?!r)|weight|width|height|length|depth|volume|area|diameter|amount|order|pack|"
    r"rate|percent|share|tax$|margin|discount|rating|points|bestand|menge|gewicht|breite|höhe|länge|tiefe|inhalt|lager|"
    r"stan|ilość|waga|szerokość|wysokość|długość|poids|quantit|largeur|hauteur|longueur|peso|cantidad|ancho|alto|largo|"
    r"larghezza|altezza|lunghezza|giacenza|voorraad|gewicht|hoeveelheid|lager|vikt|vægt|sklad|množství|hmotnost|"
    r"остаток|вес|количество",
    re.IGNORECASE,
)
"""What headings of quantities have in them."""

WORD = re.compile(r"[^\W\d_]+")


def numbers_under(name: str) -> Literal["money", "quantity", "code", ""]:
    """What a heading says of the numbers under it: that they are `money`, a `quantity`, a `code`, or nothing."""
    words = [word.lower() for word in WORD.findall(re.sub(r"([a-z])([A-Z])", r"\1 \2", name))]
    if MONEY.search(name):
        return "money"
    if not {*CODE_WORDS.split()}.isdisjoint(words):
        return "code"
    return "quantity" if QUANTITY.search(name) else ""
