"""What a store's own report of an import looks like, as the store file says it, and what a row of it came to."""

from __future__ import annotations

from collections.abc import Collection
from typing import Annotated, Literal, get_args

import msgspec
from msgspec import Meta

__all__ = ["RESULT_STATUSES", "ResultStatus", "ResultsForm", "RowStatus", "message_heading"]

RowStatus = Literal["done", "warned", "skipped", "refused"]
"""What a report says of a row: done, done with a warning, passed over, refused."""

ResultStatus = Literal["done", "warned", "skipped", "refused", "not mentioned"]
"""What a report says of what was sent."""

RESULT_STATUSES: tuple[ResultStatus, ...] = get_args(ResultStatus)

Word = Annotated[str, Meta(min_length=1)]


def message_heading(headings: Collection[str]) -> str:
    """What the column of the store's messages is called in a sheet to be mended: as no field, so that `compare` leaves
    it alone.

    >>> message_heading(["sku", "price"]), message_heading(["sku", "what the store said"])
    ('what the store said', 'what the store said now')
    """
    heading = "what the store said"
    while heading in headings:
        heading += " now"
    return heading


class ResultsForm(msgspec.Struct, frozen=True, forbid_unknown_fields=True, omit_defaults=True):
    """What the store's reports look like. A row is known by its key, or by its number in the update file.

    Without a `status`, a row with a message is refused, and one without is done.
    """

    key: Annotated[list[Word], Meta(description="The report's headings for the key, one for each of its fields.")] = []
    row: Annotated[Word | None, Meta(description="The heading of the row's number in the update file.")] = None
    first_row: Annotated[
        int, Meta(ge=0, description="The number of the first row under the headings: 2 as a spreadsheet counts, or 1.")
    ] = 2
    file: Annotated[Word | None, Meta(description="The heading of the update file's name.")] = None
    status: Annotated[Word | None, Meta(description="The heading of what became of a row.")] = None
    done: Annotated[list[Word], Meta(description="The words of a row that was imported.")] = []
    warned: Annotated[list[Word], Meta(description="The words of a row that was imported with a warning.")] = []
    skipped: Annotated[list[Word], Meta(description="The words of a row that was passed over.")] = []
    refused: Annotated[list[Word], Meta(description="The words of a row that was refused.")] = []
    message: Annotated[Word | None, Meta(description="The heading of the message.")] = None
    ids: Annotated[list[Word], Meta(description="The headings of the store's own numbers of an item.")] = []
    only_refused: Annotated[
        bool, Meta(description="Whether a report lists only what was refused: what it does not mention was done.")
    ] = False
    line: Annotated[
        Word | None,
        Meta(description="Of a log of one line a row: a regular expression; the names of its groups are the headings."),
    ] = None

    @property
    def words(self) -> dict[str, RowStatus]:
        """What each word of the status means, without case and outer white space."""
        return {word.strip().casefold(): status for status in get_args(RowStatus) for word in getattr(self, status)}
