"""What was found wrong, in cells and in whole catalogues."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING

import polars as pl
from rich.cells import cell_len
from rich.console import Console
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from neat_delta.core.base.model.catalogue import Catalogue, column_letter, listed
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.header import FindingSummary, Header
from neat_delta.core.base.model.reasons import SLIP
from neat_delta.report.settings import as_options
from neat_delta.report.text import count, display_text, finding_count, key_text

if TYPE_CHECKING:
    pass
from neat_delta.report.terminal.base import LISTED, STYLES
from neat_delta.report.terminal.inputs import print_source
from neat_delta.report.terminal.items import around_the_difference

__all__ = ["print_checked", "print_findings", "print_findings_count", "print_idle"]


def print_findings_count(console: Console, header: Header) -> None:
    """How many sorts of findings there are, of each group, and how to see them in full."""
    if not header.findings:
        return
    sorts = Counter(
        {"damage": "damage", "slip": "slips", "rule": "rules", "list": "the list", "key": "keys"}.get(
            summary.check, "checks"
        )
        for summary in header.findings
    )
    counted = ", ".join(f"{number:,} of {group}" for group, number in sorts.items())
    console.print(f"\n{count(len(header.findings), 'finding')}: {counted}; --findings shows them in full")


def print_findings(console: Console, changes: ChangeSet) -> None:
    """The damage and the slips: what happened, where, for example which cell, why we think so, what was done."""
    header = changes.header
    if not header.findings:
        return
    pairs = [] if header.by_rules else header.pairs
    letters = {pair.field: column_letter(pair.column) for pair in pairs if pair.field is not None}
    groups = {
        "damage": "damage: what a spreadsheet did to cells that nobody edited",
        "slip": "slips: what a hand did to many cells at once",
        "rule": "rules: what they could not work out",
        "list": "the list: what its description does not say",
        "key": "keys: what live does not have",
        "": "checks: what must not go, or should be looked at first",
    }
    for check, title in groups.items():
        summaries = [
            summary for summary in header.findings if summary.check == check or not (check or summary.check in groups)
        ]
        if not summaries:
            continue
        console.print(f"\n{title}", style="bold")
        for summary in summaries[:LISTED]:
            places = [
                f"{display_text(name)} ({letters[name]})" if name in letters else display_text(name)
                for name in summary.fields
            ]
            head = Text("  ").append(summary.name, "bold").append(f"  {listed(places)}" if places else "")
            head.append(f"  {finding_count(summary)}" if summary.cells else "").append(
                f"  {summary.done}", STYLES[summary.done]
            )
            console.print(head)
            console.print(
                Padding(
                    Text(as_options(f"{summary.why}; {summary.do}" if summary.do else summary.why), "dim"), (0, 0, 0, 4)
                )
            )
            for line in _examples(changes, summary, console.width - 4):
                console.print(Padding(line, (0, 0, 0, 4)))
        if len(summaries) > LISTED:
            console.print(f"  and {len(summaries) - LISTED:,} more sorts, all in line 1 of the change set")
    held = {summary.check for summary in header.findings if summary.done == "held"}
    mendable = ((changes.damaged["done"] == "held") & changes.damaged["repair"].is_not_null()).any()
    console.print()
    for holds, hint in (
        (mendable, "--repair puts live's value back where it is certain"),
        ("damage" in held, "--accept damage:SKU sends a cell as it is"),
        ("slip" in held, "mend a slip in the sheet, or --accept slip:FIELD sends it"),
        (
            held - {"damage", "slip", "rule", "list"},
            "--accept CHECK:SKU or CHECK:FIELD lets through what a check holds",
        ),
    ):
        if holds:
            console.print(f"  {hint}")


def _examples(changes: ChangeSet, finding: FindingSummary, width: int) -> list[Text]:
    """A cell or two of a finding, with their place; `width` is the room there is for a line."""
    examples = []
    if finding.check == "damage":
        of = changes.damaged.filter(
            (pl.col("damage") == finding.name)
            & pl.col("field").is_in(finding.fields)
            & (pl.col("done") == finding.done)
        ).head(EXAMPLES)
        for key, row, before, sheet in of.select("key", "row", "before", "sheet").iter_rows():
            name = " / ".join(display_text(part) for part in key)
            examples.append((name, row, before, sheet))
    elif finding.check in {"rule", "list"}:
        of = changes.unresolved.filter(
            (pl.col("source") == finding.check)
            & (pl.col("rule") == finding.name)
            & (pl.col("field").is_in(finding.fields) if finding.fields else pl.col("field").is_null())
        ).head(EXAMPLES)
        return [_flagged(key, row, what) for key, row, what in of.select("key", "row", "what").iter_rows()]
    elif finding.check != "slip":
        of = changes.flags.filter(
            (pl.col("check") == finding.check)
            & (pl.col("field").is_in(finding.fields) if finding.fields else pl.col("field").is_null())
            & (pl.col("done") == finding.done)
        ).head(EXAMPLES)
        return [
            _flagged(None if item is None else changes.keys.row(item), row, what)
            for item, row, what in of.select("item", "row", "what").iter_rows()
        ]
    elif finding.done == "held" and finding.cells:
        reason = SLIP + finding.name
        of = changes.cells.filter((pl.col("held") == reason) & pl.col("field").cast(pl.String).is_in(finding.fields))
        for item, before, after in of.head(EXAMPLES).select("item", "before", "after").iter_rows():
            name = key_text(changes.keys.row(item, named=True))
            examples.append((name, changes.items["sheet"][item], before, after))
    lines = []
    for name, row, before, sheet in examples:
        line, old, new = Text(f"{name}, row {row:,}: "), display_text(before or ""), display_text(sheet)
        if cell_len(line.plain) + cell_len(old) + 3 + cell_len(new) <= width:
            lines.append(line.append(old, "bright_red").append(" → ").append(new, "green"))
            continue
        old, new = around_the_difference(old, new, width - 2)
        lines += [line, Text("  ").append(old, "bright_red"), Text("→ ").append(new, "green")]
    return lines


EXAMPLES = 2


def _flagged(key: Sequence[str] | None, row: int | None, what: str) -> Text:
    """What a check found, after its item and its row."""
    where = [" / ".join(display_text(part) for part in key)] if key is not None else []
    where += [f"row {row:,}"] if row is not None else []
    return Text(f"{', '.join(where)}: {display_text(what)}" if where else display_text(what), overflow="fold")


def print_checked(
    console: Console,
    catalogue: Catalogue,
    flags: pl.DataFrame,
    says: Mapping[str, tuple[str, str]],
    *,
    excepted: int = 0,
) -> None:
    """What the checks found in a catalogue by itself, and how much more the store file excepts."""
    print_source(
        console,
        "live",
        catalogue.path,
        catalogue.cells.height,
        len(catalogue.fields),
        catalogue.layout,
        catalogue.notes,
    )
    if not flags.height:
        console.print("\nNothing was found.", style="bold green")
    style = {"stop": "magenta", "warn": "yellow", "note": "dim"}
    for (check, level, field), group in flags.group_by("check", "level", "field", maintain_order=True):
        head = (
            Text("\n").append(str(check), "bold").append(f"  {display_text(str(field))}" if field is not None else "")
        )
        console.print(head.append(f"  {count(group.height, 'item')}").append(f"  {level}", style[str(level)]))
        does, do = says[str(check)]
        do = as_options(do)
        console.print(Padding(Text(f"{does}; {do}", "dim"), (0, 0, 0, 2)))
        for key, row, what in group.head(FEW).select("key", "row", "what").iter_rows():
            console.print(Padding(_flagged(key, row, what), (0, 0, 0, 2)))
        if group.height > FEW:
            console.print(f"  and {group.height - FEW:,} more; --json has them all")
    if excepted:
        console.print(f"\n{count(excepted, 'finding')} left out, as the store file excepts them.")


FEW = 5
"""So many findings of a check are shown."""


def print_idle(console: Console, idle: Mapping[str, str]) -> None:
    """The checks that did not run, with what would switch them on."""
    if not idle:
        return
    by_switch: dict[str, list[str]] = {}
    for name, switch in idle.items():
        by_switch.setdefault(switch, []).append(name)
    console.print("\ndid not run, and what would switch it on", style="bold")
    table = Table.grid(padding=(0, 2, 0, 0))
    table.add_column(max_width=30, overflow="fold")
    table.add_column(overflow="fold")
    for switch, names in by_switch.items():
        table.add_row(Padding(Text(", ".join(names)), (0, 0, 0, 2)), Text(as_options(switch)))
    console.print(table)
