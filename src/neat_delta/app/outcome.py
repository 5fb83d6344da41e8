"""What became of what was sent: confirm it in a later export, send again what did not land, take it back."""

from __future__ import annotations

from neat_delta.core.match.prepare import prepare_export
from neat_delta.core.model.catalogue import Catalogue
from neat_delta.core.model.changeset import ChangeSet
from neat_delta.core.model.store import Store
from neat_delta.core.outcome.confirm import Confirmed, Landing
from neat_delta.core.outcome.confirm import confirm as outcome_of
from neat_delta.core.outcome.retry import retry as not_landed
from neat_delta.core.outcome.undo import revert

__all__ = ["confirm", "retry", "undo"]


def confirm(changes: ChangeSet, live: Catalogue, after: Catalogue, store: Store | None = None) -> Confirmed:
    """What became of the sent changes in `after`, an export made after the import, by value.

    `live` is the change set's own (`read_live`); `store` says how an item is removed, and under which names `after` has
    its fields, where that is not as live had them. CatalogueError when `after` lacks the key or a field that was sent.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> result = confirm(compare(live, sheet), live, sheet)
    >>> result.all_landed, result.counts["landed"]
    (True, 1)
    """
    shop = store or Store()
    return outcome_of(changes, live, prepare_export(after, changes.header, store), shop.importer.removal)


def retry(
    changes: ChangeSet, after: Catalogue, confirmed: Confirmed, store: Store | None = None
) -> tuple[ChangeSet, Catalogue]:
    """What did not land, as a change set against the export `after`, and that export as the change set has it: to plan
    and write from. An item that is there no more is left out.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> changes = compare(live, sheet)
    >>> missing, export = retry(changes, live, confirm(changes, live, live))
    >>> [item.cells for item in missing.iter_items()]
    [{'price': ('9.90', '10.50')}]
    """
    export = prepare_export(after, changes.header, store)
    return not_landed(changes, export, confirmed), export


def undo(
    changes: ChangeSet, live: Catalogue, now: Catalogue | None = None, store: Store | None = None
) -> tuple[ChangeSet, Catalogue, list[Landing]]:
    """What takes the sent changes back, as a change set against the export `now` (None: live with every change landed);
    that catalogue; and what is left alone, since it does not stand as it was sent.

    >>> from neat_delta import as_catalogue, compare
    >>> live = as_catalogue({"sku": ["QA-1", "QA-2"], "price": ["9.90", "20.00"]}, "live")
    >>> sheet = as_catalogue({"sku": ["QA-2", "QA-1"], "price": ["20.00", "10.50"]}, "sheet")
    >>> back, base, left = undo(compare(live, sheet), live)
    >>> [item.cells for item in back.iter_items()], left
    ([{'price': ('10.50', '9.90')}], [])
    """
    shop = store or Store()
    export = None if now is None else prepare_export(now, changes.header, store)
    return revert(changes, live, export, shop.importer.removal)
