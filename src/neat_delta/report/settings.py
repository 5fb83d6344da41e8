"""Settings as a person says them: what the core calls ‹key› is --key on the command line."""

from __future__ import annotations

import re

__all__ = ["OPTIONS", "as_options"]

OPTIONS = {
    "accept": "--accept",
    "base": "--base",
    "clash": "--clash",
    "constant": "--constant",
    "encoding": "--encoding",
    "files": "--files",
    "header_line": "--header-line",
    "ignore": "--ignore",
    "images": "--images",
    "key": "--key",
    "let": "--let",
    "live": "--live",
    "mapping": "--map",
    "new_values": "--with-new-values",
    "only": "--only",
    "prefer": "--prefer",
    "record_price": "--record-price",
    "replace": "--replace",
    "retry": "--retry",
    "separator": "--separator",
    "sheet_name": "--sheet-name",
    "store": "--store",
    "where": "--where",
    "fields": "--fields",
    "whole": "--whole-catalogue",
    "workbook": "--workbook",
    "cut": "--cut",
    "drop": "--drop",
    "refuse": "--refuse",
    "results": "--results",
    "round": "--round",
    "sell": "--sell",
    "skus": "--skus",
}
"""The option that says each setting that messages name."""

NAMED = re.compile("‹([a-z_]+)›")


def as_options(text: str) -> str:
    """A message of the core with its settings as options.

    >>> as_options("Name the key with ‹key›.")
    'Name the key with --key.'
    """
    return NAMED.sub(lambda named: OPTIONS.get(named[1], named[0]), text)
