"""What came in: the files, how they are written, which headings stand for which fields, what was learned of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import PurePath
from textwrap import wrap
from typing import TYPE_CHECKING

from rich.cells import cell_len
from rich.text import Text

from neat_delta.core.base.infer.questions import QUESTIONS
from neat_delta.core.base.model.catalogue import Catalogue, listed
from neat_delta.core.base.model.header import Header
from neat_delta.core.base.model.importer import NEW_CODE
from neat_delta.core.compare.diff.equality import kinds_said
from neat_delta.report.settings import as_options
from neat_delta.report.text import count, display_text, key_text

if TYPE_CHECKING:
    from neat_delta.core.base.infer.learn import Learned
    from neat_delta.core.base.model.layout import Layout
    from neat_delta.core.review.samples import ColumnSample, MatchedRows
    from neat_delta.core.sheets.match.prepare import AlignedInputs
    from neat_delta.core.sheets.worksheet.cut import WorkingSheet
from neat_delta.report.console import Screen, print_fact, print_some, result_table

__all__ = [
    "is_list",
    "print_headings",
    "print_inputs",
    "print_learned",
    "print_moving",
    "print_pairs",
    "print_questions",
    "print_rewritten",
    "print_sheet",
    "print_source",
]


def store_said(name: str | None, path: str) -> str:
    """Which store file a command goes by, and which store it describes.

    >>> store_said("Quillfern Apiary Supply", "neat-delta.toml"), store_said(None, "draft.toml")
    ('Quillfern Apiary Supply (neat-delta.toml)', 'draft.toml')
    """
    return display_text(path) if name is None else f"{display_text(name)} ({display_text(path)})"


def print_moving(console: Screen, cells: Mapping[str, int]) -> None:
    """One line where a copy of a whole export changes what the store moves by itself."""
    if cells:
        many, names = sum(cells.values()), listed([display_text(name) for name in cells])
        sentence = (
            f"A copy of a whole export? It changes {count(many, 'cell')} of {names}, which the store moves by itself. "
            "Say what it was cut from with --base FILE, or leave them out with --only."
        )
        console.print(Text(sentence + ("" if console.detail == "waiting" else "\n")), style="yellow")


def print_inputs(  # noqa: PLR0912 - one fact after another
    console: Screen, header: Header, store: str | None, *, kinds_given: bool, lacking: Sequence[str] = ()
) -> None:
    """What was read, how it was understood, and by which key it was matched; `lacking` are the fields of the store file
    that live has not, and whose checks so are idle.
    """
    known_fields = {*header.key, *header.fields, *header.untouched} - {*header.unseen}
    fields = {"live": len(known_fields), "sheet": len(header.pairs)}
    for name, source in (("live", header.live), ("sheet", header.sheet)):
        what = "codes" if name == "sheet" and is_list(header) else name
        if name == "sheet" and header.by_rules:
            print_fact(console, "rules", _rules_said(header))
            continue
        print_source(console, what, source.path, source.rows, fields[name], source.layout, source.notes)
    origin = header.sheet.origin
    if origin is not None:
        here = origin.blake3 == header.live.blake3
        where = f"cut from {display_text(origin.path)}: {origin.cut:,} of {count(origin.rows, 'row')}"
        if not here and header.base is None:
            where += ". Live is another file now, and what stood there then is not known"
        print_fact(console, "", where, style="" if here or header.base is not None else "yellow")
    if header.counts.lost:
        names = listed([key_text(key_of) for key_of in header.lost], 5)
        more = "" if header.counts.lost <= len(header.lost) else f" (of {header.counts.lost:,})"
        sentence = f"{count(header.counts.lost, 'row')} that it was cut with did not come back{more}: {names}"
        print_fact(console, "", sentence, style="yellow")
    if header.base is not None:
        base = header.base
        if header.remembered:
            print_fact(console, "base", f"what the sheet was cut with, as it remembers: {count(base.rows, 'row')}")
        else:
            print_source(console, "base", base.path, base.rows, None, base.layout, base.notes)
        if header.two_way:
            sentence = f"it lacks {listed([display_text(name) for name in header.two_way])}: compared with live alone"
            print_fact(console, "", sentence, style="yellow")
    how = "" if kinds_given else "  (the heading says so; --key names another)"
    print_fact(console, "key", ", ".join(display_text(field) for field in header.key) + how)
    if header.matched_by:
        names = listed([display_text(name) for name in header.matched_by])
        print_fact(console, "", f"the list's rows found their items by {names}")
    if store is not None:
        print_fact(console, "store", store_said(header.store.name, store))
        if lacking:
            object_ = "that field" if len(lacking) == 1 else "those fields"
            sentence = (
                f"live lacks {listed([display_text(name) for name in lacking])}: what it says of {object_} is idle"
            )
            print_fact(console, "", sentence, style="yellow")
    elif header.settings:
        sentence = "; ".join(
            f"{sort} {listed([display_text(name) for name in names])}"
            for sort, names in kinds_said(header.settings).items()
        )
        print_fact(console, "kinds", f"learned from live: {sentence}")
    if header.sheet_writing.decimal_mark != header.writing.decimal_mark:
        mark = "comma" if header.sheet_writing.decimal_mark == "," else "point"
        print_fact(
            console, "", f"the sheet's numbers have a decimal {mark}; they are sent as live writes them", style="yellow"
        )
    if header.sheet_writing.date_form != header.writing.date_form:
        print_fact(
            console,
            "",
            f"the sheet's dates are {header.sheet_writing.date_form}; they are sent as live writes them",
            style="yellow",
        )
    console.print()


def _rules_said(header: Header) -> str:
    """The file of the rules and their names, or what was said on the command line."""
    if header.sheet.path.startswith("--"):
        return display_text("; ".join(f"{rule.field} = {rule.expression}" for rule in header.rules))
    names = dict.fromkeys(display_text(rule.rule) for rule in header.rules)
    return f"{display_text(header.sheet.path)}: {listed(list(names))}"


def print_source(
    console: Screen, name: str, path: str, rows: int, fields: int | None, layout: Layout, notes: Sequence[str]
) -> None:
    """A file, as it was understood, and what was noticed while it was read."""
    fields_said = "" if fields is None else f"{count(fields, 'field')}, "
    size = f"{count(rows, 'row')}, {fields_said}{display_text(str(layout))}"
    print_fact(console, name, f"{'standard input' if path == '-' else display_text(path)}: {size}")
    for note in notes:
        print_fact(console, "", display_text(as_options(note)), style="yellow")


def print_rewritten(console: Screen, header: Header) -> None:
    """How many cells programs rewrote, field by field, and how to send them all the same."""
    fields = [f"{display_text(name)} {number:,}" for name, number in header.rewritten.items()]
    sentence = f"{count(header.counts.written_differently, 'cell')} written differently, same value, not sent: "
    console.print(Text(sentence + listed(fields, 8), overflow="fold"), soft_wrap=False)
    console.print(Text(f"  to send them as they are: --exact {display_text(next(iter(header.rewritten)))}", "dim"))


def print_headings(console: Screen, header: Header) -> None:
    """Which headings were left out, and which fields are left alone."""
    left_out: dict[str, list[str]] = {}
    for pair in header.pairs:
        if pair.field is None:
            hint = f" (nearest: {display_text(pair.nearest)})" if pair.nearest and pair.how == "unmatched" else ""
            left_out.setdefault(pair.how, []).append(display_text(pair.heading) + hint)
    nearest_fields = {pair.nearest for pair in header.pairs if pair.field is None and pair.how != "unmatched"}
    alone = (
        []
        if is_list(header) or header.by_rules
        else [display_text(name) for name in header.untouched if name not in nearest_fields]
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
            most = console.room(NAMED) or len(names)
            console.print(Text(f"{chr(10) if first else ''}{title}: {listed(names, most)}"))
            first = False


NAMED = 6
"""So many headings of a sort are named."""


def is_list(header: Header) -> bool:
    """Whether the sheet is nothing but a list of codes."""
    return {pair.field for pair in header.pairs} <= {None, *header.key, NEW_CODE}


def print_pairs(
    console: Screen,
    aligned: AlignedInputs,
    sheet: Catalogue,
    pairs: Sequence[ColumnSample],
    rows: MatchedRows,
    *,
    by: list[str],
    store: str | None,
) -> None:
    """Which heading is which field, with samples of both, and what becomes of the rows, which are matched `by`; where
    only what waits is wanted, the headings that are no field.
    """
    if console.detail == "waiting":
        pairs = [pair for pair in pairs if pair.field is None]
    for name, catalogue in (("live", aligned.live), ("sheet", sheet)):
        print_source(
            console,
            name,
            catalogue.path,
            catalogue.height,
            len(catalogue.fields),
            catalogue.layout,
            catalogue.notes,
        )
    if store is not None:
        print_fact(console, "store", store_said(aligned.store.name if aligned.store else None, store))
    names = ", ".join(display_text(field) for field in by)
    print_fact(console, *(("key", names) if by == aligned.key.fields else ("rows", f"matched by {names}")))
    console.print()
    table = result_table(f"in {display_text(PurePath(sheet.path).name)}", "field", "why", "in the sheet", "in live")
    for number, column in enumerate(table.columns):
        column.no_wrap, column.overflow = number in {0, 1}, "ellipsis"
    words = [(display_text(pair.heading) or "·", _field_of(pair), pair.how) for pair in pairs]
    taken = sum(max(map(cell_len, texts)) for texts in zip(*words, (f"in {sheet.path}", "", ""), strict=True))
    room = console.width - taken - 2 * 4
    longest = max((cell_len(display_text(value)) for pair in pairs for value in pair.live), default=0)
    of_live = max(16, min(longest, room // 2))
    rooms = (max(16, room - of_live), of_live)
    for pair in pairs:
        sure, field = pair.field is not None, _field_of(pair)
        table.add_row(
            Text(display_text(pair.heading) or "·", "" if sure else "magenta"),
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
        console.print(Text(f"fields that no heading stands for: {listed([display_text(name) for name in rest])}"))
    if any(pair.how == "not described" for pair in pairs):
        console.print(
            'A heading that the mapping does not name is left out. --map "HEADING=FIELD" or --ignore adds it.'
        )
    if any(pair.how == "unmatched" for pair in pairs):
        console.print('A heading that live does not have is left out. --map "HEADING=FIELD" says what it stands for.')


def _print_rows(console: Screen, rows: MatchedRows) -> None:
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
        return display_text(pair.field)
    return f"none; nearest: {display_text(pair.nearest)}" if pair.nearest else "none"


def _sample(value: str, room: int) -> str:
    """A value on as many lines of a narrow column as it takes, two at most."""
    return "\n".join(wrap(display_text(value), room, subsequent_indent="  ", max_lines=2, placeholder=" …"))


def print_sheet(
    console: Screen,
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
    if console.detail == "waiting":
        _print_missing(console, sheet)
        console.print(f"Wrote {output}.", soft_wrap=True)
        return
    print_source(console, "live", live.path, live.height, len(live.fields), live.layout, live.notes)
    size = f"{count(sheet.cells.height, 'item')} of {live.height:,}, {count(len(sheet.columns), 'field')}"
    print_fact(console, "sheet", size)
    for name, columns in (
        ("key", [column for column in sheet.columns if column.key]),
        ("locked", [column for column in sheet.columns if column.locked and not column.key]),
        ("open", [column for column in sheet.columns if not column.locked]),
    ):
        if columns:
            print_fact(console, name, ", ".join(display_text(column.heading) for column in columns))
    for heading, number in kept.items():
        cells = f"{count(number, 'cell')} of {display_text(heading)}"
        sentence = f"{cells} stand as in live: the date form has no place for their time"
        print_fact(console, "", sentence, style="yellow")
    if remembers is None and beside:
        print_fact(console, "keeps", f"where it was cut from, in {display_text(beside)}: keep it beside the sheet")
    if remembers is not None:
        where = (
            f", in {display_text(beside)}: keep it beside the sheet" if beside else ", in a hidden part of the workbook"
        )
        sentence = f"what these items are now ({max(1, round(remembers / 1000)):,} KB){where}"
        print_fact(console, "knows", sentence)
    _print_missing(console, sheet)
    console.print(f"\nWrote {output}. Edit it, save it, and then:  {compare}", soft_wrap=True)


def _print_missing(console: Screen, sheet: WorkingSheet) -> None:
    codes = [Text(f"  {display_text(sku)}") for sku in sheet.missing]
    print_some(console, f"{count(len(codes), 'code')} not in live", codes)


def print_questions(console: Screen, settings: Sequence[str], output: str) -> None:
    """What nobody has said yet of the importer, and what is assumed till then."""
    if settings:
        assumed = "; ".join(
            question.answers[question.assumed] for question in QUESTIONS if question.setting in settings
        )
        sentence = f"no export shows it, and so {display_text(output)} assumes: {assumed}"
        console.print(Text(sentence + ("" if console.detail == "waiting" else "\n"), "yellow"))


def print_learned(console: Screen, learned: Learned, live: Catalogue) -> None:
    """What a catalogue shows of its store: the key, how fields stand to each other, and field by field."""
    print_source(console, "live", live.path, live.height, len(live.fields), live.layout, live.notes)
    print_fact(
        console,
        "key",
        f"{', '.join(display_text(name) for name in learned.store.key.fields)}: {display_text(learned.key)}",
    )
    console.print()
    if learned.relations:
        table = result_table("relation", "field", "because")
        table.columns[2].no_wrap = False
        for role, seen in learned.relations.items():
            table.add_row(
                role.replace("_", " "), Text(display_text(str(getattr(learned.store.relations, role)))), Text(seen)
            )
        console.print(table)
        console.print()
    table = result_table("field", "kind", "because")
    table.columns[2].no_wrap = False
    for name, field in learned.store.fields.items():
        table.add_row(
            Text(display_text(name)),
            Text(field.kind, "dim" if field.kind == "text" else ""),
            Text(learned.evidence[name]),
        )
    console.print(table)
    console.print()
