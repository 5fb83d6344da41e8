"""Rules: how values are computed. A rules file as plain values; what they do is `core.rules`' work."""

from __future__ import annotations

from typing import Annotated

import msgspec
from msgspec import Meta

from neat_delta.core.base.model.layout import Notation
from neat_delta.core.base.model.store import Field, KindName

__all__ = ["Lookup", "Rule", "RuleInput", "RuleText", "Rules"]

Text = Annotated[str, Meta(min_length=1)]


class Rule(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """One rule: the fields that it sets, each to an expression, in the items for which `where` holds."""

    name: Annotated[Text, Meta(description="What the rule is called, once in the file.")]
    set: Annotated[dict[str, Text], Meta(min_length=1, description="The fields that it sets, each with an expression.")]
    where: Annotated[Text | None, Meta(description="The condition for which it does; none: in every item.")] = None
    why: Annotated[str | None, Meta(description="Why, for whoever reads it.")] = None
    over: Annotated[Text | list[Text], Meta(description="The earlier rules whose values this one may replace.")] = (
        msgspec.field(default_factory=list)
    )

    @property
    def replaces(self) -> list[str]:
        """The names of the rules whose values this one may replace.

        >>> Rule("ends", {"price": "ENDS_AT(price, 0.90)"}, over="retail").replaces
        ['retail']
        """
        return [self.over] if isinstance(self.over, str) else self.over


class Lookup(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A table beside the items, such as rates by currency, of which each item has exactly one row."""

    file: Annotated[Text, Meta(description="The file, from the rules file's folder.")]
    by: Annotated[
        dict[str, Text],
        Meta(
            min_length=1, description="The headings by which its rows are known, each with the expression of an item."
        ),
    ]
    kinds: Annotated[dict[str, KindName], Meta(description="The kinds of its columns that are more than text.")] = (
        msgspec.field(default_factory=dict)
    )


class Rules(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """The rules of a file in their order, the values that they name as `:name`, and the tables they look up in."""

    version: Annotated[int, Meta(description="The version of this form: 1.")] = 1
    let: Annotated[dict[str, str | int], Meta(description="What :name stands for in expressions.")] = msgspec.field(
        default_factory=dict
    )
    table: Annotated[dict[str, Lookup], Meta(description="Tables to look up in, by name.")] = msgspec.field(
        default_factory=dict
    )
    rule: Annotated[list[Rule], Meta(description="The rules, each seeing what the ones before it made.")] = (
        msgspec.field(default_factory=list)
    )


class RuleInput(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """A column that a rule reads, as its expression names it; its kind, and how it is written where not as in live."""

    name: str
    kind: Field = Field()
    writing: Notation | None = None


class RuleText(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What a rule said of one field, as a change set keeps it, so that each value can be shown to come about again.

    Without an `expression` the value came about in another way, which `why` says (a word's meaning, a unit). `reads`
    are the fields that the value rests on: those that the expression reads, the condition, and what is looked up by.
    """

    rule: str
    field: str
    expression: str | None = None
    where: str | None = None
    why: str | None = None
    inputs: list[RuleInput] = msgspec.field(default_factory=list)
    values: dict[str, str] = msgspec.field(default_factory=dict)
    reads: list[str] = msgspec.field(default_factory=list)
