"""From a folder of update files to where the store gets them."""

from __future__ import annotations

import os
from collections.abc import Sequence
from typing import TYPE_CHECKING

import msgspec

from neat_delta.core.base.model.after import Requested, requested, reverse
from neat_delta.core.base.model.manifest import Manifest
from neat_delta.core.base.model.rows import Difference, RowChange
from neat_delta.core.base.model.store import Delivery
from neat_delta.core.base.model.update import ITEM
from neat_delta.core.base.support.errors import OutputError
from neat_delta.core.outcomes.unsent import as_sent
from neat_delta.files.changeset import read_with_live
from neat_delta.files.delivery import Delivered, Perhaps, deliver_files, deliver_rows
from neat_delta.files.manifest import read_manifest
from neat_delta.files.rounds import Round, changes_of, must_be_as_written
from neat_delta.files.sources.address import is_address, is_database
from neat_delta.files.sources.fetch import terms_now
from neat_delta.files.whole import AnyPath

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet

__all__ = ["Delivery", "DeliveryOutcome", "deliver", "row_changes", "sent_and_live"]


class DeliveryOutcome(msgspec.Struct, frozen=True):
    """What became of a delivery: each file, or the one transaction; of a database what stands there otherwise than
    when the changes were planned, for which nothing was changed; and why it broke off, if it did.
    """

    files: list[Delivered]
    differences: list[Difference]
    broken: str | None = None

    @property
    def arrived(self) -> bool:
        """Whether all of it is at the other end."""
        return self.broken is None and not self.differences and all(file.outcome != "refused" for file in self.files)


def deliver(
    folder: AnyPath,
    address: AnyPath,
    *,
    delivery: Delivery | None = None,
    changes: AnyPath | None = None,
    live: AnyPath | None = None,
    perhaps: Perhaps = None,
) -> DeliveryOutcome:
    """Deliver the files that `write` made to an address: a folder, a server of files, the web (as `delivery` says); or
    make the changes themselves in a table of a database, in one transaction. What arrived before is passed over; a
    folder of which all did is refused, unless `perhaps` says "again"; of what may have arrived or not it says whether
    it is to be sent "again", or has "arrived". `changes` and `live` say where the change set and its live catalogue
    are, which only a database needs.

    OutputError where it cannot be delivered, or nobody can tell whether something arrived.

    >>> from pathlib import Path
    >>> from tempfile import mkdtemp
    >>> from neat_delta import compare
    >>> base = Path(mkdtemp())
    >>> live, sheet = {"sku": ["QA-1"], "price": ["9.90"]}, {"sku": ["QA-1"], "price": ["10.50"]}
    >>> _ = compare(live, sheet).plan().write(base / "out")
    >>> (base / "polled").mkdir()
    >>> [(file.file, file.outcome) for file in deliver(str(base / "out"), str(base / "polled")).files]
    [('update-1.csv', 'arrived'), ('READ-ME-FIRST.txt', 'arrived')]
    """
    folder, address = os.fspath(folder), os.fspath(address)
    manifest = read_manifest(folder)
    if not is_address(address) or not is_database(address):
        files = deliver_files(folder, manifest, address, delivery or Delivery(), terms_now(), perhaps)
        return DeliveryOutcome(files, [])
    sent, catalogue = sent_and_live(folder, manifest, changes, live)
    rows = row_changes(sent, catalogue, manifest)
    files, differences = deliver_rows(folder, manifest, address, rows, terms_now(), again=perhaps == "again")
    return DeliveryOutcome(files, differences)


def sent_and_live(
    folder: str, manifest: Manifest, changes: AnyPath | None = None, live: AnyPath | None = None
) -> tuple[ChangeSet, Catalogue]:
    """What a folder sends, and its live catalogue, for whatever makes all of it or nothing. OutputError where a file of
    it was edited, where it sends again what did not land, or where the change set is another one's.
    """
    must_be_as_written(Round(folder, manifest), "nothing is made of it")
    if manifest.purpose == "retry":
        raise OutputError(
            f"{folder}: it sends again what did not land, and a table takes all or nothing. Name the folder that "
            "`write` made."
        )
    path = os.fspath(changes) if changes else changes_of(folder, manifest)
    change_set, catalogue = read_with_live(path, None if live is None else os.fspath(live))
    if change_set.digest != manifest.changes:
        raise OutputError(f"{path}: {folder} was made of another change set. Name that one with ‹changes›.")
    return as_sent(change_set, manifest), catalogue


def row_changes(sent: ChangeSet, live: Catalogue, manifest: Manifest) -> list[RowChange]:
    """What was sent, or what takes it back, as changes of a table's rows: in the order of the items, each by live's own
    headings. OutputError where an item stands on several lines of live, and so in several rows.
    """
    if live.continued is not None:
        raise OutputError(
            "An item stands on several lines of live, and a table's rows are changed one by one. Deliver the files to "
            "the store itself."
        )
    wanted, places = requested(sent, live, manifest.importer.removal), live.place(sent.items["live"])
    back = manifest.purpose == "undo"
    steps = _without_left(reverse(wanted, live, places), sent, manifest) if back else wanted
    headings, key = sent.header.headings, sent.header.key
    called = {name: headings.get(name, name) for name in live.fields}

    def in_columns(texts: dict[str, str]) -> dict[str, str]:
        return {called[name]: text for name, text in texts.items() if name in called}

    def key_of(row: dict[str, str]) -> dict[str, str]:
        return {called[name]: row[name] for name in key}

    changes = []
    for item, cells in _by_item(steps):
        row = live.cells.row(int(places[item]), named=True)
        before, after = ({field: cell[side] for field, cell in cells.items()} for side in (0, 1))
        changes.append(RowChange(key_of({**row, **before}), in_columns(before), in_columns(after)))
    added = {row[ITEM]: {name: row[name] for name in live.fields} for row in wanted.added.iter_rows(named=True)}
    for item in steps.removed:
        row = added[item] if back else live.cells.row(int(places[item]), named=True)
        stands = {name: text for name, text in row.items() if text} if back else row
        changes.append(RowChange(key_of(row), in_columns(stands)))
    for row in steps.added.drop(ITEM).iter_rows(named=True):
        changes.append(RowChange(key_of(row), after=in_columns(row), in_full=back))
    return changes


def _by_item(steps: Requested) -> Sequence[tuple[int, dict[str, tuple[str, str]]]]:
    """The cells of each item: by their fields, the text before and after."""
    items: dict[int, dict[str, tuple[str, str]]] = {}
    for item, field, before, after in steps.cells.iter_rows():
        items.setdefault(item, {})[field] = (before, after)
    return list(items.items())


def _without_left(back: Requested, sent: ChangeSet, manifest: Manifest) -> Requested:
    """The way back without what the undo leaves alone, as somebody changed it since."""
    if not manifest.left:
        return back
    keys = {tuple(key): item for item, key in enumerate(sent.keys.iter_rows())}
    left = {(keys[tuple(entry.key.values())], entry.field) for entry in manifest.left}
    items = {item for item, field in left if field is None}
    kept = [
        item not in items and (item, field) not in left
        for item, field in back.cells.select("item", "field").iter_rows()
    ]
    cells = back.cells.filter(kept)
    removed = back.removed.filter([item not in items for item in back.removed])
    added = back.added.filter([item not in items for item in back.added[ITEM]])
    return Requested(cells, added, removed)
