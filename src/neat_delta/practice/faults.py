"""Faults on demand, the same each time for one seed: rows refused, values altered, rows that are said to be done and
are not, an import that stops in the middle, a store that is busy, and stock that is sold meanwhile.
"""

from __future__ import annotations

import random
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from decimal import ROUND_HALF_UP, Decimal, InvalidOperation

from neat_delta.core.base.kinds.base import EXACT
from neat_delta.core.base.query.parse import Condition, condition
from neat_delta.core.base.support.errors import CatalogueError, ConditionError

__all__ = ["NO_FAULTS", "Faults", "Refusal", "faults_of"]


@dataclass(frozen=True, slots=True)
class Refusal:
    """What the store refuses: an item by a text of its key, or each for which a condition holds as it would be."""

    words: str
    condition: Condition | None


@dataclass(frozen=True, slots=True)
class Faults:
    """What goes wrong: `refuse` these rows; `rounded` these fields to so many decimals; `cut` these to so many
    characters; `dropped` this share of the rows, which are said to be done; `slow` for so many seconds a row;
    `fail_after` so many rows, once; `busy`: every import is put off once; `sold` so many pieces a minute. `seed` makes
    the drawn ones what they are.
    """

    refuse: Sequence[Refusal] = ()
    rounded: dict[str, int] = field(default_factory=dict)
    cut: dict[str, int] = field(default_factory=dict)
    dropped: Decimal = Decimal(0)
    slow: float = 0
    fail_after: int | None = None
    busy: bool = False
    sold: int = 0
    seed: int = 0

    @property
    def alters(self) -> bool:
        """Whether the store keeps some texts otherwise than they were sent."""
        return bool(self.rounded or self.cut)

    def drops(self, number: int, row: int) -> bool:
        """Whether this row of this import is said to be done, and is not."""
        if not self.dropped:
            return False
        return random.Random(f"{self.seed} {number} {row}").random() * 100 < self.dropped

    def stored(self, name: str, text: str, decimal_mark: str) -> str:
        """What the store keeps of a text in this field.

        >>> Faults(rounded={"price": 0}).stored("price", "9.90", ".")
        '10'
        """
        if name in self.rounded:
            try:
                number = Decimal(text.strip().replace(decimal_mark, "."))
                least = Decimal(1).scaleb(-self.rounded[name])
                return f"{number.quantize(least, ROUND_HALF_UP, EXACT):f}".replace(".", decimal_mark)
            except InvalidOperation:
                return text
        return text[: self.cut[name]] if name in self.cut else text


NO_FAULTS = Faults()


def faults_of(
    *,
    refuse: Sequence[str] = (),
    rounded: Sequence[str] = (),
    cut: Sequence[str] = (),
    drop: str | None = None,
    slow: float = 0,
    fail_after: int | None = None,
    busy: bool = False,
    sell: str | None = None,
    seed: int = 0,
    keys: Sequence[str] = (),
    fields: Sequence[str] = (),
) -> Faults:
    """Faults as they are said on a command line: "price:0", "1%", "5/min". `keys` are all texts of keys, so that one
    of them is known from a condition; `fields` the catalogue's. CatalogueError for what means nothing.

    >>> faults_of(rounded=["price:0"], drop="1%", fields=["sku", "price"]).rounded
    {'price': 0}
    """

    def amounts_by_field(words: Sequence[str], what: str) -> dict[str, int]:
        out = {}
        for word in words:
            name, mark, number = word.rpartition(":")
            if not mark or name not in fields or not number.isdecimal():
                raise CatalogueError(f"‹{what}›: {word!r} is not FIELD:NUMBER with a field of the catalogue: price:0.")
            out[name] = int(number)
        return out

    known = set(keys)
    refusals = []
    for word in refuse:
        if word in known or not re.search(r"[\s<>=!'(]", word):  # a code, which may be new
            refusals.append(Refusal(word, None))
            continue
        try:
            refusals.append(Refusal(word, condition(word)))
        except ConditionError as error:
            raise CatalogueError(f"‹refuse›: {word!r} is no code, and no condition: {error}") from None
    share = Decimal(0)
    if drop is not None:
        if not re.fullmatch(r"[0-9]+(\.[0-9]+)?%", drop) or Decimal(drop[:-1]) > 100:
            raise CatalogueError(f"‹drop›: {drop!r} is no share of the rows, such as 1%.")
        share = Decimal(drop[:-1])
    sold = 0
    if sell is not None:
        rate = re.fullmatch(r"([0-9]{1,5})/min", sell)
        if rate is None:
            raise CatalogueError(f"‹sell›: {sell!r} is no number of pieces a minute, such as 5/min, up to 99999.")
        sold = int(rate[1])
    return Faults(
        refusals,
        amounts_by_field(rounded, "round"),
        amounts_by_field(cut, "cut"),
        share,
        slow,
        fail_after,
        busy,
        sold,
        seed,
    )
