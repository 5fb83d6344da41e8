"""What a preview tells, gathered once for every form it takes: the page, the text for messages, facts for a program."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import TYPE_CHECKING

from neat_delta.core.base.kinds.base import EXACT
from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.reasons import LEFT_STORE, STILL_CHANGED, sort_of
from neat_delta.core.base.support.series import not_null, scattered
from neat_delta.core.review.clashes import clash_count, clashing_cells, clashing_items
from neat_delta.report.text import count, display_text, key_text, signed

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet, HeldCount
    from neat_delta.core.review.figures import FieldFigures
    from neat_delta.core.review.impact import Impact, Suggestion
    from neat_delta.core.review.records import Records
    from neat_delta.core.review.totals import Total

__all__ = [
    "CLASHING_ITEMS",
    "WAY_OUT",
    "Grid",
    "HeldLine",
    "changed_grid",
    "clash_grid",
    "clashing_items_said",
    "closing_said",
    "field_grid",
    "held_lines",
    "impact_grid",
    "meanwhile_said",
    "moving_cells",
    "records_grid",
    "records_said",
    "sent_said",
    "suggestions_grid",
    "totals_grid",
]

WAY_OUT = {
    "clash": "the store changed it, too; --clash sheet, live or stock=add, or answer it in the page",
    "stale": "live has moved on since; --base FILE names the export it was cut from, or --accept stale sends all of it",
    "swapped": "name the older export with --base and the newer as LIVE, or --accept swapped if they are right",
    "damage": "nobody typed it; --repair where it is certain, mend the sheet, or --accept damage:SKU",
    "slip": "moved by accident; mend the sheet, or --accept slip:FIELD",
    "rule": "a rule could not work it out; preview --explain SKU shows why, --accept rule sends what stands there",
    "list": "the list's description does not say what it means; say it there, or --accept list",
    "sheet": "held in one of several sheets, or two of them differ; let it through there, or say overlap",
    "check": "a check stopped it; mend the sheet, or --accept CHECK:SKU",
    "code": "the code change cannot be, or waits for one; mend the list of codes",
    "incomplete": "what it needs is held: a required cell, its parent; see to that first",
    "follows": "computed from a cell that is held; let that through, and it goes along",
    "emptied": "blank in the sheet; --blanks clear or keep decides, for all or as clear:FIELD",
    "new": "only in the sheet; --with-new sends them",
    "gone": "only in live, and the sheet is whole; --with-gone removes them",
    "answered store": "the reviewer left it as the store has it",
    "not named": "name its code, too, or leave out --skus",
    "not signed off": "the reviewer did not answer yes; answer it in the workbook",
    "answered no": "the reviewer said no",
}
"""What each reason for holding means, and how to have it otherwise."""

MEANING = {
    "clash": "changed in the sheet and in the store: choose among the items whose value it is to be",
    "stale": "the store has moved on since the sheet was cut: it has to be compared with the older export, too",
    "swapped": "the two exports seem to have changed places",
    "damage": "a spreadsheet damaged them: the sheet has to be mended",
    "slip": "a hand seems to have slipped: the sheet has to be mended, or somebody says that it is meant",
    "rule": "a rule could not work them out",
    "list": "the list does not say what they mean",
    "sheet": "held in one of the sheets, or two of them say different things",
    "check": "a check stopped them: correct them, or somebody says that they are meant",
    "code": "the code cannot change as it is asked for",
    "incomplete": "something that they need is held itself",
    "follows": "computed from something that is held",
    "emptied": "emptied in the sheet: is the field to be empty in the shop?",
    "new": "the shop does not have them yet: are they to be added?",
    "gone": "the sheet does not have them any more: are they to go?",
    "answered store": "left as the store has them",
    "not named": "not asked for",
    "not signed off": "nobody said yes to them yet",
    "answered no": "somebody said no to them",
}
"""What each reason for holding means to a colleague who looks at the page."""


CLASHING_ITEMS = {
    LEFT_STORE: "changed in the sheet and gone from the store",
    STILL_CHANGED: "gone from the sheet and changed in the store",
}
"""What is said of items that clash as a whole, by the reason."""

FIRST = ("clash", "stale", "swapped")
"""What is told of first: it is about what somebody else did."""


def moving_cells(changes: ChangeSet) -> dict[str, int]:
    """How many cells to be sent are of fields that the store changes by itself, by field, where the sheet seems to be a
    copy of a whole export (half of live's rows, and half of its fields) and nobody said of which: those cells may be
    what stood there when it was cut.
    """
    header = changes.header
    fields = len(header.fields) + len(header.untouched)
    named = header.base is not None or header.sheet.origin is not None or header.matched_by or header.rules
    if named or header.sheet.rows * 2 < header.live.rows or len(header.pairs) * 2 < fields or len(header.pairs) < WIDE:
        return {}
    moving = [name for name, field in header.settings.items() if field.moving]
    sent = changes.sent()["field"].cast(str)
    return {name: number for name in moving if (number := int((sent == name).sum()))}


WIDE = 5
"""A sheet of fewer columns is narrow: a list of stock, whose numbers are meant."""


@dataclass(frozen=True, slots=True)
class HeldLine:
    """How much is held for one sort of reason, the way to have it otherwise, and what it means to a colleague."""

    reason: str
    much: str
    way_out: str
    meaning: str = ""


def held_lines(reasons: Sequence[HeldCount]) -> list[HeldLine]:
    """Reasons for a person: those of one sort together."""
    groups: dict[str, list[HeldCount]] = {}
    for held in sorted(reasons, key=lambda counted_reason: sort_of(counted_reason.reason) not in FIRST):
        groups.setdefault(sort_of(held.reason), []).append(held)
    lines = []
    for reason, of_this_sort in groups.items():
        counted = (
            (sum(of_reason.items for of_reason in of_this_sort), "item"),
            (sum(of_reason.cells for of_reason in of_this_sort), "cell"),
        )
        much = ", ".join(count(number, unit) for number, unit in counted if number)
        if reason == "emptied":
            much += f" of {listed([display_text(name) for of_reason in of_this_sort for name in of_reason.fields], 3)}"
        lines.append(HeldLine(reason, much, WAY_OUT.get(reason, ""), MEANING.get(reason, "")))
    return lines


@dataclass(frozen=True, slots=True)
class Grid:
    """A small table of texts: its headings, how many of its columns are words (the others are numbers), its rows."""

    headings: list[str]
    words: int
    rows: list[list[str]]


def clash_grid(changes: ChangeSet, most: int | None) -> tuple[Grid, int]:
    """The first cells that clash: what stood there, what the sheet says, what the store says now; and how many there
    are.
    """
    rows = []
    for item, field, *texts in clashing_cells(changes, most).iter_rows():
        key = key_text(changes.keys.row(item, named=True))
        rows.append([key, display_text(field), *(display_text(text) if text else "" for text in texts)])
    return Grid(["item", "field", "base", "sheet", "store", "both"], 6, rows), clash_count(changes)


def clashing_items_said(changes: ChangeSet) -> list[str]:
    """The items that one side changed and the other gave up, a line for each way."""
    lines, items = [], clashing_items(changes)
    for reason, words in CLASHING_ITEMS.items():
        items_held = items.filter(items["held"] == reason)["item"]
        if items_held.len():
            keys = [key_text(key) for key in changes.keys[items_held.head(MOST_NAMED)].rows(named=True)]
            more = f" and {items_held.len() - len(keys):,} more" if items_held.len() > len(keys) else ""
            lines.append(f"{count(items_held.len(), 'item')} {words}: {', '.join(keys)}{more}")
    return lines


MOST_NAMED = 10
"""So many items are named in a line."""


def meanwhile_said(changes: ChangeSet) -> str:
    """What the store changed since the base and stays as it is, field by field; and what both changed alike."""
    header, counts = changes.header, changes.header.counts
    fields = [f"{display_text(name)} {number:,}" for name, number in header.meanwhile.items()]
    fields += [f"{count(counts.departed, 'item')} gone"] if counts.departed else []
    parts = [listed(fields, 8) or "nothing that the sheet has"]
    parts += [f"{count(counts.already, 'cell')} changed to the same in both"] if counts.already else []
    parts += [f"{count(counts.merged, 'list')} with both changes"] if counts.merged else []
    return "; ".join(parts)


def sent_said(changes: ChangeSet) -> str:
    """How much of a change set is to be sent: cells, items that have none, and items that go away."""
    cells, by_themselves = changes.sent(), changes.items["verdict"][changes.sent_without_cells()]
    leave = int((by_themselves == "gone").sum())
    bare = by_themselves.len() - leave
    sent = count(cells["item"].n_unique() + bare, "item")
    parts = [f"{count(cells.height, 'cell')} of {sent} to send" if cells.height else f"{sent} to send"]
    parts = parts if cells.height or bare else []
    parts += [f"{count(leave, 'item')} to remove"] if leave else []
    return ", ".join(parts or ["Nothing to send"])


def closing_said(changes: ChangeSet) -> str:
    """All of a change set in one line: how much is to be sent, held and set aside; what is neither is as it was.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> closing_said(compare(live, as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["10.50", ""]}, "sheet")))
    '1 cell of 1 item to send, 1 held, nothing lost'
    """
    counts, items = changes.header.counts, changes.items
    parts = [sent_said(changes)]
    waiting = items["verdict"].filter(scattered(not_null(items["held"]), changes.cells["item"], False))
    held_cells = [f"{counts.held_cells:,} held"] if counts.held_cells else []
    removals = int((waiting == "gone").sum())
    for number, unit in ((waiting.len() - removals, "item"), (removals, "removal")):
        held_cells += [f"{count(number, unit)} held"] if number else []
    parts += held_cells or ["nothing held"]
    aside = counts.set_aside_live + counts.set_aside_sheet
    parts += [f"{count(aside, 'row')} set aside"] if aside else []
    return ", ".join([*parts, "nothing lost"])


def field_grid(figures: Sequence[FieldFigures]) -> Grid:
    """Per field how many cells are to be sent, and for numbers how far up and down; and how many are held."""
    rows = [
        [
            display_text(of_field.field),
            *map(_many, (of_field.sent, of_field.up)),
            signed(of_field.most_up),
            _many(of_field.down),
            signed(of_field.most_down),
            _many(of_field.held),
        ]
        for of_field in figures
    ]
    return Grid(["field", "to send", "up", "at most", "down", "at most", "held"], 1, rows)


def changed_grid(figures: Sequence[FieldFigures]) -> Grid:
    """Per field how many cells are to be sent and how many are held; for numbers how many of those to be sent go up and
    down, and the largest of these changes.
    """
    rows = []
    for of_field in figures:
        steps = [step for step in (of_field.most_up, of_field.most_down) if step is not None]
        counted = map(_many, (of_field.sent, of_field.held, of_field.up, of_field.down))
        rows.append([display_text(of_field.field), *counted, signed(max(steps, key=abs, default=None))])
    return Grid(["field", "to send", "held", "up", "down", "largest"], 1, rows)


def impact_grid(groups: Sequence[Impact], by: str | None, *, wide: bool = False) -> Grid:
    """What a round does to prices, margins and stock by group; `wide` has the median step and the units, too."""
    rows = []
    for impact in groups:
        old, new = impact.before, impact.after
        share = ""
        if old.margin_per_cent is not None and new.margin_per_cent is not None:
            share = f"{_plain(old.margin_per_cent)} → {_plain(new.margin_per_cent)}"
        rows.append(
            [
                "all" if impact.group is None else display_text(impact.group),
                *map(_many, (impact.items, impact.up, impact.down)),
                *([signed(impact.median)] if wide else []),
                signed(new.margin - old.margin),
                share,
                *([signed(new.units - old.units)] if wide else []),
                signed(new.stock_value - old.stock_value),
            ]
        )
    step, units = (["median step"], ["units"]) if wide else ([], [])
    return Grid([by or "", "items", "up", "down", *step, "margin", "per cent", *units, "stock value"], 1, rows)


def suggestions_grid(prices: Sequence[Suggestion]) -> Grid:
    """The prices that would keep the margin where the cost rose."""
    rows = [
        [
            key_text(suggestion.key),
            display_text(suggestion.name),
            *map(_amount, (suggestion.cost_before, suggestion.cost, suggestion.price, suggestion.suggested)),
        ]
        for suggestion in prices
    ]
    return Grid(["item", "name", "cost before", "cost", "price", "keeps it"], 2, rows)


def totals_grid(sums: Sequence[Total], most: int | None) -> Grid:
    """What items come to over their locations, before and after."""
    rows = [
        [
            display_text(total.item),
            _count(total.before),
            _count(total.after),
            signed(_short(total.after - total.before)),
        ]
        for total in sums[:most]
    ]
    return Grid(["total of", "before", "after", "difference"], 1, rows)


def _short(number: Decimal) -> Decimal:
    return number.normalize(EXACT) if number else Decimal(0)


def _count(number: Decimal) -> str:
    return _plain(_short(number))


def records_grid(touched_records: Records, most: int | None = None) -> Grid:
    """The records that a changed cost touches, the first so many of them."""
    rows = [
        [
            f"{record.row:,}",
            key_text(record.key),
            ", ".join(display_text(text) for text in record.about.values() if text.strip()),
            _amount(record.price),
            f"{_amount(record.cost_before)} → {_amount(record.cost)}",
            " → ".join("" if share is None else _plain(share) for share in (record.per_cent_before, record.per_cent)),
            "" if record.restores is None else _amount(record.restores),
        ]
        for record in touched_records.touched[:most]
    ]
    return Grid(["row", "item", "for", "price", "cost", "margin %", "restores it"], 3, rows)


def records_said(touched_records: Records) -> str:
    """Where every record went, in a sentence."""
    lost = sum(record.margin < 0 for record in touched_records.touched)
    parts = [f"{count(len(touched_records.touched), 'record')} of {touched_records.rows:,} touched by a changed cost"]
    parts += [f"{lost:,} of them below cost"] if lost else []
    rest = (
        (touched_records.untouched, "not touched"),
        (touched_records.unknown, "not in live"),
        (touched_records.unpriced, "without a price"),
    )
    return "; ".join(parts + [f"{number:,} {what}" for number, what in rest if number])


def _many(number: int) -> str:
    return f"{number:,}" if number else ""


def _plain(number: Decimal) -> str:
    """A number with a real minus."""
    return f"{number:,f}".replace("-", "−")


CENT = Decimal("0.01")


def _amount(number: Decimal) -> str:
    """An amount, with two decimals at least."""
    places = -int(number.as_tuple().exponent)
    return _plain(number if places > 2 else number.quantize(CENT, context=EXACT))
