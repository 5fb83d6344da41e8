"""What was found wrong, in cells and in whole catalogues."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence

import polars as pl
from rich.cells import cell_len
from rich.padding import Padding
from rich.table import Table
from rich.text import Text

from neat_delta.core.base.model.catalogue import Catalogue, column_letter, listed
from neat_delta.core.base.model.changeset import ChangeSet
from neat_delta.core.base.model.header import FindingSummary, Header
from neat_delta.core.base.model.reasons import SLIP
from neat_delta.report.console import STYLES, Screen
from neat_delta.report.settings import as_options
from neat_delta.report.terminal.inputs import print_source
from neat_delta.report.terminal.items import around_the_difference
from neat_delta.report.text import count, display_text, finding_count, key_text

__all__ = ["print_checked", "print_findings", "print_findings_count", "print_idle"]


GROUPS = {
    "damage": "damage: what a spreadsheet did to cells that nobody edited",
    "slip": "slips: what a hand did to many cells at once",
    "rule": "rules: what they could not work out",
    "list": "the list: what its description does not say",
    "sheet": "sheets: what is held in one of them, and where two say different things",
    "key": "keys: what live does not have",
    "": "checks: what must not go, or should be looked at first",
}
"""What stands above findings, by the sort of what was found; those of checks last."""


def print_findings_count(console: Screen, header: Header) -> None:
    """How many sorts of findings there are, of each group, and how to see them in full."""
    if not header.findings:
        return
    sorts = Counter(
        {
            "damage": "damage",
            "slip": "slips",
            "rule": "rules",
            "list": "the list",
            "key": "keys",
            "sheet": "sheets",
        }.get(summary.check, "checks")
        for summary in header.findings
    )
    counted = ", ".join(f"{number:,} of {group}" for group, number in sorts.items())
    console.print(f"\n{count(len(header.findings), 'finding')}: {counted}; --findings shows them in full")


def print_findings(console: Screen, changes: ChangeSet) -> None:
    """The damage and the slips: what happened, where, for example which cell, why we think so, what was done. Of
    what waits, where only that is wanted.
    """
    header = changes.header
    findings = [finding for finding in header.findings if console.detail != "waiting" or finding.done == "held"]
    if not findings:
        return
    pairs = [] if header.by_rules else header.pairs
    letters = {pair.field: column_letter(pair.column) for pair in pairs if pair.field is not None}
    for check, title in GROUPS.items():
        summaries = [
            summary for summary in findings if summary.check == check or not (check or summary.check in GROUPS)
        ]
        if not summaries:
            continue
        console.print(f"\n{title}", style="bold")
        room = console.room()
        for summary in summaries[:room]:
            places = [
                f"{display_text(name)} ({letters[name]})" if name in letters else display_text(name)
                for name in summary.fields
            ]
            head = Text("  ").append(summary.name, "bold").append(f"  {listed(places)}" if places else "")
            done = _done_said(changes, summary)
            head.append(f"  {finding_count(summary)}" if summary.cells else "").append(f"  {done}", STYLES[done])
            console.print(head)
            examples = _examples(changes, summary, console)
            reason = _reason(console, summary, examples)
            if reason:
                console.print(Padding(Text(as_options(reason), "dim"), (0, 0, 0, 4)))
            for line in examples:
                console.print(Padding(line, (0, 0, 0, 4)))
        if room is not None and len(summaries) > room:
            console.print(f"  and {len(summaries) - room:,} more sorts; -v lists them")


def _done_said(changes: ChangeSet, finding: FindingSummary) -> str:
    """What was done about a finding; of what is not held, whether it is a warning or a note."""
    if finding.done != "noted":
        return finding.done
    levels = changes.flags.filter((pl.col("check") == finding.check) & (pl.col("done") == finding.done))["level"]
    return "warned" if "warn" in set(levels.cast(pl.String)) else "noted"


def _reason(console: Screen, finding: FindingSummary, examples: Sequence[Text]) -> str:
    """Why a finding is one, and what to do, as far as neither its name nor its examples say so."""
    if console.detail == "all":
        return f"{finding.why}; {finding.do}" if finding.do else finding.why
    if finding.check == "damage":
        return ""
    parts = [] if finding.check not in GROUPS or any(finding.why in line.plain for line in examples) else [finding.why]
    return "; ".join([*parts, finding.do] if finding.do else parts)


def _examples(changes: ChangeSet, finding: FindingSummary, console: Screen) -> list[Text]:
    """A cell or two of a finding, or all of them, with their place."""
    examples, most, width = [], console.room(EXAMPLES), console.width - 4
    if finding.check == "damage":
        of = changes.damaged.filter(
            (pl.col("damage") == finding.name)
            & pl.col("field").is_in(finding.fields)
            & (pl.col("done") == finding.done)
        )[:most]
        for key, row, before, sheet in of.select("key", "row", "before", "sheet").iter_rows():
            name = " / ".join(display_text(part) for part in key)
            examples.append((name, row, before, sheet))
    elif finding.check in {"rule", "list", "sheet"}:
        of = changes.unresolved.filter(
            (pl.col("source") == finding.check)
            & (pl.col("rule") == finding.name)
            & (pl.col("field").is_in(finding.fields) if finding.fields else pl.col("field").is_null())
        )[:most]
        return [_flagged(key, row, what) for key, row, what in of.select("key", "row", "what").iter_rows()]
    elif finding.check != "slip":
        of = changes.flags.filter(
            (pl.col("check") == finding.check)
            & (pl.col("field").is_in(finding.fields) if finding.fields else pl.col("field").is_null())
            & (pl.col("done") == finding.done)
        )[:most]
        return [
            _flagged(None if item is None else changes.keys.row(item), row, what)
            for item, row, what in of.select("item", "row", "what").iter_rows()
        ]
    elif finding.done == "held" and finding.cells:
        reason = SLIP + finding.name
        of = changes.cells.filter((pl.col("held") == reason) & pl.col("field").cast(pl.String).is_in(finding.fields))
        for item, before, after in of[:most].select("item", "before", "after").iter_rows():
            name = key_text(changes.keys.row(item, named=True))
            examples.append((name, changes.items["sheet"][item], before, after))
    lines = []
    for name, row, before, sheet in examples:
        line, old, new = Text(f"{name}, row {row:,}: "), display_text(before or ""), display_text(sheet)
        if cell_len(line.plain) + cell_len(old) + 3 + cell_len(new) <= width:
            lines.append(line.append(old).append(" → ").append(new, DAMAGED))
            continue
        old, new = around_the_difference(old, new, width - 2)
        lines += [line, Text("  ").append(old), Text("→ ").append(new, DAMAGED)]
    return lines


EXAMPLES = 2
DAMAGED = "bright_red"
"""What nobody meant has the colour of what goes."""


def _flagged(key: Sequence[str] | None, row: int | None, what: str) -> Text:
    """What a check found, after its item and its row."""
    where = [" / ".join(display_text(part) for part in key)] if key is not None else []
    where += [f"row {row:,}"] if row is not None else []
    return Text(f"{', '.join(where)}: {display_text(what)}" if where else display_text(what), overflow="fold")


def print_checked(
    console: Screen,
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
        catalogue.height,
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
        room = console.room(FEW)
        for key, row, what in group[:room].select("key", "row", "what").iter_rows():
            console.print(Padding(_flagged(key, row, what), (0, 0, 0, 2)))
        console.print_rest(group.height, room)
    if excepted:
        console.print(f"\n{count(excepted, 'finding')} left out, as the store file excepts them.")


FEW = 5
"""So many findings of a check are shown."""


def print_idle(console: Screen, idle: Mapping[str, str]) -> None:
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
