"""Cells that hold no value but what a spreadsheet shows instead: errors, formulas, hashes, its words for true."""

from __future__ import annotations

import polars as pl

from neat_delta.core.base.kinds.flag import FALSE, TRUE
from neat_delta.core.compare.detect.damage.base import AFTER, ANY, BEFORE, Damage

__all__ = ["CELL_DAMAGES"]

ERRORS = (
    r"^#(?:N/A|REF!|VALUE!|DIV/0!|NAME\?|NULL!|NUM!|SPILL!|CALC!|GETTING_DATA|FIELD!|BLOCKED!|CONNECT!|BUSY!"
    r"|NV|BEZUG!|WERT!|ZAHL!|\u00dcBERLAUF!|KALK!|REF!|VALEUR!|NOM\?|NOMBRE!|NUL!|PROPAGATION!|\u00a1REF!|\u00a1VALOR!"
    r"|\u00bfNOMBRE\?|\u00a1NUM!|\u00a1NULO!|\u00a1DIV/0!|N/D|VALORE!|NOME\?|RIF!|NULLO!|N/B|VERW!|WAARDE!|NAAM\?|GETAL!|LEEG!|DEEL/0!"
    r"|ADR!|ARG!|LICZBA!|NAZWA\?|ZERO!|H\u00c1ZEV!|N\u00c9V\?|SZ\u00c1M!|HIV!|\u00c9RT\u00c9K!|HODNOTA!|ODKAZ!|N\u00c1ZEV\?|\u010c\u00cdSLO!"
    r"|\u041d/\u0414|\u0421\u0421\u042b\u041b\u041a\u0410!|\u0417\u041d\u0410\u0427!|\u0414\u0415\u041b/0!|\u0418\u041c\u042f\?|\u0427\u0418\u0421\u041b\u041e!|\u041f\u0423\u0421\u0422\u041e!)$"
    r"|^(?:Err|Fehler|Fel|Erreur|Errore|Erro|Fout):5\d\d$"
)
"""What spreadsheets show where a formula failed, in the languages they speak."""


def _meant(before: list[str], after: list[str]) -> pl.Expr:
    return BEFORE.str.to_lowercase().is_in(before) & AFTER.is_in(after)


CELL_DAMAGES = (
    Damage(
        "a formula that failed",
        "a spreadsheet shows this where it cannot work a value out; what was meant is not in the file",
        ANY,
        AFTER.str.contains(ERRORS) & (AFTER != BEFORE),
        certain=False,
        alone=True,
    ),
    Damage(
        "hashes for a value",
        "a spreadsheet shows hashes where a column is too narrow; what was meant is not in the file",
        ANY,
        AFTER.str.contains("^#{3,}$") & ~BEFORE.str.contains("^#+$"),
        certain=False,
        alone=True,
    ),
    Damage(
        "a formula for its value",
        "the formula itself was saved; what it comes to is not in the file",
        ANY,
        AFTER.str.contains(r"^=\s*(?:[\p{L}_][\p{L}0-9_.]*\(|\$?[A-Z]{1,3}\$?[0-9]+\b|[0-9(+-])")
        & ~BEFORE.str.starts_with("="),
        certain=False,
        alone=True,
    ),
    Damage(
        "a spreadsheet's word for true or false",
        "live's value as a spreadsheet writes it",
        ("text", "choice", "flag", "code"),
        _meant(["true"], TRUE) | _meant(["false"], FALSE),
    ),
)
