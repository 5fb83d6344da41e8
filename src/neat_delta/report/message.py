"""A preview as Markdown (CommonMark, with the tables of GitHub's), for a message or a ticket."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, get_args

from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.choices import Verdict
from neat_delta.core.review.cells import item_views
from neat_delta.report.facts import (
    Grid,
    clash_grid,
    clashing_items_said,
    field_grid,
    held_lines,
    impact_grid,
    meanwhile_said,
    records_grid,
    records_said,
    suggestions_grid,
    totals_grid,
)
from neat_delta.report.text import count, display_text, finding_count, key_text, signed

if TYPE_CHECKING:
    from neat_delta.core.review.facts import Facts
    from neat_delta.core.review.view import View

__all__ = ["message"]

LONGEST = 60
MOST_ROWS = MOST_TOTALS = 12


def message(facts: Facts, seen: View) -> str:
    """The figures and the items of `seen`, as Markdown; what comes from files is escaped."""
    header, counts = facts.changes.header, facts.changes.header.counts
    items = ", ".join(f"{number:,} {word}" for word, number in _items(facts))
    parts = [
        f"**{safe(header.sheet.path)}** against **{safe(header.live.path)}**: {items or 'nothing differs'}",
        f"{count(counts.cells, 'changed cell')}: {counts.cells - counts.held_cells:,} to send, "
        f"{counts.held_cells:,} held.",
    ]
    clashes, clashing = clash_grid(facts.changes, MOST_ROWS)
    if clashing:
        parts.append(f"{count(clashing, 'cell')} changed in the sheet and in the store:")
        parts.append(_table(clashes))
        parts += [f"and {clashing - MOST_ROWS:,} more."] if clashing > MOST_ROWS else []
    parts += [f"{safe(line)}." for line in clashing_items_said(facts.changes)]
    parts += [f"Meanwhile in the store: {safe(meanwhile_said(facts.changes))}."] if header.base else []
    lines = [
        f"- {safe(held.reason)}: {_escaped(held.much)} ({safe(held.way_out)})"
        for held in held_lines(facts.changes.reasons())
    ]
    parts += ["Held:\n\n" + "\n".join(lines)] if lines else []
    summaries = [
        f"- {safe(summary.name)}"
        + (f" in {safe(listed(summary.fields))}" if summary.fields else "")
        + (f", {finding_count(summary)}" if summary.cells else "")
        + f": {summary.done}"
        for summary in header.findings
    ]
    parts += ["Found:\n\n" + "\n".join(summaries)] if summaries else []
    if facts.figures:
        parts.append(_table(field_grid(facts.figures)))
    groups = facts.effect.groups
    if groups and groups[0].items:
        unit = f" in {safe(groups[0].currency)}" if groups[0].currency else ""
        parts += [f"Impact{unit}; the margin is price less cost, of one of each:"]
        parts.append(_table(impact_grid(groups[: MOST_ROWS + 1], facts.by)))
    if facts.effect.suggestions:
        parts += ["Prices that would keep the margin:", _table(suggestions_grid(facts.effect.suggestions))]
    if facts.totals:
        parts.append(_table(totals_grid(facts.totals, MOST_TOTALS)))
    if facts.records is not None:
        parts.append(f"{records_said(facts.records)}.")
        if facts.records.touched:
            parts.append(_table(records_grid(facts.records)))
    if seen.names:
        parts.append(_table(_changed(facts, seen)))
    if len(seen.names) < seen.matches:
        parts.append(f"{len(seen.names):,} of {count(seen.matches, 'item')} shown.")
    return "\n\n".join(parts) + "\n"


def safe(text: str) -> str:
    """A text that Markdown takes for nothing but itself."""
    text = display_text(text)
    return _escaped(text if len(text) <= LONGEST else text[: LONGEST - 1] + "…")


def _escaped(text: str) -> str:
    return re.sub(r"([\\`*_{}\[\]<>#|~!@&])", r"\\\1", text)


def _items(facts: Facts) -> list[tuple[str, int]]:
    counts = facts.changes.header.counts
    counted = [(word, getattr(counts, word)) for word in get_args(Verdict)]
    return [(word, number) for word, number in [*counted, ("the same", counts.same)] if number]


def _changed(facts: Facts, seen: View) -> Grid:
    """The items, a row for each changed cell."""
    rows = []
    for item in item_views(facts, seen):
        key = key_text(item.key)
        for cell in item.cells:
            step = " ".join((signed(cell.step), signed(cell.per_cent, " %"))).strip()
            reason = cell.held or item.held
            old = "" if cell.before is None else display_text(cell.before)
            change = f"held: {reason}" if reason else step
            rows.append([key, item.name, cell.field, old, display_text(cell.after), change])
        if not item.cells:
            rows.append([key, item.name, "", "", "", f"{item.verdict}, held: {item.held}"])
    return Grid(["item", "name", "field", "before", "after", "change"], 6, rows)


def _table(grid: Grid) -> str:
    """A small table in Markdown."""
    lines = [grid.headings, ["---" if at < grid.words else "---:" for at in range(len(grid.headings))]]
    rows = [[safe(text) if text.strip() else "" for text in row] for row in grid.rows]
    return "\n".join(f"| {' | '.join(row)} |" for row in [*lines, *rows])
