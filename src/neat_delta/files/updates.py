"""The folder that goes to the store: update files, undo files and the manifest, proven before it gets its name."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import msgspec
import polars as pl

from neat_delta.core.base.model.catalogue import Catalogue
from neat_delta.core.base.model.importer import NEW_CODE, PATCHES, SPARSE, Importer
from neat_delta.core.base.model.layout import Layout
from neat_delta.core.base.model.manifest import (
    FORMAT,
    VERSION,
    Answered,
    CellCounts,
    Comment,
    Contradiction,
    Listed,
    Manifest,
    OutFile,
    Turn,
)
from neat_delta.core.base.model.schemas import NOT_SENT, conform
from neat_delta.core.base.model.update import Action, Table
from neat_delta.core.base.support.errors import OutputError
from neat_delta.core.base.support.series import gathered
from neat_delta.core.sheets.match.continuation import split_lines
from neat_delta.core.sheets.match.keys import KeyText, key_texts
from neat_delta.core.sheets.match.prepare import prepare_columns
from neat_delta.core.updates.plan import FILE_COST, fields_needed, plan
from neat_delta.core.updates.prove.proof import must_be_target, prove
from neat_delta.files.journal import is_of_delivery
from neat_delta.files.manifest import MANIFEST, NOT_EMPTY, READ_ME, seal, why_not_ours
from neat_delta.files.readme import read_me
from neat_delta.files.whole import AnyPath, digest_of, new_folder
from neat_delta.files.writers.forms import FORMS, UpdateFormat, UpdateLayout

if TYPE_CHECKING:
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.outcomes.results import FileRow

__all__ = ["file_rows", "layout_in", "layout_of", "write_updates"]


def write_updates(
    changes: ChangeSet,
    live: Catalogue,
    importer: Importer,
    folder: AnyPath,
    *,
    replace: bool = False,
    most_files: int = 8,
    file_cost: int = FILE_COST,
    whole: bool = False,
    released: pl.DataFrame | None = None,
    contradictions: Sequence[Contradiction] = (),
    comments: Sequence[Comment] = (),
    turn: Turn | None = None,
    rehearse: Callable[[Path, Manifest], pl.DataFrame] | None = None,
) -> Manifest:
    """Write a change set's update and undo files and their manifest into a new folder, and prove them.

    The files are in the importer's form; delimited text is in live's layout, or CSV where live is none, but for what
    the importer says otherwise. They are read back from disk and replayed on `live`; the folder gets its name only when
    that gives the target exactly, and live again. `replace` lets it take the place of a folder in which everything was
    written by this function; `most_files`, `file_cost` and `whole` are as in `plan`; `released` are the clashes that
    were answered (`model.schemas.RELEASED`), which the manifest lists, with the `contradictions` and `comments` of
    reviewers; `turn` says what the folder is for, and which it goes on from; `rehearse` imports the files once more in
    its own way, and must come to the target, too. Raises
    StoreError, ProofError or OutputError; then nothing is there.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> folder = str(Path(mkdtemp()) / "out")
    >>> manifest = write_updates(compare(live, sheet), live, Importer("skip"), folder)
    >>> [(one.file, one.rows) for one in manifest.update]
    [('update-1.csv', 1)]
    """
    folder = os.fspath(folder)
    form, turn = FORMS[importer.form], turn or Turn(changes=changes.digest)
    earlier = turn.earlier
    layout = layout_of(live.layout, importer) if earlier is None else layout_in(earlier)
    live = _of_needed(live, changes, importer, whole=whole)
    planned = plan(
        changes, live, importer, most_files=most_files, file_cost=file_cost, whole=whole,
        fits=lambda texts: form.hold(texts, layout),
        questioned=[] if earlier is None else [unsent.field for unsent in earlier.not_sent if unsent.field is not None],
    )  # fmt: skip
    out = _Out(changes, live, importer, form, layout)
    with new_folder(folder, why_not_ours if replace else lambda _: NOT_EMPTY, is_of_delivery) as partial:
        manifest = Manifest(
            format=FORMAT,
            version=VERSION,
            key=out.key,
            live=changes.header.live,
            sheet=changes.header.sheet,
            importer=importer,
            update=out.write(partial, "update", planned.update),
            undo=out.write(partial, "undo", planned.undo),
            cells=_counted(planned.update),
            held_before=changes.reasons(),
            held=_listed(changes, planned.held),
            one_way=_listed(changes, planned.one_way),
            not_sent=_listed(changes, _not_sent(changes, planned.held)) if earlier is None else earlier.not_sent,
            contradictions=list(contradictions),
            comments=list(comments),
            answered=[
                *(earlier.answered if earlier else ()),
                *([] if released is None else _answered(changes, released)),
            ],
            purpose=turn.purpose,
            changes=turn.changes,
            store=turn.store,
            shop=changes.header.store.name,
            most_files=most_files,
            file_cost=file_cost,
            whole=whole,
            before=[] if earlier is None else [*earlier.before, earlier.blake3],
            left=list(turn.left),
            rebased=[*(earlier.rebased if earlier else ()), *turn.rebased],
            layout=layout,
        )
        manifest = msgspec.structs.replace(manifest, blake3=seal(manifest))
        (partial / MANIFEST).write_bytes(msgspec.json.format(msgspec.json.encode(manifest), indent=2) + b"\n")
        (partial / READ_ME).write_text(read_me(manifest), encoding="utf-8")
        prove(live, changes, planned, out.read(partial, manifest.update), out.read(partial, manifest.undo), importer)
        if rehearse is not None:
            after = rehearse(partial, manifest)
            must_be_target(after, live, changes, planned, importer, "importing the update files into a practice store")
    return manifest


def _of_needed(live: Catalogue, changes: ChangeSet, importer: Importer, *, whole: bool) -> Catalogue:
    """Live with what planning and proving look at alone, where its cells are read when they are asked for."""
    needed = fields_needed(changes, importer, whole=whole) if live.is_deferred else None
    wanted = None if needed is None else {*changes.header.key, *needed}
    return live if wanted is None else live.narrowed([name for name in live.fields if name in wanted])


def file_rows(folder: AnyPath, changes: ChangeSet, live: Catalogue, manifest: Manifest) -> list[FileRow]:
    """The rows of the update files of a folder: the file, the number of the row as a spreadsheet counts, the key.
    OutputError when a file is not there any more.

    >>> from tempfile import mkdtemp
    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> changes = compare(live, as_catalogue({"sku": ["QA-1"], "price": ["10.50"]}, "sheet"))
    >>> folder = str(Path(mkdtemp()) / "out")
    >>> manifest = write_updates(changes, live, Importer("skip"), folder)
    >>> file_rows(folder, changes, live, manifest)
    [FileRow(file='update-1.csv', row=2, key=('QA-1',), items=(0,))]
    """
    from neat_delta.core.outcomes.results import FileRow

    folder = os.fspath(folder)
    importer = manifest.importer
    out = _Out(changes, live, importer, FORMS[importer.form], layout_in(manifest))
    items: dict[KeyText, tuple[int, ...]] = {}
    key = changes.header.compared_by
    for item, known_by in enumerate(key_texts(changes.keys.get_columns(), key)):
        items[known_by] = (*items.get(known_by, ()), item)
    rows = []
    for file in manifest.update:
        if not (Path(folder) / file.file).is_file():
            raise OutputError(f"{folder}: {file.file} is not in it any more. Name the folder as `write` made it.")
        update = out.catalogue(Path(folder), file)
        row_numbers = update.row(pl.int_range(update.cells.height, dtype=pl.Int64, eager=True))
        columns = [update.cells[name] for name in changes.header.key]
        keys, names = pl.DataFrame(columns).rows(), key_texts(columns, key)
        of = [items.get(texts, ()) for texts in names]
        rows += [FileRow(file.file, *row) for row in zip(row_numbers, keys, of, strict=True)]
        if file.action == "recode":  # from here on these items stand under their new codes
            heading = NEW_CODE if importer.form in PATCHES else importer.code_change.heading
            place = changes.header.key.index(importer.code_change.field or changes.header.key[0])
            for texts in names:
                items.pop(texts, None)
            columns[place] = update.cells[heading]
            items |= dict(zip(key_texts(columns, key), of, strict=True))
    return rows


def layout_in(manifest: Manifest) -> Layout:
    """The layout of delimited update files of a round that was written: of later turns that of the first, which the
    importer is known to read, however the store exports by now.
    """
    return manifest.layout or layout_of(manifest.live.layout, manifest.importer)


def layout_of(live: Layout, importer: Importer) -> Layout:
    """The layout of delimited update files: live's own, if that is delimited text, with nothing above the headings, but
    for what the importer wants otherwise.
    """
    own = live if live.format == "delimited" else Layout(format="delimited")
    layout = msgspec.structs.replace(own, header_line=1, packing=None)
    settings = {name: getattr(importer, name) for name in ("separator", "encoding", "line_end", "quote_all")}
    settings = {name: value for name, value in settings.items() if value is not None}
    if "encoding" in settings:
        settings["bom"] = False
    return msgspec.structs.replace(layout, **settings)


def _counted(tables: Sequence[Table]) -> CellCounts:
    return CellCounts(*(sum(getattr(table, name) for table in tables) for name in CellCounts.__struct_fields__))


class _Out:
    """How tables become files of one form, and files tables."""

    def __init__(
        self, changes: ChangeSet, live: Catalogue, importer: Importer, form: UpdateFormat, layout: Layout
    ) -> None:
        self.changes, self.live, self.importer, self.form, self.layout = changes, live, importer, form, layout
        own = {name: field.heading for name, field in changes.header.settings.items() if field.heading is not None}
        self.headings = changes.header.headings | own | importer.called
        self.key = [self.headings.get(name, name) for name in changes.header.key]
        self.merges = live.continued is not None and importer.form not in SPARSE

    def write(self, folder: Path, name: str, tables: Sequence[Table]) -> list[OutFile]:
        """Write tables as files of this name, in as many as the importer's limits make of them."""
        pieces = [(table.action, *piece) for table in tables for piece in self._split(table, table.cells)]
        digits, files = len(str(len(pieces))), []
        for number, (action, cells, data) in enumerate(pieces, 1):
            file = f"{name}-{number:0{digits}}{self.form.ending(self.layout)}"
            (folder / file).write_bytes(data)
            fields = [self.headings.get(column, column) for column in cells.columns]
            filled_cells = int(cells.select(pl.sum_horizontal(pl.all().count())).item())
            files.append(OutFile(file, action, self._lines(cells).height, filled_cells, fields, digest_of(data)))
        return files

    def read(self, folder: Path, files: Sequence[OutFile]) -> Iterator[tuple[Action, pl.DataFrame]]:
        """The files as they stand on disk, under the names of live's fields, with what each is imported for."""
        for file in files:
            yield file.action, self.catalogue(folder, file).cells

    def catalogue(self, folder: Path, file: OutFile) -> Catalogue:
        """A file as it stands on disk, one row an item."""
        cells = self.form.read(folder / file.file, self._shape(file.action, file.file))
        lines = self.live.continued if self.merges else None
        update = Catalogue(cells, file.file, lambda: "", first=2)
        return prepare_columns(update, self.headings, self.changes.header.key, lines)

    def _shape(self, action: Action, name: str) -> UpdateLayout:
        return UpdateLayout(self.layout, self.key, action, name)

    def _lines(self, cells: pl.DataFrame) -> pl.DataFrame:
        if not self.merges or self.live.continued is None:
            return cells
        return split_lines(cells.select(pl.all().fill_null("")), self.live.continued.fields)

    def _split(self, table: Table, cells: pl.DataFrame) -> list[tuple[pl.DataFrame, bytes]]:
        """The table in pieces that the importer takes; an item is never torn apart. OutputError where it must be in one
        file, which the importer does not take.
        """
        most_rows, most_bytes = self.importer.most_rows or sys.maxsize, self.importer.most_bytes or sys.maxsize
        lines = self._lines(cells)
        if self.importer.missing == "deleted" and lines.height > most_rows:
            raise OutputError(
                f"The importer deletes what a file does not have, so the whole catalogue must be in one; that has "
                f"{lines.height:,} rows, and the importer takes {most_rows:,} (most_rows under [importer]). "
                "Ask for more, or for another way to import."
            )
        if lines.height > most_rows and lines.height == cells.height:
            parts = [cells.slice(start, most_rows) for start in range(0, cells.height, most_rows)]
            return [piece for part in parts for piece in self._split(table, part)]
        headings = {field: heading for field, heading in self.headings.items() if field in lines.columns}
        data = self.form.write(lines.rename(headings), self._shape(table.action, f"the {table.action} file"))
        if lines.height <= most_rows and len(data) <= most_bytes:
            return [(cells, data)]
        if cells.height == 1:
            raise OutputError(
                f"One item alone needs {lines.height:,} rows and {len(data):,} bytes, and the importer takes no file "
                "of that size (most_rows and most_bytes under [importer]). Leave it out, and enter it by hand."
            )
        if self.importer.missing == "deleted":
            raise OutputError(
                f"The importer deletes what a file does not have, so the whole catalogue must be in one; that has "
                f"{len(data):,} bytes, and the importer takes {most_bytes:,} (most_bytes under [importer]). "
                "Ask for more, or for another way to import."
            )
        pieces = min(cells.height, max(2, -(-lines.height // most_rows), -(-len(data) // most_bytes)))
        size = -(-cells.height // pieces)
        parts = [cells.slice(start, size) for start in range(0, cells.height, size)]
        return [piece for part in parts for piece in self._split(table, part)]


def _not_sent(changes: ChangeSet, refused: pl.DataFrame) -> pl.DataFrame:
    """The items and cells that are held, and what the importer cannot take: `item`, `field`, `reason`, by item."""
    items = changes.items.with_row_index("item").filter(pl.col("held").is_not_null())
    cells = changes.cells.filter(pl.col("held").is_not_null())
    parts = [
        items.select("item", pl.lit(None, pl.String).alias("field"), reason="held"),
        cells.select("item", pl.col("field").cast(pl.String), reason="held"),
        refused.select("item", "field", "reason"),
    ]
    return pl.concat([conform(part, NOT_SENT) for part in parts]).sort("item", maintain_order=True)


def _listed(changes: ChangeSet, rows: pl.DataFrame) -> list[Listed]:
    names = changes.keys.columns
    keys = gathered(changes.keys, rows["item"]).iter_rows()
    return [
        Listed(dict(zip(names, key, strict=True)), field, reason)
        for key, (_, field, reason) in zip(keys, rows.iter_rows(), strict=True)
    ]


def _answered(changes: ChangeSet, released: pl.DataFrame) -> list[Answered]:
    keys = gathered(changes.keys, released["item"]).rows(named=True)
    return [
        Answered(key, field, after)
        for key, (field, after) in zip(keys, released.select("field", "after").iter_rows(), strict=True)
    ]
