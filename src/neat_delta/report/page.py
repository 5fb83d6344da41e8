"""A preview as one page of HTML: figures and charts on top, then every item, drawn as it comes into sight.

The page fetches nothing and runs one script of its own. The items are data to that script, which sets them as text;
what stands in the page itself is escaped by Jinja.
"""

from __future__ import annotations

import base64
import gzip
import hashlib
from importlib.resources import files
from pathlib import PurePath
from typing import TYPE_CHECKING, Any

import msgspec
from jinja2 import Environment, StrictUndefined

from neat_delta.core.base.kinds.number import NUMBER_KINDS
from neat_delta.core.review.cells import Remark, item_views
from neat_delta.core.review.view import View, first
from neat_delta.report.charts import Chart, as_svg
from neat_delta.report.facts import (
    clash_grid,
    clashing_items_said,
    field_grid,
    held_lines,
    impact_grid,
    meanwhile_said,
    records_grid,
    records_said,
    sent_said,
    suggestions_grid,
    totals_grid,
)
from neat_delta.report.settings import as_options
from neat_delta.report.text import display_text, key_text, signed

if TYPE_CHECKING:
    from collections.abc import Sequence

    from neat_delta.core.review.facts import Facts

__all__ = ["MOST", "page"]

MOST = 100_000
"""So many items stand in a page; more would make it too large to open."""

GROUPS, ROWS = 40, 200
"""So many groups, and so many suggested prices and records, stand in the figures on top."""

VERDICTS = ("changed", "recoded", "new", "gone")


def page(facts: Facts, drawn: Sequence[Chart], digest: str, fields: Sequence[str] = ()) -> bytes:
    """The page of a preview with its charts, UTF-8. The same facts give the same bytes. `digest` is that of the change
    set's file, to which answers are bound; `fields` are the only ones that are shown and answered (none: all).
    """
    header, view = facts.changes.header, first(facts.view, MOST)
    script, style = (
        files("neat_delta.report").joinpath(f"assets/page.{kind}").read_text("utf-8") for kind in ("js", "css")
    )
    environment = Environment(autoescape=True, undefined=StrictUndefined)
    environment.filters.update(number=lambda number: f"{number:,}", said=as_options)
    items = _items(facts, view) | {"digest": digest, "key": header.key, "asked": list(fields) or None}
    template = environment.from_string(files("neat_delta.report").joinpath("assets/page.html").read_text("utf-8"))
    groups = facts.effect.groups
    clashes, clashing = clash_grid(facts.changes, ROWS)
    content = template.render(
        header=header,
        live=display_text(PurePath(header.live.path).name),
        sheet="standard input" if header.sheet.path == "-" else display_text(PurePath(header.sheet.path).name),
        clashes=clashes,
        more_clashes=max(0, clashing - ROWS),
        clashing_items=clashing_items_said(facts.changes),
        meanwhile=meanwhile_said(facts.changes),
        held=held_lines(facts.changes.reasons()),
        sent=sent_said(facts.changes),
        fields=field_grid(facts.figures),
        impact=impact_grid(groups[: GROUPS + 1] if groups and groups[0].items else [], facts.by, wide=True),
        more_groups=max(0, len(groups) - GROUPS - 1),
        currency=groups[0].currency if groups else None,
        suggestions=suggestions_grid(facts.effect.suggestions[:ROWS]),
        more_suggestions=max(0, len(facts.effect.suggestions) - ROWS),
        totals=totals_grid(facts.totals, ROWS) if facts.totals else None,
        more_totals=max(0, len(facts.totals) - ROWS),
        records=records_grid(facts.records, ROWS) if facts.records else None,
        more_records=max(0, len(facts.records.touched) - ROWS) if facts.records else 0,
        records_said=records_said(facts.records) if facts.records else "",
        charts=[{"title": chart.title, "says": chart.says, "svg": as_svg(chart)} for chart in drawn],
        data=base64.b64encode(gzip.compress(msgspec.json.encode(items), 6, mtime=0)).decode(),
        shown=len(view.names),
        found=facts.view.matches,
        left_out=len(view.names) < facts.view.matches,
        style=style,
        script=script,
        script_digest=base64.b64encode(hashlib.sha256(script.encode()).digest()).decode(),
    )
    return content.encode()


class _Numbers(dict[str, int]):
    """Texts by number, in the order in which they come up."""

    def __missing__(self, text: str) -> int:
        self[text] = len(self)
        return self[text]

    def of(self, text: str | None) -> int:
        return -1 if text is None else self[text]


def _items(facts: Facts, view: View) -> dict[str, Any]:
    """The items as the page's script reads them: lists instead of objects, and texts that repeat by number."""
    header = view.changes.header
    number_fields = {field.field for field in facts.figures if field.number}
    settings = header.settings
    fields = [
        {
            "name": name,
            "number": name in number_fields or (name in settings and settings[name].kind in NUMBER_KINDS),
            "list": (settings[name].separator or ",") if name in settings and settings[name].kind == "list" else "",
        }
        for name in header.fields
    ]
    places = {name: place for place, name in enumerate(header.fields)}
    reasons, flags = _Numbers(), list[list[str]]()

    def numbered(remarks: Sequence[Remark]) -> list[int]:
        for remark in remarks:
            what = remark.what if remark.sheet is None else f"{remark.what}: the sheet has {display_text(remark.sheet)}"
            flags.append([remark.check, remark.level, what, remark.done])
        return list(range(len(flags) - len(remarks), len(flags)))

    items = []
    for item, number in zip(item_views(facts, view), view.item_numbers, strict=True):
        cells = [
            [
                places[cell.field],
                cell.before,
                cell.after,
                signed(cell.step),
                signed(cell.per_cent, " %"),
                reasons.of(cell.held),
                numbered(cell.remarks),
                *([[cell.clash.base, cell.clash.both]] if cell.clash and not item.held else []),
            ]
            for cell in item.cells
        ]
        items.append(
            [
                key_text(item.key),
                item.name,
                VERDICTS.index(item.verdict),
                item.row.live or 0,
                item.row.sheet or 0,
                reasons.of(item.held),
                cells,
                numbered(item.remarks),
                number + 2,
                list(item.key.values()),
            ]
        )
    return {"fields": fields, "verdicts": VERDICTS, "reasons": list(reasons), "flags": flags, "items": items}
