"""How settings are said, in words or as values of Python, and read: one form for each sort of setting."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import Any, Protocol, get_args

from neat_delta.core.base.model.accept import Accept
from neat_delta.core.base.model.store import Blanks, Clash
from neat_delta.core.base.support.errors import SettingError
from neat_delta.core.base.support.nearest import did_you_mean
from neat_delta.core.base.support.words import must_be_one_of

__all__ = ["Accepts", "Choices", "Commas", "Flag", "Form", "Names", "Number", "OneOf", "Pairs", "Word", "seconds_of"]


class Form(Protocol):
    """How a setting is said: whether an option for it is `repeated`, how what is said is `read` (ValueError: what is
    wrong with it), and what holds where two say something of it (`over`: the first counts before the other).
    """

    @property
    def repeated(self) -> bool:
        """Whether an option of this form may stand several times."""

    def read(self, value: Any) -> Any:  # noqa: ANN401 - words or a value
        """The setting's value, from words or from a value that is one already; ValueError says what is wrong."""

    def over(self, first: Any, other: Any) -> Any:  # noqa: ANN401 - two values of the setting
        """What holds where both are said."""

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""


def _texts(words: Sequence[str] = ()) -> dict[str, Any]:
    """One text or several, of these words if there are any, as a JSON Schema."""
    one_text: dict[str, Any] = {"enum": list(words)} if words else {"type": "string"}
    return {"anyOf": [one_text, {"type": "array", "items": one_text}]}


@dataclass(frozen=True, slots=True)
class Flag:
    """Yes or no.

    >>> Flag().over(first=False, other=True)
    True
    """

    repeated: bool = False

    def read(self, value: Any) -> bool:  # noqa: ANN401
        """True or False; ValueError for anything else."""
        if not isinstance(value, bool):
            raise ValueError(f"{value!r} is neither True nor False.")
        return value

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return {"type": "boolean"}

    def over(self, first: bool, other: bool) -> bool:
        """Whether one of them says so."""
        return first or other


@dataclass(frozen=True, slots=True)
class Word:
    """One text, or nothing.

    >>> Word().over(None, "last")
    'last'
    """

    repeated: bool = False

    def read(self, value: Any) -> str | None:  # noqa: ANN401
        """The text, or None; ValueError for anything else."""
        if value is not None and not isinstance(value, str):
            raise ValueError(f"{value!r} is no text.")
        return value

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return {"type": "string"}

    def over(self, first: str | None, other: str | None) -> str | None:
        """The first that says anything."""
        return other if first is None else first


@dataclass(frozen=True, slots=True)
class OneOf:
    """One of some words, or nothing.

    >>> OneOf("percent", "amount").read("percent")
    'percent'
    """

    words: tuple[str, ...]
    repeated: bool = False

    def __init__(self, *words: str) -> None:
        object.__setattr__(self, "words", words)
        object.__setattr__(self, "repeated", False)

    def read(self, value: Any) -> str | None:  # noqa: ANN401
        """The word, or None; ValueError for any other, with the nearest."""
        if value is not None:
            _must_be_one_of(value, self.words)
        return value  # type: ignore[no-any-return]

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return {"enum": list(self.words)}

    def over(self, first: str | None, other: str | None) -> str | None:
        """The first that is said."""
        return other if first is None else first


def _must_be_one_of(word: object, words: Sequence[str]) -> None:
    try:
        must_be_one_of("", word, words)
    except SettingError as error:
        raise ValueError(error.what) from None


@dataclass(frozen=True, slots=True)
class Number:
    """A whole number that is not below the `least`.

    >>> Number(1).read("8")
    8
    """

    least: int
    repeated: bool = False

    def read(self, value: Any) -> int:  # noqa: ANN401
        """The number, from digits or as it is; ValueError for anything else."""
        number = int(value) if isinstance(value, str) and value.isdecimal() else value
        if not isinstance(number, int) or isinstance(number, bool) or number < self.least:
            raise ValueError(f"{value!r} is no whole number from {self.least} on.")
        return number

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return {"type": "integer", "minimum": self.least}

    def over(self, first: int, other: int) -> int:
        """The first."""
        del other
        return first


@dataclass(frozen=True, slots=True)
class Names:
    """Names, each by itself, of these `words` if there are any; with `adds` those of both count where two say some.

    >>> Names().read("sku"), Names(adds=True).over(("price",), ("tags",))
    (('sku',), ('tags', 'price'))
    """

    adds: bool = False
    words: tuple[str, ...] = ()
    repeated: bool = True

    def read(self, value: Any) -> tuple[str, ...]:  # noqa: ANN401
        """The names; ValueError where one is no text."""
        names = (value,) if isinstance(value, str) else tuple(value)
        for name in names:
            if not isinstance(name, str):
                raise ValueError(f"{name!r} is no name.")
            if self.words:
                _must_be_one_of(name, self.words)
        return names

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return _texts(self.words)

    def over(self, first: tuple[str, ...], other: tuple[str, ...]) -> tuple[str, ...]:
        """Both, or the first that says any."""
        return (*other, *first) if self.adds else first or other


@dataclass(frozen=True, slots=True)
class Commas:
    """Names in one text, with commas between.

    >>> Commas().read("price, stock")
    ('price', 'stock')
    """

    repeated: bool = False

    def read(self, value: Any) -> tuple[str, ...]:  # noqa: ANN401
        """The names; ValueError where one is blank."""
        if value is None:
            return ()
        names = tuple(word.strip() for word in (value.split(",") if isinstance(value, str) else value))
        if not all(names):
            raise ValueError("name fields with commas between them: price,stock.")
        return names

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return _texts()

    def over(self, first: tuple[str, ...], other: tuple[str, ...]) -> tuple[str, ...]:
        """The first that says any."""
        return first or other


@dataclass(frozen=True, slots=True)
class Pairs:
    """Names and what each stands for: NAME=TEXT, or a dictionary. `named` says what they are, `example` shows one;
    the name ends at the `last` mark, not at the first, where it may hold one; it may be `blank` after the mark; a name
    may be said `once`, and may be `quoted`, as a field is in an expression.

    >>> Pairs("FIELD=TEXT", "brand=Gustwell").read(["brand=Gustwell"])
    {'brand': 'Gustwell'}
    """

    named: str
    example: str
    last: bool = False
    blank: bool = False
    once: bool = False
    quoted: bool = False
    right: Callable[[str], bool] = bool
    repeated: bool = True

    def read(self, value: Any) -> dict[str, str]:  # noqa: ANN401
        """What each name stands for; ValueError where that is not said."""
        if isinstance(value, Mapping):
            return {str(name): str(text) for name, text in value.items()}
        pairs: dict[str, str] = {}
        for word in (value,) if isinstance(value, str) else value:
            name, mark, text = word.rpartition("=") if self.last else word.partition("=")
            name = name.strip().strip('"') if self.quoted else name.strip()
            if not mark or not self.right(name) or not (text.strip() or self.blank):
                raise ValueError(f"{word!r} is not {self.named}, such as {self.example}.")
            if self.once and name in pairs:
                raise ValueError(f'"{name}" is set twice.')
            pairs[name] = text.strip()
        return pairs

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return {"type": "object", "additionalProperties": {"type": ["string", "number", "boolean"]}}

    def over(self, first: dict[str, str], other: dict[str, str]) -> dict[str, str]:
        """What either says; of one name what the first does."""
        return {**other, **first}


@dataclass(frozen=True, slots=True)
class Choices:
    """A choice for every field (under the name ""), and others for single ones: in words `clear:sale_price`, or with
    the name in front `stock=add`.

    >>> Choices(Blanks, ":", "hold, clear or keep").read(["keep", "clear:sale_price"])
    {'': 'keep', 'sale_price': 'clear'}
    """

    values: Any
    mark: str
    wrong: str
    first: bool = False
    single: tuple[str, ...] = ()
    repeated: bool = True

    def read(self, value: Any) -> dict[str, str]:  # noqa: ANN401
        """The choice of each field; ValueError where it is none of `values`. Of what is said twice the last counts."""
        if isinstance(value, Mapping):
            pairs = [(str(name), choice, self.mark) for name, choice in value.items()]
        else:
            pairs = [self._parted(word) for word in ((value,) if isinstance(value, str) else value)]
        choices: dict[str, str] = {}
        for name, choice, mark in pairs:
            if choice not in get_args(self.values) or (mark and not name and not isinstance(value, Mapping)):
                raise ValueError(f"{self._words(name, choice)!r} is not {self.wrong}")
            if choice in self.single and not name:
                raise ValueError(f"{choice!r} is not {self.wrong}")
            choices[name] = choice
        return choices

    def _parted(self, word: str) -> tuple[str, str, str]:
        """The field ("" for all), the choice, and the mark between them as it stands there."""
        if self.first:
            name, mark, choice = word.rpartition(self.mark)
            return name, choice, mark
        choice, mark, name = word.partition(self.mark)
        return name, choice, mark

    def _words(self, name: str, choice: object) -> str:
        if not name:
            return str(choice)
        return f"{name}{self.mark}{choice}" if self.first else f"{choice}{self.mark}{name}"

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return {"anyOf": [{"enum": list(get_args(self.values))}, {"type": "object"}, _texts()]}

    def over(self, first: dict[str, str], other: dict[str, str]) -> dict[str, str]:
        """What is said first of every field counts before what the other says of a single one."""
        return first if "" in first else {**other, **first}


BLANKS = Choices(Blanks, ":", "hold, clear or keep, with :FIELD after it if it is only for one: clear:sale_price.")
CLASHES = Choices(
    Clash, "=", "hold, sheet or live, or one of these or add for one field: stock=add.", first=True, single=("add",)
)


@dataclass(frozen=True, slots=True)
class Accepts:
    """What is let through: a source of findings or a check by its name, with :FIELD or :SKU after it.

    >>> Accepts().read("slip:price")
    (Accept(check='slip', which='price'),)
    """

    repeated: bool = True

    def read(self, value: Any) -> tuple[Accept, ...]:  # noqa: ANN401
        """What is let through; ValueError where nothing is called so, with what comes nearest."""
        listed: Sequence[str | Accept] = (value,) if isinstance(value, str | Accept) else tuple(value)
        if not listed:
            return ()
        from neat_delta.core.base.model.accept import ACCEPTED_SOURCES
        from neat_delta.core.compare.checks import CHECKS

        accepts, names = [], [*ACCEPTED_SOURCES, *CHECKS]
        for accepted in listed:
            check, mark, which = str(accepted).partition(":")
            if check not in names or (mark and not which):
                raise ValueError(
                    f"{str(accepted)!r} is not {', '.join(ACCEPTED_SOURCES)} or a check, with :FIELD or :SKU after it "
                    f"if it is only for one.{did_you_mean(check, names)}"
                )
            accepts.append(Accept(check, which or None))
        return tuple(accepts)

    def schema(self) -> dict[str, Any]:
        """How it is written in a file, as a JSON Schema."""
        return _texts()

    def over(self, first: tuple[Accept, ...], other: tuple[Accept, ...]) -> tuple[Accept, ...]:
        """What either lets through."""
        return (*other, *first)


UNITS = {"m": 60, "h": 3600, "d": 86400, "w": 604800}


def seconds_of(age: str) -> float:
    """An age or a time as a person says it, in seconds; ValueError where it is none.

    >>> seconds_of("2d"), seconds_of("90m")
    (172800.0, 5400.0)
    """
    number, unit = age[:-1], age[-1:]
    if unit not in UNITS or not number.isdecimal() or not int(number):
        raise ValueError(f"{age!r} is no age. Say 90m, 12h, 2d or 1w.")
    return float(int(number) * UNITS[unit])
