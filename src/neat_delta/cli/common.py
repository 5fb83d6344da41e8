"""What several commands share: how files are read, the store file, facts for a program, saying that work is going
on.
"""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from functools import partial
from itertools import count
from typing import TYPE_CHECKING, Any, Literal

import click

from neat_delta.cli.options import FILES, option

if TYPE_CHECKING:
    from neat_delta.app.outputs import Output
    from neat_delta.app.sheet import SheetFile
    from neat_delta.core.base.model.catalogue import Source, Way
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.header import Header
    from neat_delta.core.base.model.history import HistoryCell
    from neat_delta.core.base.model.layout import Layout, Notation
    from neat_delta.core.base.model.lists import ListMapping
    from neat_delta.core.base.model.rounds import InputRole
    from neat_delta.core.base.model.store import Store
    from neat_delta.files.rounds import Round
    from neat_delta.report.terminal import Detail, Screen

__all__ = [
    "detail",
    "find_round",
    "free_folder",
    "hand_over",
    "header_facts",
    "layout_from_options",
    "layout_options",
    "list_mapping",
    "machine_options",
    "make_folder",
    "must_be_one_output",
    "must_end_in",
    "must_fit",
    "must_not_be_input",
    "notation_from_options",
    "output_options",
    "print_json",
    "print_live",
    "print_round",
    "read_store_of_round",
    "read_store_option",
    "screen",
    "skus_option",
    "status_of",
    "store_arguments",
    "store_option",
    "working",
    "worksheet_form",
    "write_worksheet",
]

Decorator = Callable[[Any], Any]


def output_options(command: Any) -> Any:  # noqa: ANN401 - as Click decorates
    """The options that say what is printed: only what waits, all of it, or the facts for a program."""
    for names, words in (
        (("-v", "--verbose"), "Print all of it: every entry of each list, and how long each step took."),
        (("-q", "--quiet"), "Print only what waits for you."),
    ):
        command = option(*names, is_flag=True, expose_value=False, callback=_keep_detail, help=words)(command)
    return option("--json", "as_json", is_flag=True, help="Print the facts as JSON.")(command)


def _keep_detail(context: click.Context, option: click.Parameter, chosen: bool) -> None:
    if not chosen:
        return
    if DETAIL in context.meta:
        raise click.UsageError("--quiet and --verbose are opposites; choose one of them.")
    context.meta[DETAIL] = "all" if option.name == "verbose" else "waiting"


DETAIL = "neat_delta.detail"


def detail() -> Detail:
    """How much is to be printed, as the options say."""
    context = click.get_current_context(silent=True)
    chosen: Detail = context.meta.get(DETAIL, "usual") if context else "usual"
    return chosen


def screen() -> Screen:
    """The console for reports, in as much detail as the options say."""
    from neat_delta.report.console import terminal

    return terminal(detail())


store_option: Decorator = option(
    "--store",
    metavar="FILE",
    envvar="NEAT_DELTA_STORE",
    help="The store file.  [default: $NEAT_DELTA_STORE, or neat-delta.toml beside LIVE or from this folder upward]",
)

skus_option: Decorator = option(
    "--skus",
    metavar="FILE",
    help="Only the items that FILE names: one code a line (- for standard input), or a column of any table: "
    "report.csv#sku.",
)

LAYOUT = (
    ("encoding", "NAME", "Such as utf-8, cp1252, cp1250, cp1251."),
    ("separator", "MARK", "Between cells: comma, semicolon, tab, pipe, or the character itself."),
    ("quote", "MARK", 'Around cells; "none" where there are no quotes.'),
    ("escape", "MARK", 'Before a quote inside a cell; "none" where quotes are doubled.'),
    ("header-line", "N", "The line of the headings."),
    ("sheet-name", "NAME", "The sheet of a workbook.  [default: its first]"),
    ("decimal-mark", "MARK", "In SHEET's numbers: . or ,"),
    ("thousands-mark", "MARK", "In SHEET's numbers."),
    ("date-form", "FORM", "In SHEET, such as DD.MM.YYYY."),
    (
        "query",
        "SQL",
        "What a database is asked.  [default: all of the table that #NAME behind it names]",
    ),
)
OLDER_THAN = ("--older-than", "AGE", "Refuse what was changed longer ago than AGE: 90m, 12h, 2d, 1w.")
MACHINE = (
    (
        "--memory",
        "SIZE",
        "Read files that take more memory than SIZE a few columns at a time: 2GB.  [default: half of what is free]",
    ),
    ("--workers", "N", "Let N processes of this machine work on long files."),
    ("--cluster", "ADDRESS", "Let the workers of a Dask scheduler work on long files: tcp://scheduler:8786."),
    ("--scratch", "DIR", "Where workers lay tables for each other: a folder that all of them reach."),
)
WRITING = ("decimal-mark", "thousands-mark", "date-form")


def layout_options(*, two: bool) -> Decorator:
    """The options that say how files are laid out; with two files, a value is for one of them or for both.

    Values are kept in the context, for `layout_from_options` and `notation_from_options`.
    """

    def add(command: Any) -> Any:  # noqa: ANN401 - as Click decorates
        command = machine_options(command)
        name, metavar, words = OLDER_THAN
        command = option(
            name,
            metavar=metavar,
            expose_value=False,
            callback=_keep_age,
            help=words,
            group=FILES,
        )(command)
        for name, metavar, words in reversed(LAYOUT):
            if name in WRITING and not two:
                continue
            command = option(
                f"--{name}", metavar=metavar, multiple=True, expose_value=False, callback=_keep, help=words,
                group=FILES,
            )(command)  # fmt: skip
        return command

    return add


def _keep_age(context: click.Context, option: click.Parameter, age: str | None) -> None:
    """Refuse files that are older, while the command lasts."""
    del option
    if age is not None:
        from neat_delta.app.forms import seconds_of
        from neat_delta.files.sources import not_older_than

        try:
            seconds = seconds_of(age)
        except ValueError as error:
            raise click.BadParameter(str(error), param_hint=OLDER_THAN[0]) from None
        context.with_resource(not_older_than(seconds))


def machine_options(command: Any) -> Any:  # noqa: ANN401 - as Click decorates
    """The options that say how much memory tables may take, and who works on them."""
    kept = (_keep_memory, _keep_workers, _keep_workers, _keep_scratch)
    for (name, metavar, words), keep in reversed([*zip(MACHINE, kept, strict=True)]):
        kind = click.IntRange(min=1) if name == "--workers" else None
        command = option(
            name, metavar=metavar, expose_value=False, callback=keep, help=words, group=FILES, type=kind
        )(command)  # fmt: skip
    return command


def _keep_memory(context: click.Context, option: click.Parameter, size: str | None) -> None:
    """Let tables take no more, while the command lasts."""
    del option
    if size is not None:
        from neat_delta.files.footprint import memory_at_most

        try:
            context.with_resource(memory_at_most(size))
        except ValueError as error:
            raise click.BadParameter(f"{error}.", param_hint="--memory") from None


def _keep_workers(context: click.Context, option: click.Parameter, engaged: int | str | None) -> None:
    """Let processes of this machine, or those of a cluster, work on long files, while the command lasts."""
    if engaged is None:
        return
    from neat_delta.app.cluster import workers

    if WORKERS in context.meta:
        raise click.UsageError("--workers are of this machine, --cluster has others; choose one of them.")
    context.meta[WORKERS] = engaged
    try:
        context.with_resource(workers(engaged, _say_workers))
    except ValueError as error:
        raise click.BadParameter(f"{error}.", param_hint=option.opts[0]) from None


WORKERS = "neat_delta.workers"


def _say_workers(who: str) -> None:
    """Who works, on standard error: above what is said to be going on."""
    if detail() != "waiting":
        (PRINTERS[-1] if PRINTERS else partial(click.echo, err=True))(f"workers {who}")


def _keep_scratch(context: click.Context, option: click.Parameter, folder: str | None) -> None:
    """Let processes hand each other tables there, while the command lasts."""
    del option
    if folder is not None:
        from neat_delta.files.scratch import scratch_at

        context.with_resource(scratch_at(folder))


def _keep(context: click.Context, option: click.Parameter, values: tuple[str, ...]) -> None:
    if option.name == "query" and values:
        from neat_delta.files.sources.address import is_database

        if not any(is_database(word.rpartition("=")[2]) for word in sys.argv):
            raise click.BadParameter(
                "it asks a database, and none is named. One is postgresql://HOST/DATABASE.", param_hint="--query"
            )
    context.meta[f"neat_delta.{option.name}"] = values


def _layout_word(name: str, side: str) -> str | None:
    """The value of a layout option for live or sheet: `live=cp1252` is for one of the two, `cp1252` for both. A store's
    report is only meant where it is named.
    """
    chosen = None
    for value in click.get_current_context().meta.get(f"neat_delta.{name}", ()):
        which, mark, rest = value.partition("=")
        if not (mark and which in {"live", "sheet", "base", "report"}):
            chosen = chosen if side == "report" else value
        elif which == side:
            chosen = rest
    return chosen


def layout_from_options(side: str, base: Layout | None = None) -> Layout:
    """What the options say of the layout of live or sheet, over what is known anyway."""
    import msgspec

    from neat_delta.core.base.model.conflicts import conflicting_settings
    from neat_delta.core.base.model.layout import SEPARATORS, Layout
    from neat_delta.core.base.model.store import FileForm, Store

    form_marks: dict[str, Any] = {}
    for name in ("encoding", "separator", "quote", "escape", "header_line", "sheet_name", "query"):
        value = _layout_word(name, side)
        if value is None:
            continue
        option = "--" + name.replace("_", "-")
        if name == "header_line":
            if not value.isdecimal() or not int(value):
                raise click.BadParameter(f"{value!r} is no line; lines are counted from 1.", param_hint=option)
            form_marks[name] = int(value)
        elif name in {"separator", "quote", "escape"}:
            words = {word: mark for mark, word in SEPARATORS.items()} | ({"none": ""} if name != "separator" else {})
            form_marks[name] = words.get(value, "\t" if value == "\\t" else value)
        else:
            form_marks[name] = value
    marks = {name: mark for name, mark in form_marks.items() if name in {"separator", "quote", "escape"}}
    for conflict in conflicting_settings(Store(file=FileForm(**marks))) if marks else ():
        option = conflict.where[-1]
        what = f"{marks[option]!r} is not right" if option in marks else "It is not right"
        raise click.BadParameter(f"{what}: {conflict.what}.", param_hint=f"--{option}")
    return msgspec.structs.replace(base or Layout(), **form_marks)


def notation_from_options() -> Notation:
    """What the options say of how the sheet writes values."""
    from neat_delta.core.base.model.conflicts import conflicting_settings
    from neat_delta.core.base.model.layout import Notation
    from neat_delta.core.base.model.store import Store

    decimal = _layout_word("decimal_mark", "sheet")
    if decimal not in {None, ".", ","}:
        raise click.BadParameter(
            f"{decimal!r} is no decimal mark; write a point or a comma.", param_hint="--decimal-mark"
        )
    thousands = {"none": "", "space": " ", "point": ".", "comma": ",", "apostrophe": "'"}
    mark = _layout_word("thousands_mark", "sheet")
    writing = Notation(
        decimal,  # type: ignore[arg-type]
        None if mark is None else thousands.get(mark, mark),
        _layout_word("date_form", "sheet"),
    )
    for conflict in conflicting_settings(Store(writing=writing)):
        raise click.BadParameter(f"{conflict.what}.", param_hint="--" + conflict.where[-1].replace("_", "-"))
    return writing


def print_live(changes: str, live: str | None, path: str) -> None:
    """Say which file a change set names as live, where that lies outside of the working folder."""
    from pathlib import Path

    if live is None and not Path(path).resolve().is_relative_to(Path.cwd()):
        click.echo(f"live is {path}, as {changes} says\n")


def read_store_option(store_path: str | None, live: str | None = None) -> tuple[Store, str] | None:
    """The store file that was told, or that stands beside `live` or from here upward, and its path."""
    from neat_delta.files.storefile import find_store, read_store

    path = find_store(store_path, live)
    return None if path is None else (read_store(path), path)


def must_fit(store_file: tuple[Store, str] | None, fields: Sequence[str]) -> None:
    """StoreError where the store file names a field that neither it nor live has."""
    if store_file is not None:
        from neat_delta.files.storefile import must_know_fields

        must_know_fields(*store_file, fields)


def read_store_of_round(store_path: str | None, changes: str, live: str | None) -> tuple[Store, str] | None:
    """The store file of a change set's round, and its path: told, or beside its live catalogue, or from here upward."""
    from neat_delta.files.changeset import live_of_changes

    return read_store_option(store_path, live or live_of_changes(changes))


def find_round(changes: ChangeSet, path: str, folder: str | None, *, wanted_for: str | None = None) -> Round | None:
    """The folder that the change set at `path` was written into. Where it is `wanted_for` something, OutputError when
    there is none, or when a file in it was edited.
    """
    from neat_delta.core.base.support.errors import OutputError
    from neat_delta.files.rounds import must_be_as_written, round_of

    round_ = round_of(changes, path, folder)
    if wanted_for is not None:
        if round_ is None:
            raise OutputError(
                f"{path}: no folder that was made of it stands beside it or here, so nobody knows what was sent, and "
                f"under which rules; {wanted_for}. Name the folder that `write` made with --files."
            )
        must_be_as_written(round_, wanted_for)
    return round_


def changes_and_folder(changes: str, folder: str | None) -> tuple[str, str | None]:
    """The change set and the folder that it was written into, where CHANGES names either; OutputError where the change
    set of a folder is neither beside it nor here.
    """
    from pathlib import Path

    from neat_delta.files.manifest import MANIFEST, read_manifest
    from neat_delta.files.rounds import changes_of

    try:
        is_folder = (Path(changes) / MANIFEST).is_file()
    except OSError:  # nobody may look into it, or it has no name that a file can have
        is_folder = False
    if not is_folder:
        return changes, folder
    if folder is not None:
        raise click.UsageError(f"{changes} and {folder} are both folders; name one of them, or the change set.")
    return changes_of(changes, read_manifest(changes)), changes


def print_round(round_: Round | None, store_path: str | None, changes: str, edited: Sequence[str] = ()) -> None:
    """Say which folder and which store file a command goes by, and what of it is not as it was: `edited` files, too."""
    from neat_delta.files.rounds import same_store

    store = f"the store file is {store_path}" if store_path else "there is no store file"
    if round_ is None:
        click.echo(f"No folder was made of {changes}: all of it counts as sent; {store}.\n")
        return
    how = " (the one made of it; --files names another)" if round_.by_digest else ""
    click.echo(f"As written in {round_.folder}{how}; {store}.")
    known = round_.manifest.store
    if not same_store(round_, store_path):
        was = "there was no store file" if known is None else f"it was {known.name}, as it was then"
        click.echo(
            f"The store file is another one now than for {round_.folder} ({was}): the importer is still that one."
        )
    for name in edited:
        click.echo(f"{round_.folder}/{name} was edited since it was written: what it says was never planned.")
    click.echo()


def store_arguments(store_path: str | None) -> list[str]:
    """The words by which a further command takes the store file that was told; none where it finds it by its name."""
    return [] if store_path is None else ["--store", store_path]


def list_mapping(mapping: str | None) -> ListMapping | None:
    """What a mapping file says of a list; None without one."""
    if mapping is None:
        return None
    from neat_delta.files.mappingfile import read_mapping

    return read_mapping(mapping)


def must_end_in(output: str, ending: str, *inputs: str) -> None:
    """OutputError when an output is called otherwise, or is an input."""
    from neat_delta.core.base.support.errors import OutputError

    if not output.lower().endswith(ending):
        raise OutputError(f"{output}: this is written as {ending}. Name a file that ends like that.")
    must_not_be_input(output, *inputs)


def free_folder(name: str) -> str:
    """A folder of that name that is not there yet, with a number behind it if need be."""
    from pathlib import Path

    names = (name if number == 1 else f"{name}-{number}" for number in count(1))
    return next(free for free in names if not Path(free).exists())


def make_folder(folder: str) -> None:
    """Make a folder if it is not there; OutputError when that cannot be."""
    from pathlib import Path

    from neat_delta.core.base.support.errors import OutputError

    try:
        Path(folder).mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise OutputError(f"{folder}: it cannot be made ({error.strerror}). Choose another folder.") from None


def must_not_be_input(output: str, *inputs: str) -> None:
    """OutputError when an output would overwrite one of these files, or what the command has read."""
    from neat_delta.files.inputs import must_not_be_input as must_not_be

    must_not_be(output, inputs)


def print_json(facts: Output) -> None:
    """Facts for a program, on standard output alone. Exact decimals are strings."""
    import msgspec

    sys.stdout.write(msgspec.json.format(msgspec.json.encode(facts), indent=2).decode() + "\n")


def header_facts(header: Header) -> Header:
    """A change set's header for a program, with what to do said in options."""
    import msgspec

    from neat_delta.report.settings import as_options

    summaries = [
        msgspec.structs.replace(summary, do=summary.do and as_options(summary.do)) for summary in header.findings
    ]

    def in_options(source: Source) -> Source:
        return msgspec.structs.replace(source, notes=[as_options(note) for note in source.notes])

    base = None if header.base is None else in_options(header.base)
    live, sheet = in_options(header.live), in_options(header.sheet)
    return msgspec.structs.replace(header, findings=summaries, live=live, sheet=sheet, base=base)


def _print_summary(
    changes: ChangeSet,
    store: str | None,
    output: str | None,
    *,
    kinds_given: bool,
    lacking: Sequence[str] = (),
    back: Sequence[HistoryCell] = (),
) -> None:
    """Print what a change set holds: what was read, where every row went, what was found, what is held."""
    from rich.cells import cell_len

    from neat_delta.core.review.figures import figures
    from neat_delta.report import terminal
    from neat_delta.report.facts import closing_said, moving_cells
    from neat_delta.report.text import command

    console = screen()
    terminal.print_moving(console, moving_cells(changes))
    if console.detail != "waiting":
        terminal.print_inputs(console, changes.header, store, kinds_given=kinds_given, lacking=lacking)
        terminal.print_accounts(console, changes)
        terminal.print_changed_fields(console, figures(changes))
        terminal.print_meanwhile(console, changes)
    terminal.print_clashes(console, changes)
    terminal.print_findings(console, changes)
    if back:
        from neat_delta.report.history import print_going_back

        print_going_back(console, back)
    terminal.print_waiting(console, changes, total=False)
    if console.detail != "waiting":
        terminal.print_headings(console, changes.header)
    look = f"Look: {command('preview', output)}" if output else "To keep this, add -o changes.jsonl"
    closing = f"{closing_said(changes)}."
    gap = " " if cell_len(closing) + cell_len(look) < console.width else "\n"
    console.print(f"\n{closing}{gap}{look}", soft_wrap=True)


def must_be_one_output(output: str | None, *, as_json: bool) -> None:
    """OutputError when both the facts and the change set want standard output."""
    from neat_delta.core.base.support.errors import OutputError

    if output == "-" and as_json:
        raise OutputError("--json and -o - both want standard output. Give -o the name of a file.")


def hand_over(
    changes: ChangeSet,
    output: str | None,
    store: str | None,
    shop: Store | None,
    *,
    as_json: bool,
    kinds_given: bool,
    files: Sequence[tuple[InputRole, str | None]] = (),
    way: Way = "whole",
) -> int:
    """Write a change set where it is wanted, note it in the ledger that the command joins, with copies of the `files`
    that it rests on, and say what it holds; the exit status. `way`: how the files were read.
    """
    from neat_delta.cli.keeping import going_back, joined_ledger, note

    must_be_one_output(output, as_json=as_json)
    ledger = joined_ledger(None if shop is None or store is None else (shop, store))
    back = going_back(changes, ledger)
    round_ = None
    if output == "-":
        from neat_delta.files.changelines import change_lines

        for chunk in change_lines(changes):
            sys.stdout.buffer.write(chunk)
    elif output:
        _write_change_set(changes, output)
        if ledger is not None:
            from neat_delta.app.ledger import note_comparison

            kept = [(role, path) for role, path in (*files, ("store", store)) if path is not None]
            round_ = note(lambda: note_comparison(ledger, output, kept))
    header = changes.header
    known_fields = {*header.key, *header.fields, *header.untouched, *header.unseen}
    lacking = [name for name in (shop.fields if shop else ()) if name not in known_fields]
    if as_json:
        from msgspec import UNSET

        from neat_delta.app.outputs import CompareOutput
        from neat_delta.core.base.model.history import went_back
        from neat_delta.core.review.waiting import waiting_counts

        print_json(
            CompareOutput(
                output=output,
                store=store,
                lacking=lacking,
                **waiting_counts(changes),
                reasons=changes.reasons(),
                header=header_facts(changes.header),
                read=way,
                goes_back=UNSET if ledger is None else [went_back(cell) for cell in back],
                round=UNSET if round_ is None else round_.number,
            )
        )
    elif output != "-":
        _print_summary(changes, store, output, kinds_given=kinds_given, lacking=lacking, back=back)
        if round_ is not None:
            click.echo(f"Round {round_.number} in the ledger {round_.path.parent}.")
    return status_of(changes)


def status_of(changes: ChangeSet) -> int:
    """The exit status of a comparison: 1 when something waits for a person."""
    from neat_delta.core.review.waiting import waiting_counts

    return 1 if waiting_counts(changes)["waiting"] or changes.header.counts.unresolved else 0


WORKSHEETS = {".xlsx": "", ".csv": ",", ".tsv": "\t", ".tab": "\t", ".txt": "\t"}
"""The endings of working sheets, with what stands between the cells of those that are text."""


def worksheet_form(path: str) -> tuple[Literal["xlsx", "delimited"], Layout]:
    """What a working sheet of this name is, and how it is laid out as spreadsheets open it; OutputError when it is
    neither a workbook nor delimited text.
    """
    from pathlib import PurePath

    from neat_delta.core.base.model.layout import Layout
    from neat_delta.core.base.support.errors import OutputError

    mark = WORKSHEETS.get(PurePath(path).suffix.lower())
    if mark is None:
        raise OutputError(
            f"{path}: a working sheet is a workbook (.xlsx) or delimited text (.csv, .tsv, .txt). Name one."
        )
    return "delimited" if mark else "xlsx", Layout(separator=mark or None, line_end="CRLF", bom=True)


def write_worksheet(sheet_file: SheetFile, path: str, *inputs: str, replace: bool) -> str | None:
    """Write a working sheet, and beside delimited text what it remembers; the path of that, if there is any."""
    from neat_delta.files.basefile import ENDING, base_path
    from neat_delta.files.whole import write_new

    beside = None if sheet_file.base is None else base_path(path)
    if beside is not None:
        must_end_in(beside, ENDING, *inputs)
    of_base = {beside: sheet_file.base or b""} if beside is not None else {}
    write_new({**of_base, path: sheet_file.content}, replace=replace)
    return beside


def _write_change_set(changes: ChangeSet, output: str) -> None:
    """Write a change set; on standard error it is said when a folder was made of the one that was there before, which
    needs that one.
    """
    from neat_delta.files.changeset import digest_in, write_changes
    from neat_delta.files.rounds import folders_of

    before = digest_in(output)
    folders = [round_.folder for round_ in folders_of(before or "", output)]
    write_changes(changes, output)
    if folders and digest_in(output) != before:
        click.echo(
            f"{', '.join(folders)} was made of the change set that {output} was before: to confirm it or take it back, "
            "compare again as then, into another file.",
            err=True,
        )


@contextmanager
def working(what: str) -> Iterator[None]:
    """Say on standard error what is going on, once it has taken a second there, how far it is where that is known, and
    how long it took.
    """
    began = time.monotonic()
    if not sys.stderr.isatty():
        yield
        _say_time(what, time.monotonic() - began)
        return
    from rich.console import Console
    from rich.text import Text

    from neat_delta.core.base.support.progress import Progress, shown_by
    from neat_delta.report.progress import Pace

    console, pace = Console(stderr=True), Pace()
    status = console.status(Text(what))
    timer = threading.Timer(SECONDS_BEFORE_A_WORD, status.start)

    def show(progress: Progress) -> None:
        ended = progress.done * 1000 >= progress.total * 999  # what else there is to do is counted by nobody
        verb = what.partition(" ")[0]
        status.update(Text(what if ended else f"{verb} {pace.text(progress, time.monotonic())}"))

    def end() -> None:
        timer.cancel()
        timer.join()
        status.stop()

    timer.start()
    WORKING.append(end)
    PRINTERS.append(partial(console.print, markup=False, highlight=False))
    try:
        with shown_by(show):
            yield
    finally:
        end()
        WORKING.remove(end)
        PRINTERS.pop()
    _say_time(what, time.monotonic() - began)


SECONDS_BEFORE_A_WORD = 1.0
"""What takes less is not said to be going on."""

WORKING: list[Callable[[], None]] = []
"""What is said to be going on now, each as what ends saying it: a bar of progress takes its place."""

PRINTERS: list[Callable[[str], None]] = []
"""What prints a line while something is said to be going on; the last counts."""

SECONDS_WITHOUT_A_WORD = 5
"""What took longer is said with its time, on a terminal."""


def _say_time(what: str, seconds: float) -> None:
    """How long a step took, on standard error: where all is to be printed, or somebody waited for it."""
    if detail() == "all" or (sys.stderr.isatty() and detail() == "usual" and seconds > SECONDS_WITHOUT_A_WORD):
        click.echo(f"{what}: {seconds:.1f} s", err=True)
