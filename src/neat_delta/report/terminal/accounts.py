"""Where every row went, and what else became of items: changed meanwhile, clashing, recoded, nearly the same."""

from __future__ import annotations

import polars as pl
from rich.table import Table
from rich.text import Text

from neat_delta.core.base.model.catalogue import listed
from neat_delta.core.base.model.changeset import ChangeSet, code_changes, counted, held
from neat_delta.core.base.model.header import Header, LikelyCode
from neat_delta.core.base.model.reasons import sort_of
from neat_delta.core.sheets.rekey.moves import codes_in
from neat_delta.report.console import Screen, print_entries, print_some, result_table
from neat_delta.report.facts import (
    clash_grid,
    clashing_items_said,
    closing_said,
    meanwhile_said,
)
from neat_delta.report.terminal.inputs import is_list, print_rewritten
from neat_delta.report.terminal.written import print_held
from neat_delta.report.text import count, display_text, key_text

__all__ = ["print_accounts", "print_clashes", "print_meanwhile", "print_waiting"]


NOT_THERE = {"list": "not in the list", "rules": "no rule for it"}
"""What is said of items that are not in the sheet."""


def print_accounts(console: Screen, changes: ChangeSet) -> None:
    """How many rows were read and where each went."""
    header, counts = changes.header, changes.header.counts
    in_sheet = counted(changes.items["verdict"].filter(changes.items["sheet"].is_not_null()))
    of_sheet = "list" if is_list(header) else "rules" if header.by_rules else "sheet"
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
        if live or sheet or name in {"same", "set aside"} or (name in {"changed", "new"} and not is_list(header)):
            columns = ("·" if number is None else f"{number:,}".replace("-", "−") for number in (live, sheet))
            table.add_row(Text(name, style), *columns)
    table.add_section()
    table.add_row("rows read", f"{header.live.rows:,}", f"{header.sheet.rows:,}", style="bold")
    console.print(table)


def print_meanwhile(console: Screen, changes: ChangeSet) -> None:
    """What the store changed since the base and the sheet did not: it stays; and what both changed alike."""
    header, counts = changes.header, changes.header.counts
    if header.base is None:
        return
    console.print(Text(f"\nmeanwhile in the store: {meanwhile_said(changes)}", "bold"))
    many = changes.meanwhile.height
    room = console.room(MEANWHILE if many > MEANWHILE + 1 else MEANWHILE + 1)
    lines = []
    for key, field, base, live in changes.meanwhile[:room].select("key", "field", "base", "live").iter_rows():
        line = Text(f"  {' / '.join(display_text(part) for part in key)}")
        if field is None:
            lines.append(line.append("  gone from the store", "bright_red"))
            continue
        line.append(f"  {display_text(field)}  ", "dim").append(display_text(base or ""), "bright_red")
        lines.append(line.append(" → ").append(display_text(live or ""), "green"))
    print_entries(console, lines, room, of=many)
    if counts.left_to_store:
        sentence = f"{count(counts.left_to_store, 'change')} of the sheet left as the store has it, as you said"
        console.print(f"  {sentence}")
    print_some(
        console,
        "recoded meanwhile in the store; followed",
        [
            Text(f"  {key_text(likely.old)} → {key_text(likely.new)}  {_why_followed(likely)}")
            for likely in header.followed
        ],
    )


MEANWHILE = 5
"""So many of the store's own changes are shown."""


def _why_followed(likely: LikelyCode) -> str:
    """Why two codes are taken for one item."""
    if not likely.fields:
        return "as the list of codes says"
    name = "" if likely.alike is None else f", the name to {likely.alike} %"
    return f"{likely.agree:,} of {likely.fields:,} fields agree{name}"


def print_clashes(console: Screen, changes: ChangeSet) -> None:
    """The cells that the sheet and the store both changed, side by side: what stood there, the sheet's, the store's."""
    room = console.room()
    grid, many = clash_grid(changes, room)
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
    console.print_rest(many, room)


def print_waiting(console: Screen, changes: ChangeSet, *, total: bool = True) -> None:
    """What waits for a person: what is held, and what was set aside; and in all how much is to be sent, if that is not
    said elsewhere.
    """
    header, counts = changes.header, changes.header.counts
    if total:
        console.print(f"\n{closing_said(changes)}")
    elif counts.written_differently or counts.recoded:
        console.print()
    if counts.written_differently and console.detail != "waiting":
        print_rewritten(console, changes.header)
    _print_codes(console, changes)
    reasons = changes.reasons()
    if reasons:
        console.print("\nheld, with the way to have it otherwise", style="bold")
        print_held(console, reasons)
    if header.idle_accepts:
        names = listed([display_text(str(accepted)) for accepted in header.idle_accepts])
        console.print(Text(f"\nlet through, and fits nothing that was found: {names}", "yellow"))
    if counts.blanks_kept:
        console.print(f"  dropped  {count(counts.blanks_kept, 'cell')}  blank in the sheet; live keeps its value")
    aside = [row for row in header.set_aside if sort_of(row.reason) != "near"]  # these are told by themselves
    if aside:
        console.print("\nset aside, with the reason", style="bold")
        room = console.room()
        table = Table.grid(padding=(0, 2, 0, 0))
        for ratio in (None, 2, 3):
            table.add_column(no_wrap=ratio is None, overflow="fold", max_width=ratio and console.width * ratio // 6)
        for row in aside[:room]:
            where = f"  {'list' if row.file == 'sheet' and is_list(header) else row.file} row {row.row:,}"
            table.add_row(*map(Text, (where, key_text(row.key), row.reason)))
        console.print(table)
        console.print_rest(len(aside), room)
    if header.unseen:
        console.print(
            f"what live has in {listed([display_text(n) for n in header.unseen])} is not known: no undo brings it back"
        )
    unresolved = changes.unresolved.filter(pl.col("source") != "sheet")  # which is told with its reason
    if unresolved.height:
        rows = unresolved["row"].n_unique()
        console.print(
            f"{count(unresolved.height, 'cell')} of {count(rows, 'row')} could not be worked out and stay as they are",
            style="magenta",
        )
    _print_near(console, header)
    _print_likely(console, header)


def _print_codes(console: Screen, changes: ChangeSet) -> None:
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
        console.print(
            Text(f"links that change with them: {display_text(str(name))} of {count(field_links.height, 'item')}")
        )
    stuck = codes.filter(pl.col("held").is_not_null())
    lines = [
        Text(f"  {display_text(before)} → {display_text(after)}: {reason.removeprefix('code: ')}")
        for before, after, reason in stuck.select("before", "after", "held").iter_rows()
    ]
    print_some(console, "codes that cannot change", lines)


def _print_near(console: Screen, header: Header) -> None:
    taken_rows, as_asked = sum(near.taken for near in header.near), "taken for the item whose key is near, as you said"
    if taken_rows and console.detail != "all":
        console.print(f"\n{count(taken_rows, 'row')} {as_asked}")
    titles = {True: as_asked, False: "not taken, as the key nearly is an item's"}
    for taken in (True, False) if console.detail == "all" else (False,):
        lines = [
            Text(f"  sheet row {near.row:,}: {key_text(near.key)} ").append(
                f"is {near.why}" if near.why else f"for {key_text(near.live_key)}"
            )
            for near in header.near
            if near.taken == taken
        ]
        print_some(console, titles[taken], lines)
        if lines and not taken:
            hint = (
                "  --accept-near-keys takes a row for the only item whose key is near; --accept near:SKU lets it be "
                "a new item"
            )
            console.print(Text(hint, "dim"))


def _print_likely(console: Screen, header: Header) -> None:
    if not header.likely:
        return
    console.print("\nlikely code changes: gone and new, but they agree in nearly everything", style="bold")
    lines = []
    for likely in header.likely:
        name = "" if likely.alike is None else f", the name to {likely.alike} %"
        agree = f"{likely.agree:,} of {likely.fields:,} fields{name}"
        lines.append(Text(f"  {key_text(likely.old)} → {key_text(likely.new)}  {agree}"))
    print_entries(console, lines, console.room())
    console.print("  None is taken. --likely-codes FILE makes a list of them: look it over, and --recode FILE takes it")
