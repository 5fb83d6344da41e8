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
import polars as pl
from jinja2 import Environment, StrictUndefined

from neat_delta.core.kinds.number import NUMBER_KINDS
from neat_delta.core.review.figures import Differences
from neat_delta.core.review.view import View, first
from neat_delta.report.charts import as_svg, charts
from neat_delta.report.facts import field_grid, held_lines, impact_grid, records_grid, records_said, suggestions_grid
from neat_delta.report.settings import as_options
from neat_delta.report.text import key_text, shown, signed

if TYPE_CHECKING:
    from neat_delta.core.model.changeset import ChangeSet
    from neat_delta.core.review.facts import Facts

__all__ = ["MOST", "page"]

MOST = 100_000
"""So many items stand in a page; more would make it too large to open."""

GROUPS, ROWS = 40, 200
"""So many groups, and so many suggested prices and records, stand in the figures on top."""

VERDICTS = ("changed", "recoded", "new", "gone")


def page(facts: Facts) -> bytes:
    """The page of a preview, UTF-8. The same facts give the same bytes."""
    header, view = facts.changes.header, first(facts.view, MOST)
    script, style = (
        files("neat_delta.report").joinpath(f"assets/page.{kind}").read_text("utf-8") for kind in ("js", "css")
    )
    environment = Environment(autoescape=True, undefined=StrictUndefined)
    environment.filters.update(number=lambda number: f"{number:,}", said=as_options)
    template = environment.from_string(files("neat_delta.report").joinpath("assets/page.html").read_text("utf-8"))
    groups = facts.effect.groups
    drawn = charts(facts.changes, facts.live, facts.category)
    content = template.render(
        header=header,
        live=shown(PurePath(header.live.path).name),
        sheet="standard input" if header.sheet.path == "-" else shown(PurePath(header.sheet.path).name),
        held=held_lines(facts.changes.reasons()),
        fields=field_grid(facts.figures),
        impact=impact_grid(groups[: GROUPS + 1] if groups and groups[0].items else [], facts.by, wide=True),
        more_groups=max(0, len(groups) - GROUPS - 1),
        currency=groups[0].currency if groups else None,
        suggestions=suggestions_grid(facts.effect.suggestions[:ROWS]),
        more_suggestions=max(0, len(facts.effect.suggestions) - ROWS),
        records=records_grid(facts.records, ROWS) if facts.records else None,
        more_records=max(0, len(facts.records.touched) - ROWS) if facts.records else 0,
        records_said=records_said(facts.records) if facts.records else "",
        charts=[{"title": chart.title, "says": chart.says, "svg": as_svg(chart)} for chart in drawn],
        data=base64.b64encode(gzip.compress(msgspec.json.encode(_items(facts, view)), 6, mtime=0)).decode(),
        shown=len(view.names),
        found=facts.view.found,
        left_out=len(view.names) < facts.view.found,
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
    changes, header = view.changes, view.changes.header
    numbers = {field.field for field in facts.figures if field.number}
    differences = Differences(header, changes.cells)
    settings = header.settings
    fields = [
        {
            "name": name,
            "number": name in numbers or (name in settings and settings[name].kind in NUMBER_KINDS),
            "list": (settings[name].separator or ",") if name in settings and settings[name].kind == "list" else "",
        }
        for name in header.fields
    ]
    places = {name: place for place, name in enumerate(header.fields)}
    reasons, about = _Numbers(), _flags(changes)
    flags: list[list[str]] = []

    def numbered(number: int, field: str | None) -> list[int]:
        found = about.get((number, field), [])
        flags.extend(found)
        return list(range(len(flags) - len(found), len(flags)))

    items = []
    for number, (item, name) in enumerate(zip(changes.iter_items(), view.names, strict=True)):
        held = {one.field: one.reason for one in item.held}
        cells = []
        for field, (before, after) in item.cells.items():
            step = share = ""
            if field in numbers and before is not None and after:
                step = signed(differences.step(field, before, after))
                share = signed(differences.per_cent(field, before, after), " %")
            cells.append(
                [places[field], before, after or "", step, share, reasons.of(held.get(field)), numbered(number, field)]
            )
        row = item.row
        items.append(
            [
                key_text(item.key),
                name,
                VERDICTS.index(item.verdict),
                row.live or 0,
                row.sheet or 0,
                reasons.of(held.get(None)),
                cells,
                numbered(number, None),
            ]
        )
    return {"fields": fields, "verdicts": VERDICTS, "reasons": list(reasons), "flags": flags, "items": items}


def _flags(changes: ChangeSet) -> dict[tuple[int, str | None], list[list[str]]]:
    """What the checks and the damage say, by item and field: check, level, what, what was done."""
    about: dict[tuple[int, str | None], list[list[str]]] = {}
    flags = changes.flags.filter(pl.col("item").is_not_null())
    for item, field, *said in flags.select("item", "field", "check", "level", "what", "done").iter_rows():
        about.setdefault((item, field), []).append(said)
    damaged = changes.damaged.filter((pl.col("done") != "repaired") & pl.col("item").is_not_null())
    for item, field, damage, sheet, done in damaged.select("item", "field", "damage", "sheet", "done").iter_rows():
        what = f"{damage}: the sheet has {shown(sheet)}"
        about.setdefault((item, field), []).append(["damage", "stop", what, done])
    return about
