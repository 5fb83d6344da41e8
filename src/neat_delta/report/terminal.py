"""What the commands print for a person: readable at 80 columns and without colour."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from pathlib import PurePath
from textwrap import wrap
from typing import TYPE_CHECKING, Literal

import polars as pl
from rich.cells import cell_len
from rich.console import Console, ConsoleOptions, ConsoleRenderable, RenderHook, RenderResult
from rich.padding import Padding
from rich.segment import Segment
from rich.table import Table
from rich.text import Text

from neat_delta.core.diff.equality import kinds_said
from neat_delta.core.model.catalogue import Catalogue, column_letter, listed
from neat_delta.core.model.changeset import (
    ChangeSet,
    FindingSummary,
    Header,
    HeldCount,
    LikelyCode,
    code_changes,
    counted,
    held,
)
from neat_delta.core.model.importer import NEW_CODE
from neat_delta.core.model.reasons import SLIP, sort_of
from neat_delta.core.rekey.moves import codes_in
from neat_delta.core.review.cells import CellView, ItemView, item_views
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
from neat_delta.report.settings import as_options
from neat_delta.report.text import count, cut, finding_count, key_text, shown, signed
from neat_delta.report.words import Piece, added_and_removed, pieces

if TYPE_CHECKING:
    from neat_delta.core.infer.learn import Learned
    from neat_delta.core.match.prepare import AlignedInputs
    from neat_delta.core.model.layout import Layout
    from neat_delta.core.model.manifest import Listed, Manifest
    from neat_delta.core.review.facts import Facts
    from neat_delta.core.review.figures import FieldFigures
    from neat_delta.core.review.impact import ImpactFacts, Suggestion
    from neat_delta.core.review.records import Records
    from neat_delta.core.review.samples import ColumnSample, MatchedRows
    from neat_delta.core.review.totals import Total
    from neat_delta.core.review.view import View
    from neat_delta.core.worksheet.cut import WorkingSheet

__all__ = [
    "LISTED",
    "print_accounts",
    "print_checked",
    "print_clashes",
    "print_contradictions",
    "print_figures",
    "print_findings",
    "print_findings_count",
    "print_headings",
    "print_idle",
    "print_impact",
    "print_inputs",
    "print_items",
    "print_learned",
    "print_meanwhile",
    "print_moving",
    "print_pairs",
    "print_records",
    "print_rest",
    "print_sheet",
    "print_some",
    "print_suggestions",
    "print_waiting",
    "print_written",
    "result_table",
    "terminal",
]

WIDEST = 110
"""On a wider terminal a line would tear before and after apart from the difference."""

LISTED = 10
"""How many of a list's entries are shown before the rest is only counted."""


def terminal() -> Console:
    """A console for reports. Rich finds the width, and leaves colour out without a terminal or with NO_COLOR."""
    console = Console(highlight=False, markup=False, emoji=False, soft_wrap=False)
    console.width = min(console.width, WIDEST)
    console.push_render_hook(_Trimming())
    return console


class _Trimming(RenderHook):
    """Ends every line where its last letter stands: tables and indents are padded with spaces otherwise."""

    def process_renderables(self, renderables: list[ConsoleRenderable]) -> list[ConsoleRenderable]:
        return [_Trimmed(one) for one in renderables]


@dataclass(frozen=True, slots=True)
class _Trimmed:
    printed: ConsoleRenderable

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        for line in Segment.split_lines(console.render(self.printed, options)):
            while line and not line[-1].text.strip(" "):
                line.pop()
            if line:
                line[-1] = Segment(line[-1].text.rstrip(" "), line[-1].style, line[-1].control)
            yield from line
            yield Segment.line()


def print_moving(console: Console, cells: Mapping[str, int]) -> None:
    """One line where a copy of a whole export changes what the store moves by itself."""
    if cells:
        many, names = sum(cells.values()), listed([shown(name) for name in cells])
        said = (
            f"A copy of a whole export? It changes {count(many, 'cell')} of {names}, which the store moves by itself. "
            "Say what it was cut from with --base FILE, or leave them out with --only.\n"
        )
        console.print(Text(said), style="yellow")


def print_inputs(  # noqa: PLR0912 - one fact after another
    console: Console, header: Header, store: str | None, *, told: bool, lacking: Sequence[str] = ()
) -> None:
    """What was read, how it was understood, and by which key it was matched; `lacking` are the fields of the store file
    that live has not, and whose checks so are idle.
    """
    there = {*header.key, *header.fields, *header.untouched} - {*header.unseen}
    fields = {"live": len(there), "sheet": len(header.pairs)}
    for name, source in (("live", header.live), ("sheet", header.sheet)):
        what = "codes" if name == "sheet" and _is_list(header) else name
        if name == "sheet" and header.by_rules:
            _print_fact(console, "rules", _rules_said(header))
            continue
        _print_source(console, what, source.path, source.rows, fields[name], source.layout, source.notes)
    origin = header.sheet.origin
    if origin is not None:
        here = origin.blake3 == header.live.blake3
        where = f"cut from {shown(origin.path)}: {origin.cut:,} of {count(origin.rows, 'row')}"
        if not here and header.base is None:
            where += ". Live is another file now, and what stood there then is not known"
        _print_fact(console, "", where, style="" if here or header.base is not None else "yellow")
    if header.counts.lost:
        names = listed([key_text(one) for one in header.lost], 5)
        more = "" if header.counts.lost <= len(header.lost) else f" (of {header.counts.lost:,})"
        said = f"{count(header.counts.lost, 'row')} that it was cut with did not come back{more}: {names}"
        _print_fact(console, "", said, style="yellow")
    if header.base is not None:
        base = header.base
        if header.remembered:
            _print_fact(console, "base", f"what the sheet was cut with, as it remembers: {count(base.rows, 'row')}")
        else:
            _print_source(console, "base", base.path, base.rows, None, base.layout, base.notes)
        if header.two_way:
            said = f"it lacks {listed([shown(name) for name in header.two_way])}: compared with live alone"
            _print_fact(console, "", said, style="yellow")
    how = "" if told else "  (the heading says so; --key names another)"
    _print_fact(console, "key", ", ".join(shown(field) for field in header.key) + how)
    if header.matched_by:
        names = listed([shown(name) for name in header.matched_by])
        _print_fact(console, "", f"the list's rows found their items by {names}")
    if store is not None:
        _print_fact(console, "store", shown(store))
        if lacking:
            one = "that field" if len(lacking) == 1 else "those fields"
            said = f"live lacks {listed([shown(name) for name in lacking])}: what it says of {one} is idle"
            _print_fact(console, "", said, style="yellow")
    elif header.settings:
        said = "; ".join(
            f"{sort} {listed([shown(name) for name in names])}" for sort, names in kinds_said(header.settings).items()
        )
        _print_fact(console, "kinds", f"learned from live: {said}")
    if header.sheet_writing.decimal_mark != header.writing.decimal_mark:
        mark = "comma" if header.sheet_writing.decimal_mark == "," else "point"
        _print_fact(
            console, "", f"the sheet's numbers have a decimal {mark}; they are sent as live writes them", style="yellow"
        )
    if header.sheet_writing.date_form != header.writing.date_form:
        _print_fact(
            console,
            "",
            f"the sheet's dates are {header.sheet_writing.date_form}; they are sent as live writes them",
            style="yellow",
        )
    console.print()


def _rules_said(header: Header) -> str:
    """The file of the rules and their names, or what was said on the command line."""
    if header.sheet.path.startswith("--"):
        return shown("; ".join(f"{one.field} = {one.expression}" for one in header.rules))
    return f"{shown(header.sheet.path)}: {listed(list(dict.fromkeys(shown(one.rule) for one in header.rules)))}"


def _print_source(
    console: Console, name: str, path: str, rows: int, fields: int | None, layout: Layout, notes: Sequence[str]
) -> None:
    """A file, as it was understood, and what was noticed while it was read."""
    fields_said = "" if fields is None else f"{count(fields, 'field')}, "
    size = f"{count(rows, 'row')}, {fields_said}{shown(str(layout))}"
    _print_fact(console, name, f"{'standard input' if path == '-' else shown(path)}: {size}")
    for note in notes:
        _print_fact(console, "", shown(as_options(note)), style="yellow")


def _print_fact(console: Console, name: str, text: str, style: str = "") -> None:
    """A fact under its name, on as many lines as it takes."""
    table = Table.grid(padding=(0, 1, 0, 0))
    table.add_column(width=6, no_wrap=True)
    table.add_column(overflow="fold")
    table.add_row(Text(name, "bold"), Text(text, style))
    console.print(table)


def _print_rewritten(console: Console, header: Header) -> None:
    """How many cells programs rewrote, field by field, and how to send them all the same."""
    fields = [f"{shown(name)} {number:,}" for name, number in header.rewritten.items()]
    said = f"{count(header.counts.written_differently, 'cell')} written differently, same value, not sent: "
    console.print(Text(said + listed(fields, 8), overflow="fold"), soft_wrap=False)
    console.print(Text(f"  to send them as they are: --exact {shown(next(iter(header.rewritten)))}", "dim"))


NOT_THERE = {"list": "not in the list", "rules": "no rule for it"}
"""What is said of items that are not in the sheet."""


def print_accounts(console: Console, changes: ChangeSet) -> None:
    """How many rows were read and where each went."""
    header, counts = changes.header, changes.header.counts
    in_sheet = counted(changes.items["verdict"].filter(changes.items["sheet"].is_not_null()))
    of_sheet = "list" if _is_list(header) else "rules" if header.by_rules else "sheet"
    table = result_table("", "live", of_sheet, right=(1, 2))
    for name, live, sheet, style in (
        ("same", counts.same, counts.same, ""),
        ("changed", counts.changed, in_sheet["changed"], ""),
        ("recoded", counts.recoded, in_sheet["recoded"], "cyan"),
        ("new", None, counts.new, "green"),
        ("gone", counts.gone, None, "bright_red"),
        ("gone from the store", None, counts.departed, ""),
        (NOT_THERE.get(of_sheet, "not in the sheet"), counts.absent, None, ""),
        ("set aside", counts.set_aside_live, counts.set_aside_sheet, "magenta"),
        ("put into another one's row", None, counts.folded, ""),
        ("again, for another item", None, -counts.copied, ""),
    ):
        # A list of codes says nothing of what is changed or new.
        if live or sheet or name in {"same", "set aside"} or (name in {"changed", "new"} and not _is_list(header)):
            told = ("·" if number is None else f"{number:,}".replace("-", "−") for number in (live, sheet))
            table.add_row(Text(name, style), *told)
    table.add_section()
    table.add_row("rows read", f"{header.live.rows:,}", f"{header.sheet.rows:,}", style="bold")
    console.print(table)


def print_meanwhile(console: Console, changes: ChangeSet) -> None:
    """What the store changed since the base and the sheet did not: it stays; and what both changed alike."""
    header, counts = changes.header, changes.header.counts
    if header.base is None:
        return
    console.print(Text(f"\nmeanwhile in the store: {meanwhile_said(changes)}", "bold"))
    room = MEANWHILE if changes.meanwhile.height > MEANWHILE + 1 else MEANWHILE + 1
    for key, field, base, live in changes.meanwhile.head(room).select("key", "field", "base", "live").iter_rows():
        line = Text(f"  {' / '.join(shown(part) for part in key)}")
        if field is None:
            console.print(line.append("  gone from the store", "bright_red"))
            continue
        line.append(f"  {shown(field)}  ", "dim").append(shown(base or ""), "bright_red").append(" → ")
        line.append(shown(live or ""), "green").truncate(console.width, overflow="ellipsis")
        console.print(line)
    if changes.meanwhile.height > room:
        console.print(f"  and {changes.meanwhile.height - room:,} more, at the end of the change set")
    if counts.left_to_store:
        said = f"{count(counts.left_to_store, 'change')} of the sheet left as the store has it, as you said"
        console.print(f"  {said}")
    print_some(
        console,
        "recoded meanwhile in the store; followed",
        [Text(f"  {key_text(one.old)} → {key_text(one.new)}  {_why_followed(one)}") for one in header.followed],
        everything=False,
        hint="line 1 of the change set has them all",
    )


MEANWHILE = 5
"""So many of the store's own changes are shown."""


def _why_followed(one: LikelyCode) -> str:
    """Why two codes are taken for one item."""
    if not one.fields:
        return "as the list of codes says"
    name = "" if one.alike is None else f", the name to {one.alike} %"
    return f"{one.agree:,} of {one.fields:,} fields agree{name}"


def print_clashes(console: Console, changes: ChangeSet) -> None:
    """The cells that the sheet and the store both changed, side by side: what stood there, the sheet's, the store's."""
    grid, many = clash_grid(changes, LISTED)
    for line in clashing_items_said(changes):
        console.print(Text(f"\n{line}", "bold magenta"))
    if not many:
        return
    title = f"{count(many, 'cell')} changed in the sheet and in the store: held until you choose"
    console.print(f"\n{title}", style="bold magenta")
    width = 6 if any(row[5] for row in grid.rows) else 5  # the last column has the sums
    table = result_table(f"  {grid.headings[0]}", *grid.headings[1:width])
    for column in table.columns[2:]:
        column.no_wrap, column.overflow, column.max_width = False, "fold", 24
    for key, field, *texts, both in grid.rows:
        stands = [Text(text or "(blank)", "" if text else "dim") for text in texts]
        table.add_row(Text(f"  {key}"), Text(field, "dim"), *[*stands, Text(both)][: width - 2])
    console.print(table)
    if many > LISTED:
        console.print(f"  and {many - LISTED:,} more; preview shows them")


STYLES = {"held": "magenta", "repaired": "green", "accepted": "yellow", "noted": "yellow"}
"""The colour of what was done about a finding; the word itself stands there, too."""


def print_findings_count(console: Console, header: Header) -> None:
    """How many sorts of findings there are, of each group, and how to see them in full."""
    if not header.findings:
        return
    sorts = Counter(
        {"damage": "damage", "slip": "slips", "rule": "rules", "list": "the list", "key": "keys"}.get(
            one.check, "checks"
        )
        for one in header.findings
    )
    said = ", ".join(f"{number:,} of {group}" for group, number in sorts.items())
    console.print(f"\n{count(len(header.findings), 'finding')}: {said}; --findings shows them in full")


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
        summaries = [one for one in header.findings if one.check == check or not (check or one.check in groups)]
        if not summaries:
            continue
        console.print(f"\n{title}", style="bold")
        for one in summaries[:LISTED]:
            places = [f"{shown(name)} ({letters[name]})" if name in letters else shown(name) for name in one.fields]
            head = Text("  ").append(one.name, "bold").append(f"  {listed(places)}" if places else "")
            head.append(f"  {finding_count(one)}" if one.cells else "").append(f"  {one.done}", STYLES[one.done])
            console.print(head)
            console.print(Padding(Text(as_options(f"{one.why}; {one.do}" if one.do else one.why), "dim"), (0, 0, 0, 4)))
            for line in _examples(changes, one, console.width - 4):
                console.print(Padding(line, (0, 0, 0, 4)))
        if len(summaries) > LISTED:
            console.print(f"  and {len(summaries) - LISTED:,} more sorts, all in line 1 of the change set")
    held = {one.check for one in header.findings if one.done == "held"}
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
            name = " / ".join(shown(part) for part in key)
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
        line, old, new = Text(f"{name}, row {row:,}: "), shown(before or ""), shown(sheet)
        if cell_len(line.plain) + cell_len(old) + 3 + cell_len(new) <= width:
            lines.append(line.append(old, "bright_red").append(" → ").append(new, "green"))
            continue
        old, new = _around_the_difference(old, new, width - 2)
        lines += [line, Text("  ").append(old, "bright_red"), Text("→ ").append(new, "green")]
    return lines


EXAMPLES = 2


def _flagged(key: Sequence[str] | None, row: int | None, what: str) -> Text:
    """What a check found, after its item and its row."""
    where = [" / ".join(shown(part) for part in key)] if key is not None else []
    where += [f"row {row:,}"] if row is not None else []
    return Text(f"{', '.join(where)}: {shown(what)}" if where else shown(what), overflow="fold")


def print_checked(
    console: Console,
    catalogue: Catalogue,
    flags: pl.DataFrame,
    says: Mapping[str, tuple[str, str]],
    *,
    excepted: int = 0,
) -> None:
    """What the checks found in a catalogue by itself, and how much more the store file excepts."""
    _print_source(
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
        head = Text("\n").append(str(check), "bold").append(f"  {shown(str(field))}" if field is not None else "")
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


def print_waiting(console: Console, changes: ChangeSet) -> None:
    """How much is to be sent, and what waits for a person: what is held, and what was set aside."""
    header, counts = changes.header, changes.header.counts
    sent = counts.cells - counts.held_cells
    console.print(f"\n{count(counts.cells, 'changed cell')}: {sent:,} to send, {counts.held_cells:,} held")
    leaves = (changes.items["verdict"] == "gone") & changes.items["held"].is_null()
    if not sent and not leaves.any():
        console.print("Nothing is to be sent.")
    if counts.written_differently:
        _print_rewritten(console, changes.header)
    _print_codes(console, changes)
    reasons = changes.reasons()
    if reasons:
        console.print("\nheld, with the way to have it otherwise", style="bold")
        _print_held(console, reasons)
    if header.idle_accepts:
        names = listed([shown(str(one)) for one in header.idle_accepts])
        console.print(Text(f"\nlet through, and fits nothing that was found: {names}", "yellow"))
    if counts.blanks_kept:
        console.print(f"  dropped  {count(counts.blanks_kept, 'cell')}  blank in the sheet; live keeps its value")
    aside = [row for row in header.set_aside if sort_of(row.reason) != "near"]  # these are told by themselves
    if aside:
        console.print("\nset aside, with the reason", style="bold")
        for row in aside[:LISTED]:
            where = f"  {'list' if row.file == 'sheet' and _is_list(header) else row.file} row {row.row:,}"
            console.print(cut(f"{where:<18} {key_text(row.key):<18} {row.reason}", console.width))
        if len(aside) > LISTED:
            console.print(f"  and {len(aside) - LISTED:,} more, all in line 1 of the change set")
    if header.unseen:
        console.print(
            f"what live has in {listed([shown(n) for n in header.unseen])} is not known: no undo brings it back"
        )
    if counts.unresolved:
        rows = changes.unresolved["row"].n_unique()
        console.print(
            f"{count(counts.unresolved, 'cell')} of {count(rows, 'row')} could not be worked out and stay as they are",
            style="magenta",
        )
    _print_near(console, header)
    _print_likely(console, header)


def print_headings(console: Console, header: Header) -> None:
    """Which headings were left out, and which fields are left alone."""
    left_out: dict[str, list[str]] = {}
    for pair in header.pairs:
        if pair.field is None:
            hint = f" (nearest: {shown(pair.nearest)})" if pair.nearest and pair.how == "unmatched" else ""
            left_out.setdefault(pair.how, []).append(shown(pair.heading) + hint)
    there = {pair.nearest for pair in header.pairs if pair.field is None and pair.how != "unmatched"}
    alone = (
        [] if _is_list(header) or header.by_rules else [shown(name) for name in header.untouched if name not in there]
    )
    first = True
    for title, names in (
        ("ignored, as live has no such heading", left_out.get("unmatched", [])),
        ("left out, as the mapping does not name them", left_out.get("not described", [])),
        ("ignored, as you said", left_out.get("ignored", [])),
        ("left out, as you did not ask for them", left_out.get("not asked for", [])),
        ("left alone, as the sheet lacks them", alone),
    ):
        if names:
            console.print(Text(f"{chr(10) if first else ''}{title}: {listed(names)}"))
            first = False


def _is_list(header: Header) -> bool:
    """Whether the sheet is nothing but a list of codes."""
    return {pair.field for pair in header.pairs} <= {None, *header.key, NEW_CODE}


def _print_codes(console: Console, changes: ChangeSet) -> None:
    """How many codes change and which links follow; and the code changes that cannot be, one by one."""
    header = changes.header
    if not header.counts.recoded:
        return
    cells = changes.cells.with_columns(pl.col("field").cast(pl.String), stays=held(changes.items, changes.cells))
    codes = code_changes(cells, header.key)
    kept, going = int(codes["stays"].sum()), codes.filter(~pl.col("stays"))
    console.print(f"{count(codes.height, 'new code')}: {going.height:,} to give, {kept:,} held")
    links = codes_in(cells.filter(~pl.col("stays")), header.settings, set(going["after"]))
    for (name,), field_links in links.group_by("field", maintain_order=True):
        console.print(Text(f"links that change with them: {shown(str(name))} of {count(field_links.height, 'item')}"))
    stuck = codes.filter(pl.col("held").is_not_null())
    lines = [
        Text(f"  {shown(before)} → {shown(after)}: {reason.removeprefix('code: ')}")
        for before, after, reason in stuck.select("before", "after", "held").iter_rows()
    ]
    print_some(console, "codes that cannot change", lines, everything=False, hint="preview shows them")


def _print_near(console: Console, header: Header) -> None:
    for taken, title in ((True, "taken, as you said"), (False, "not taken, as the key nearly is an item's")):
        lines = [
            Text(f"  sheet row {near.row:,}: {key_text(near.key)} ").append(
                f"is {near.why}" if near.why else f"for {key_text(near.live_key)}"
            )
            for near in header.near
            if near.taken == taken
        ]
        print_some(console, title, lines, everything=False, hint="all are in line 1 of the change set")
        if lines and not taken:
            hint = (
                "  --accept-near-keys takes a row for the only item whose key is near; --accept near:SKU lets it be "
                "a new item"
            )
            console.print(Text(hint, "dim"))


def _print_likely(console: Console, header: Header) -> None:
    if not header.likely:
        return
    console.print("\nlikely code changes: gone and new, but they agree in nearly everything", style="bold")
    for one in header.likely[:LISTED]:
        name = "" if one.alike is None else f", the name to {one.alike} %"
        line = f"  {key_text(one.old)} → {key_text(one.new)}  {one.agree:,} of {one.fields:,} fields{name}"
        console.print(cut(line, console.width))
    if len(header.likely) > LISTED:
        console.print(f"  and {len(header.likely) - LISTED:,} more, all in line 1 of the change set")
    console.print("  None is taken. --likely-codes FILE makes a list of them: look it over, and --recode FILE takes it")


def print_pairs(
    console: Console,
    aligned: AlignedInputs,
    sheet: Catalogue,
    pairs: Sequence[ColumnSample],
    rows: MatchedRows,
    *,
    by: list[str],
    store: str | None,
) -> None:
    """Which heading is which field, with samples of both, and what becomes of the rows, which are matched `by`."""
    for name, one in (("live", aligned.live), ("sheet", sheet)):
        _print_source(console, name, one.path, one.cells.height, len(one.fields), one.layout, one.notes)
    if store is not None:
        _print_fact(console, "store", shown(store))
    names = ", ".join(shown(field) for field in by)
    _print_fact(console, *(("key", names) if by == aligned.key.fields else ("rows", f"matched by {names}")))
    console.print()
    table = result_table(f"in {shown(PurePath(sheet.path).name)}", "field", "why", "in the sheet", "in live")
    for number, column in enumerate(table.columns):
        column.no_wrap, column.overflow = number in {0, 1}, "ellipsis"
    words = [(shown(pair.heading) or "·", _field_of(pair), pair.how) for pair in pairs]
    taken = sum(max(map(cell_len, texts)) for texts in zip(*words, (f"in {sheet.path}", "", ""), strict=True))
    room = console.width - taken - 2 * 4
    longest = max((cell_len(shown(value)) for pair in pairs for value in pair.live), default=0)
    of_live = max(16, min(longest, room // 2))
    rooms = (max(16, room - of_live), of_live)
    for pair in pairs:
        sure, field = pair.field is not None, _field_of(pair)
        table.add_row(
            Text(shown(pair.heading) or "·", "" if sure else "magenta"),
            Text(field, "" if sure else "magenta"),
            Text(pair.how, "dim"),
            *(
                Text("\n".join(_sample(value, room) for value in values))
                for values, room in zip((pair.sheet, pair.live), rooms, strict=True)
            ),
        )
    console.print(table)
    headings = [pair for pair in pairs if pair.heading]
    paired = sum(pair.field is not None for pair in headings)
    console.print(f"\n{count(paired, 'heading')} paired, {len(headings) - paired:,} left out.", style="bold")
    _print_rows(console, rows)
    rest = [name for name in aligned.live.fields if name not in {pair.field for pair in pairs}]
    if rest:
        console.print(Text(f"fields that no heading stands for: {listed([shown(name) for name in rest])}"))
    if any(pair.how == "not described" for pair in pairs):
        console.print(
            'A heading that the mapping does not name is left out. --map "HEADING=FIELD" or --ignore adds it.'
        )
    if any(pair.how == "unmatched" for pair in pairs):
        console.print('A heading that live does not have is left out. --map "HEADING=FIELD" says what it stands for.')


def _print_rows(console: Console, rows: MatchedRows) -> None:
    """What becomes of the rows of a sheet."""
    parts = [
        f"{number:,} {what}"
        for number, what in (
            (rows.matched, "with an item"),
            (rows.new, "new"),
            (rows.folded, "put into another one's row"),
        )
        if number or what == "with an item"
    ]
    parts += [f"{times:,} set aside ({reason})" for reason, times in rows.set_aside.items()]
    console.print(f"{count(rows.read, 'row')}: {', '.join(parts)}.", style="bold")


def _field_of(pair: ColumnSample) -> str:
    """The field that a heading stands for, or the nearest one."""
    if pair.field is not None:
        return shown(pair.field)
    return f"none; nearest: {shown(pair.nearest)}" if pair.nearest else "none"


def _sample(value: str, room: int) -> str:
    """A value on as many lines of a narrow column as it takes, two at most."""
    return "\n".join(wrap(shown(value), room, subsequent_indent="  ", max_lines=2, placeholder=" …"))


def print_sheet(
    console: Console,
    sheet: WorkingSheet,
    live: Catalogue,
    output: str,
    kept: Mapping[str, int],
    compare: str,
    *,
    remembers: int | None,
    beside: str | None,
) -> None:
    """What was cut from live, and what a person may change in it; `kept` counts cells that could not be written as
    told, by heading; `compare` is the call that looks at the sheet afterwards; `remembers` is in how many bytes it
    remembers what it was cut with (None: it does not), maybe in a file `beside` it.
    """
    _print_source(console, "live", live.path, live.cells.height, len(live.fields), live.layout, live.notes)
    size = f"{count(sheet.cells.height, 'item')} of {live.cells.height:,}, {count(len(sheet.columns), 'field')}"
    _print_fact(console, "sheet", size)
    for name, columns in (
        ("key", [column for column in sheet.columns if column.key]),
        ("locked", [column for column in sheet.columns if column.locked and not column.key]),
        ("open", [column for column in sheet.columns if not column.locked]),
    ):
        if columns:
            _print_fact(console, name, ", ".join(shown(column.heading) for column in columns))
    for heading, number in kept.items():
        said = (
            f"{count(number, 'cell')} of {shown(heading)} stand as in live: the date form has no place for their time"
        )
        _print_fact(console, "", said, style="yellow")
    if remembers is None and beside:
        _print_fact(console, "keeps", f"where it was cut from, in {shown(beside)}: keep it beside the sheet")
    if remembers is not None:
        where = f", in {shown(beside)}: keep it beside the sheet" if beside else ", in a hidden part of the workbook"
        said = f"what these items are now ({max(1, round(remembers / 1000)):,} KB){where}"
        _print_fact(console, "knows", said)
    if sheet.missing:
        console.print(f"\n{count(len(sheet.missing), 'code')} not in live", style="bold")
        for sku in sheet.missing[:LISTED]:
            console.print(cut(f"  {shown(sku)}", console.width))
        if len(sheet.missing) > LISTED:
            console.print(f"  and {len(sheet.missing) - LISTED:,} more")
    console.print(f"\nWrote {output}. Edit it, save it, and then:  {compare}", soft_wrap=True)


def print_learned(console: Console, learned: Learned, live: Catalogue) -> None:
    """What a catalogue shows of its store: the key, how fields stand to each other, and field by field."""
    _print_source(console, "live", live.path, live.cells.height, len(live.fields), live.layout, live.notes)
    _print_fact(console, "key", f"{', '.join(shown(name) for name in learned.store.key.fields)}: {shown(learned.key)}")
    console.print()
    if learned.relations:
        table = result_table("relation", "field", "because")
        table.columns[2].no_wrap = False
        for role, seen in learned.relations.items():
            table.add_row(role.replace("_", " "), Text(shown(getattr(learned.store.relations, role))), Text(seen))
        console.print(table)
        console.print()
    table = result_table("field", "kind", "because")
    table.columns[2].no_wrap = False
    for name, field in learned.store.fields.items():
        table.add_row(
            Text(shown(name)), Text(field.kind, "dim" if field.kind == "text" else ""), Text(learned.evidence[name])
        )
    console.print(table)


def print_figures(console: Console, figures: Sequence[FieldFigures]) -> None:
    """Per field how many cells change, and for numbers how far up and down."""
    if figures:
        _print_grid(console, field_grid(figures))
        console.print()


def print_impact(console: Console, effect: ImpactFacts, by: str | None) -> None:
    """What the round does to prices, margins and stock, over all and by group."""
    groups = effect.groups
    if not groups or not groups[0].items or (by is None and not any((groups[0].before.margin, groups[0].after.margin))):
        return
    unit = f", in {groups[0].currency}" if groups[0].currency else ""
    console.print(f"impact of what is sent{unit}; the margin is price less cost, of one of each", style="bold")
    _print_grid(console, impact_grid(groups[: LISTED + 1], by))
    if len(groups) > LISTED + 1:
        console.print(f"and {len(groups) - LISTED - 1:,} more groups; --json has them all")
    console.print()


def print_suggestions(console: Console, prices: Sequence[Suggestion], keep: str) -> None:
    """The prices that would keep the margin where the cost rose."""
    what = "share of the price" if keep == "percent" else "amount"
    console.print(f"where the cost rises: the price that keeps the margin's {what}", style="bold")
    _print_grid(console, suggestions_grid(prices[: 2 * LISTED]))
    if len(prices) > 2 * LISTED:
        console.print(f"and {len(prices) - 2 * LISTED:,} more; --json has them all")
    console.print("Nothing of this is applied.\n")


def print_totals(console: Console, sums: Sequence[Total]) -> None:
    """What items come to over their locations, before and after."""
    if sums:
        _print_grid(console, totals_grid(sums, LISTED))
        if len(sums) > LISTED:
            console.print(f"  and {count(len(sums) - LISTED, 'more item')} of which the total changes")
        console.print()


def print_records(console: Console, touched_records: Records) -> None:
    """The open quotes and customers' prices that a changed cost touches."""
    console.print(f"records in {shown(touched_records.path)}: {records_said(touched_records)}", style="bold")
    if touched_records.touched:
        _print_grid(console, records_grid(touched_records, 2 * LISTED))
        if len(touched_records.touched) > 2 * LISTED:
            console.print(f"and {len(touched_records.touched) - 2 * LISTED:,} more; --json has them all")
        what = "share of the price" if touched_records.keep == "percent" else "amount"
        console.print(f"The last column is the price that restores the margin's {what}. Nothing of this is applied.")
    console.print()


WIDEST_WORD = 28


def _print_grid(console: Console, grid: Grid) -> None:
    """A small table; where the terminal is narrow the last column of words takes more lines, and no other."""
    columns = [list(texts) for texts in zip(grid.headings, *grid.rows, strict=True)]
    widths = [max(map(cell_len, texts)) for texts in columns]
    last = grid.words - 1
    room = console.width - sum(widths) + widths[last] - 2 * len(widths)
    table = result_table(*grid.headings, right=range(grid.words, len(grid.headings)))
    table.columns[last].no_wrap, table.columns[last].overflow = False, "fold"
    table.columns[last].max_width = max(8, min(room, WIDEST_WORD))
    for row in list(zip(*columns, strict=True))[1:]:
        table.add_row(*map(Text, row))
    console.print(table)


def print_items(console: Console, facts: Facts, view: View) -> None:
    """Item by item: key, name, rows, and each cell before and after, with the difference for numbers."""
    numbers = {field.field for field in facts.figures if field.number}
    items = list(item_views(facts, view))
    widest = max((cell_len(shown(cell.field)) for item in items for cell in item.cells), default=0)
    for item in items:
        _print_head(console, item)
        for cell in item.cells:
            line = Text("    ").append(cut(shown(cell.field), 24).ljust(min(widest, 24) + 2), "dim")
            _print_cell(console, view.changes.header, cell, line, number=cell.field in numbers)


def print_rest(console: Console, printed: int, total: int, narrowed: bool) -> None:
    """How many items were shown of how many, and how to see the others."""
    if not total:
        console.print("No item fits." if narrowed else "Nothing differs.")
    elif printed < total:
        more = "--all shows them all; --field, --sku and --verdict narrow them down; --sort orders them"
        console.print(f"\n{printed:,} of {count(total, 'item')} shown. {more}.", style="bold")


FOR = {"recode": "new codes", "change": "changes", "add": "new items", "remove": "removals"}
"""What a file is imported for."""


def print_written(console: Console, folder: str, manifest: Manifest, dialect: str) -> None:
    """The files of an update folder, what is not in them, and what was proven."""
    if not manifest.update:
        console.print("Nothing is to be sent, so there is no update file.")
    for title, files in (("to import, in this order", manifest.update), ("to take it back", manifest.undo)):
        if files:
            table = result_table(title, "for", "rows", "cells", "fields", right=(2, 3))
            for file in files:
                fields = ", ".join(shown(field) for field in file.fields)
                table.add_row(
                    Text(file.file),
                    FOR[file.action],
                    f"{file.rows:,}",
                    f"{file.cells:,}",
                    Text(fields, overflow="fold"),
                )
            table.columns[4].no_wrap = False
            console.print(table)
            console.print()
    if manifest.update:
        one = manifest.cells
        parts = (
            (one.changed, "changed"),
            (one.keys, "key"),
            (one.required, "required"),
            (one.carried, "carried along"),
        )
        said = ", ".join(f"{number:,} {what}" for number, what in parts if number)
        console.print(f"cells to import: {said}")
        many = sum(file.action == "change" for file in manifest.update)
        if many > manifest.most_files:
            console.print(
                f"More files than --most-files {manifest.most_files}: a blank cell would empty its field, and a field "
                "is never carried along that is locked, moves by itself, is told as a difference, or has a cell held."
            )
        elif many > 1 and manifest.importer.blanks == "clear":
            console.print(
                "Several files, as a blank cell would empty its field. Fewer: --most-files N, or a higher --file-cost, "
                "which carry cells along.\nOnly if you are certain that your importer skips blanks, --importer-blanks "
                "skip makes it one."
            )
        console.print()
    if manifest.held_before:
        console.print("held by compare", style="bold")
        _print_held(console, manifest.held_before)
        console.print()
    _print_listed(console, "held here", manifest.held)
    _print_listed(console, "sent, but the undo cannot take it back", manifest.one_way)
    if manifest.update:
        back = "live again" + (", but for what is listed above" if manifest.one_way else "")
        console.print(Text("proven by replay on live", "bold green"))
        console.print("  the update files give exactly the target, and touch no other cell")
        console.print(f"  the undo files then give {back}\n")
    console.print(
        f"Wrote {count(len(manifest.update) + len(manifest.undo) + 2, 'file')} to {folder} ({dialect}).",
        soft_wrap=True,
    )


def print_contradictions(console: Console, manifest: Manifest) -> None:
    """Where reviewers said different things (one no is a no, of two choices none is taken); and their comments."""
    lines = []
    for one in manifest.contradictions:
        line = Text(f"  {key_text(one.key)}" + ("" if one.field is None else f"  {shown(one.field)}") + ": ")
        lines.append(line.append("; ".join(f"{answer} in {shown(path)}" for path, answer in one.said)))
    title = "reviewers said different things; not sent, as one no is a no and of two choices none is taken"
    print_some(console, title, lines, everything=False, hint="all in manifest.json")
    comments = []
    for said in manifest.comments:
        where = key_text(said.key) + ("" if said.field is None else f"  {shown(said.field)}")
        comments.append(Text(f"  {where}: {shown(said.comment)}  ({shown(said.file)})"))
    print_some(console, "reviewers' comments", comments, everything=False, hint="all in manifest.json")
    if lines or comments:
        console.print()


def print_some(
    console: Console,
    title: str,
    lines: Sequence[Text],
    *,
    everything: bool,
    of: int | None = None,
    hint: str = "--all shows them",
) -> None:
    """Lines under a title, the first of them or all, and how many there are."""
    if not lines:
        return
    console.print(f"\n{title}", style="bold")
    total = of or len(lines)
    for line in lines if everything else lines[:LISTED]:
        line.truncate(console.width, overflow="ellipsis")
        console.print(line)
    if not everything and total > LISTED:
        console.print(f"  and {total - LISTED:,} more; {hint}")


def _print_held(console: Console, reasons: Sequence[HeldCount]) -> None:
    table = Table.grid(padding=(0, 2, 0, 0))
    for no_wrap in (True, True, False):
        table.add_column(no_wrap=no_wrap, overflow="fold")
    for line in held_lines(reasons):
        table.add_row(Text(f"  {line.reason}", "bold"), Text(line.much, "bold"), line.way_out)
    console.print(table)


def _print_listed(console: Console, title: str, listed: Sequence[Listed]) -> None:
    if not listed:
        return
    console.print(title, style="bold")
    for one in listed[:LISTED]:
        where = key_text(one.key) + (f", {shown(one.field)}" if one.field else "")
        console.print(cut(f"  {where}: {one.reason}", console.width))
    if len(listed) > LISTED:
        console.print(f"  and {len(listed) - LISTED:,} more, all in manifest.json")
    console.print()


def _print_head(console: Console, item: ItemView) -> None:
    style = {"changed": "", "recoded": "cyan", "new": "green", "gone": "bright_red"}[item.verdict]
    rows = " ".join(f"{file} row {row:,}" for file, row in (("live", item.row.live), ("sheet", item.row.sheet)) if row)
    verdict: str = "" if item.verdict == "changed" else item.verdict
    if item.held is not None:
        verdict += ", held"
    tail = "  ".join(part for part in (verdict, rows) if part)
    key = key_text(item.key)
    room = console.width - cell_len(key) - cell_len(tail) - 4
    head = Text.assemble((key, f"bold {style}".strip()), "  ", cut(shown(item.name), max(room, 8)) if item.name else "")
    head.append(" " * max(2, console.width - cell_len(head.plain) - cell_len(tail)))
    console.print(head.append(tail, "dim"), overflow="ellipsis", no_wrap=True)


def _print_cell(console: Console, header: Header, cell: CellView, line: Text, *, number: bool) -> None:
    """A change on one line when it fits, else on two."""
    field, before, after, note = cell.field, cell.before, cell.after, cell.held
    tail = signed(cell.step) + (f"  {signed(cell.per_cent, ' %'):>9}" if cell.per_cent is not None else "")
    if note:
        tail = f"held: {note}"
    new = shown(after)
    if before is None:
        console.print(line.append(cut(new, console.width - cell_len(line.plain))))
        return
    old = shown(before)
    room = console.width - cell_len(line.plain)
    settings = header.settings.get(field)
    if settings is not None and settings.kind == "list" and before.strip() and after.strip():
        _print_list(console, line, added_and_removed(before, after, settings.separator or ","), tail)
        return
    both = cell_len(old) + 3 + cell_len(new)
    if both + (cell_len(tail) + 2 if tail else 0) <= room:
        line.append(old, "bright_red").append(" → ").append(new, "green")
        if tail:
            line.append(" " * (room - both - cell_len(tail))).append(tail, "magenta" if note else "")
        console.print(line)
        return
    indent = cell_len(line.plain)
    if not number and _print_pieces(console, line, pieces(before, after), tail):
        return
    first, second = _around_the_difference(old, new, room - 2 - (cell_len(tail) + 2 if tail else 0))
    line.append("  ").append(first, "bright_red")
    console.print(line)
    below = Text(" " * indent).append("→ ").append(second, "green")
    if tail:
        below.append(" " * max(2, console.width - cell_len(below.plain) - cell_len(tail)))
        below.append(tail, "magenta" if note else "")
    console.print(below)


def _print_list(console: Console, line: Text, changed: tuple[list[str], list[str]], tail: str) -> None:
    """A list's change: what was added and what was removed; or that only its order is another one."""
    added, removed = ([shown(value) for value in values] for values in changed)
    for sign, values, style in (("+", added, "green"), ("−", removed, "bright_red")):
        for value in values:
            line.append(f"{sign} {value}  ", style)
    if not (added or removed):
        line.append("the same values in another order  ")
    line.truncate(console.width - (cell_len(tail) + 2 if tail else 0), overflow="ellipsis")
    if tail:
        line.append(" " * max(2, console.width - cell_len(line.plain) - cell_len(tail))).append(tail, "magenta")
    console.print(line)


def _print_pieces(console: Console, line: Text, places: Sequence[Piece], tail: str) -> bool:
    """A long text's change: the words that differ, with a few around them; False where these are no shorter."""
    indent, most = cell_len(line.plain), PLACES
    if not 0 < len(places) <= 2 * most:
        return False
    for number, piece in enumerate(places[:most]):
        start = line if not number else Text(" " * indent)
        room = console.width - indent - 3
        lead, old, new, trail = (
            shown(text) if text else "" for text in (piece.lead, piece.old, piece.new, piece.trail)
        )
        if cell_len(lead) > room // 4:
            lead = "…" + lead[-(room // 4) :]
        start.append(lead, "dim").append(cut(old, room // 3) or "∅", "bright_red")
        start.append(" → ").append(cut(new, room // 3) or "∅", "green").append(trail, "dim")
        start.truncate(console.width, overflow="ellipsis")
        console.print(start)
    rest = f"and {count(len(places) - most, 'more place')}" if len(places) > most else ""
    if rest or tail:
        below = Text(" " * indent + rest, "dim")
        below.append(" " * max(2, console.width - cell_len(below.plain) - cell_len(tail))).append(tail, "magenta")
        console.print(below if tail else Text(below.plain.rstrip(), "dim"))
    return True


PLACES = 3
"""So many places where a text differs are shown."""


def _around_the_difference(before: str, after: str, room: int) -> tuple[str, str]:
    """Two long texts cut so that the first place where they differ can be seen."""
    if cell_len(before) <= room and cell_len(after) <= room:
        return before, after
    same = next(
        (n for n, (a, b) in enumerate(zip(before, after, strict=False)) if a != b),
        min(len(before), len(after)),
    )
    skip = max(0, same - room // 3)
    lead = "…" if skip else ""
    return cut(lead + before[skip:], room), cut(lead + after[skip:], room)


def result_table(*headings: str, right: Sequence[int] = ()) -> Table:
    """A plain table: no frame, a line under the headings, numbers to the right."""
    table = Table(box=None, pad_edge=False, padding=(0, 2, 0, 0), show_edge=False, header_style="bold")
    for number, heading in enumerate(headings):
        justify: Literal["right", "left"] = "right" if number in right else "left"
        table.add_column(heading, justify=justify, no_wrap=True)
    return table
