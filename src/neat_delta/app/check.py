"""What is wrong in a catalogue by itself."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import polars as pl

from neat_delta.app.requests import CheckRequest
from neat_delta.app.settings import request_of
from neat_delta.app.sources import Table, export_of, store_of
from neat_delta.core.base.infer.learn import learn, with_writing
from neat_delta.core.base.model.schemas import CATALOGUE_FINDINGS, conform
from neat_delta.core.base.model.store import Store
from neat_delta.core.base.support.series import gathered
from neat_delta.core.compare.checks import catalogue_findings, idle_checks
from neat_delta.core.compare.decide.decide import decide
from neat_delta.core.compare.decide.policy import Policy, levels_of, standing_exceptions
from neat_delta.core.sheets.match.keys import stripped
from neat_delta.core.sheets.match.prepare import prepare
from neat_delta.files.images import names_in
from neat_delta.files.whole import AnyPath

__all__ = ["Checked", "check"]


@dataclass(frozen=True, slots=True)
class Checked:
    """What the checks that need no sheet find in a catalogue, as a table (`model.schemas.CATALOGUE_FINDINGS`), and the
    checks that did not run on it, each with what would switch it on.
    """

    findings: pl.DataFrame
    idle: dict[str, str]

    @property
    def open(self) -> pl.DataFrame:
        """The findings that no standing exception lets through."""
        return self.findings.filter(pl.col("done") != "accepted")


def check(
    catalogue: Table,
    store: Store | AnyPath | None = None,
    *,
    request: CheckRequest | None = None,
    today: str | None = None,
    **settings: Any,  # noqa: ANN401 - those of `CheckRequest`, which reads and checks them
) -> Checked:
    """Check a whole catalogue, as it was read. Without a `store` file, kinds are learned from it.

    Exceptions of the store file that have not ended before `today` (ISO 8601) are accepted, the rest is noted, whatever
    its level. Inputs and settings as in `compare`. CatalogueError when there is no key.

    >>> from neat_delta import Field, Key, Store
    >>> store = Store(key=Key(["sku"]), fields={"stock": Field("integer")})
    >>> check({"sku": ["QA-1"], "stock": [-2]}, store).findings["what"].to_list()
    ['-2 is less than nothing']
    """
    store, asked = store_of(store), request or request_of(CheckRequest, settings)
    given = export_of(catalogue, "catalogue", store)
    shop = with_writing(store, given) if store else learn(given, asked.key).store
    prepared = prepare(given, shop, asked.key)
    live, fields, levels = prepared.catalogue, prepared.key.fields, levels_of(shop, learned=False)
    images = names_in(asked.images)
    findings = catalogue_findings(live, shop, fields, levels, images=images)
    decided = decide(findings, lambda: prepared.index, Policy(), standing_exceptions(shop, today))
    keys = stripped(live, prepared.key).select(pl.concat_list(pl.all())).to_series()
    table = decided.rename({"rule": "check"}).with_columns(
        pl.col("done").replace("held", "noted"),
        key=gathered(keys, decided["item"]),
        row=live.row(decided["item"]),
        value=live.texts(decided["field"], decided["item"]),
    )
    return Checked(conform(table, CATALOGUE_FINDINGS), idle_checks(live, shop, fields, levels, images=images))
