"""What no export shows of a store, and is asked: four questions about its importer, and what is assumed till then."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import msgspec

from neat_delta.core.base.model.store import Store

__all__ = ["QUESTIONS", "Question", "answered"]


@dataclass(frozen=True, slots=True)
class Question:
    """A question about a setting of `[importer]`: what is asked, what each answer means, and which one is assumed."""

    setting: str
    asks: str
    answers: Mapping[str, str]
    assumed: str
    until_then: str

    def meaning(self, value: str, *, known: bool) -> str:
        """What stands beside an answer in a store file: what it means, and what else it could be where nobody knows.

        >>> QUESTIONS[0].meaning("clear", known=True)
        'a blank cell empties the field'
        """
        if known:
            return self.answers[value]
        others = "; ".join(f'"{other}": {words}' for other, words in self.answers.items() if other != value)
        return f"assumed, as nobody said it: {self.answers[value]}. {others}"


QUESTIONS = (
    Question(
        "blanks",
        "What does the store's import make of a blank cell?",
        {"clear": "a blank cell empties the field", "skip": "a blank cell leaves the field as it is"},
        "clear",
        "a blank cell empties the field; files for that do no harm where it is left as it is",
    ),
    Question(
        "takes",
        "Does it take new items, or only changes of those that are there?",
        {
            "both": "new items and changes in one file",
            "updates": "only changes",
            "additions": "only new items",
        },
        "both",
        "it takes both; new items are held anyway until you send them",
    ),
    Question(
        "missing",
        "What becomes of items that a file does not have?",
        {"kept": "an item that a file lacks stays as it is", "deleted": "an item that a file lacks is deleted"},
        "kept",
        "they stay; ask before the first import, as a file of a few items would empty a store that deletes",
    ),
    Question(
        "form",
        "In what form does it want the files?",
        {
            "delimited": "delimited text (CSV)",
            "xlsx": "a workbook",
            "json": "JSON",
            "json lines": "JSON Lines",
            "xml": "XML",
        },
        "delimited",
        "delimited text, written as the export where that is text, too",
    ),
)
"""In the order in which they are asked."""


def answered(store: Store, answers: Mapping[str, str]) -> Store:
    """The store with the answers to some of the questions, by their settings; the others as is assumed.

    >>> answered(Store(), {"blanks": "skip"}).importer.blanks
    'skip'
    """
    values = {question.setting: answers.get(question.setting, question.assumed) for question in QUESTIONS}
    return msgspec.structs.replace(store, importer=msgspec.structs.replace(store.importer, **values))
