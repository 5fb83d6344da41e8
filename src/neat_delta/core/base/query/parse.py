"""Parsing: SQL text to a tree, and where in it something is wrong. What the tree means is `compile`'s."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import ParseError, SqlglotError

from neat_delta.core.base.support.errors import ConditionError

__all__ = ["Condition", "Expression", "condition", "error_at", "expression", "parameters"]


@dataclass(frozen=True, slots=True)
class Condition:
    """A condition that was parsed: its text and its tree."""

    text: str
    tree: exp.Expr


@dataclass(frozen=True, slots=True)
class Expression:
    """An expression that was parsed, which gives a value: its text and its tree."""

    text: str
    tree: exp.Expr


def condition(text: str) -> Condition:
    """A condition, such as `price > 100 AND category LIKE 'Hives%'`. ConditionError where it is none.

    >>> str(condition("price > 100 AND category LIKE 'Hives%'").tree.key)
    'and'
    """
    return Condition(text, _parsed(text, "condition", "price > 100 AND stock = 0"))


def expression(text: str) -> Expression:
    """An expression, such as `ROUND(cost * 1.35, 2)`. ConditionError where it is none.

    >>> str(expression("ROUND(cost * 1.35, 2)").tree.key)
    'round'
    """
    return Expression(text, _parsed(text, "expression", "ROUND(cost * 1.35, 2)"))


def parameters(tree: exp.Expr) -> list[str]:
    """The names of the values that stand in for it, such as `:rate`, each once and in their order.

    >>> parameters(expression("cost * :rate + :rate").tree)
    ['rate']
    """
    return list(dict.fromkeys(str(placeholder.this) for placeholder in tree.find_all(exp.Placeholder)))


def _parsed(text: str, what: str, example: str) -> exp.Expr:
    try:
        return sqlglot.condition(text)
    except ParseError as error:
        place = error.errors[0] if error.errors else {}
        if not place:
            raise ConditionError(f"The {what} is empty. Write one such as: {example}") from None
        word, start = str(place["highlight"]), int(place["col"]) - len(str(place["highlight"]))
        why = f"the {what} ends too early" if not text[start + len(word) :].strip() else "this was not expected here"
        if re.fullmatch(r".*\d", text[:start].rstrip()) and word == ",":
            why = "numbers have a decimal point here: 19.90"
        elif word == "%" and re.fullmatch(r".*\d", text[:start].rstrip()):
            why = "a share is a number here: for 5 % more write price * 1.05"
        elif word in {"]", "["} or "`" in text[max(0, start - 1) : start + 1]:
            why = "names with spaces go in double quotes"
        raise _error(word, start, why, what) from None
    except SqlglotError:
        start = next((n for n, mark in enumerate(text) if mark in "'\""), 0)
        raise _error(text[start:][:20], start, "a quote is not closed, here or later", what) from None
    except RecursionError:
        raise ConditionError(f"The {what} is nested too deeply. Make several of it.") from None
    except ValueError:  # sqlglot itself stumbles over a few texts
        raise ConditionError(f"The {what} cannot be read: {text}") from None


def error_at(node: exp.Expr, why: str, source: str, what: str, skip: int = 0) -> ConditionError:
    """An error at the first word of a part of the tree; `skip` letters stand before what a person wrote."""
    places: Sequence[exp.Expr] = [part for part in node.walk() if "start" in part.meta]
    if not places:
        return ConditionError(f'In the {what}, at "{node.sql()}": {why}.')
    first = min(places, key=lambda part: int(part.meta["start"]))
    start = int(first.meta["start"])
    return _error(source[start : int(first.meta["end"]) + 1], start - skip, why, what)


def _error(word: str, start: int, why: str, what: str) -> ConditionError:
    return ConditionError(f'In the {what}, at "{word}" (character {start + 1}): {why}.')
