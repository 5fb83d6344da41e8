"""The policy: what a person lets through, asks for, or leaves as it is, for all kinds of findings alike."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, get_args

from neat_delta.core.base.model.accept import ACCEPTED_SOURCES, Accept
from neat_delta.core.base.model.store import Blanks, Clash
from neat_delta.core.base.support.words import must_be_one_of
from neat_delta.core.compare.checks import CHECKS, KIND_CHECKS

if TYPE_CHECKING:
    from neat_delta.core.base.model.store import LevelName, Store

__all__ = ["Policy", "levels_of", "standing_exceptions"]


@dataclass(frozen=True, slots=True)
class Policy:
    """What is let through although something was found, and what is asked for.

    `accept` lets findings through; `blanks` says what an emptied cell means (None: nothing is said, so it is held), and
    `blanks_in` so of single fields; `clash` says what becomes of cells that the store changed, too, and `clash_in` so
    of single fields.
    `with_new` sends new items and `with_gone` removes missing ones; `repair` puts live's value back where only the
    writing was damaged; `near_keys` takes keys that nearly are live's; `new_values` are the fields that may take values
    that live does not have.

    >>> Policy(blanks_in={"sale_price": "clear"}).blanks_of("sale_price")
    'clear'
    """

    accept: Sequence[Accept] = ()
    blanks: Blanks | None = None
    blanks_in: Mapping[str, Blanks] = field(default_factory=dict)
    clash: Clash | None = None
    clash_in: Mapping[str, Clash] = field(default_factory=dict)
    with_new: bool = False
    with_gone: bool = False
    repair: bool = False
    near_keys: bool = False
    new_values: Collection[str] = ()

    def __post_init__(self) -> None:
        for setting, kind in (("blanks", Blanks), ("clash", Clash)):
            words = (None, *get_args(kind))
            for value in (getattr(self, setting), *getattr(self, setting + "_in").values()):
                must_be_one_of(setting, value, words)
        names = (*ACCEPTED_SOURCES, *CHECKS)
        for acceptance in self.accept:
            must_be_one_of("accept", acceptance.check, names)

    def blanks_of(self, name: str) -> Blanks:
        """What an emptied cell means in this field."""
        return self.blanks_in.get(name, self.blanks or "hold")

    def clash_of(self, name: str | None) -> Clash:
        """What becomes of this field where the store changed it, too; without a name, of a whole item."""
        every: Clash = "hold" if self.clash is None or (self.clash == "add" and name is None) else self.clash
        return every if name is None else self.clash_in.get(name, every)


def levels_of(store: Store, *, learned: bool) -> dict[str, LevelName]:
    """The level of each check: the store file's, or its own. Checks that rest on kinds hold nothing where these were
    only learned.
    """
    return {
        name: store.checks.get(check.name, "warn" if learned and name in KIND_CHECKS else check.level)
        for name, check in CHECKS.items()
    }


def standing_exceptions(store: Store, today: str | None) -> list[Accept]:
    """The exceptions of the store file that have not ended before `today` (ISO 8601; None: none has)."""
    standing = (exception for exception in store.exceptions if not today or (exception.until or today) >= today)
    return [Accept(exception.check, exception.which) for exception in standing]
