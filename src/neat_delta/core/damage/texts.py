"""Texts that came back other than they went out: in another encoding, cut, with other marks or spaces."""

from __future__ import annotations

import html
from functools import cache

import polars as pl

from neat_delta.core.damage.base import AFTER, BEFORE, TEXTS, Damage

__all__ = ["TEXT_DAMAGES"]

PAGES = ("cp1252", "latin-1", "cp1250", "cp1251", "mac-roman", "cp437", "cp850", "iso8859-15", "cp1253", "cp1254")
"""The code pages that text in UTF-8 is most often mistaken for, and the other way round."""


@cache
def _letters(page: str) -> dict[int, str]:
    """What each byte is in a page. Some programs keep the bytes that it has no letter for, five in Windows-1252."""
    return {byte: letter for byte in range(128, 256) if (letter := bytes([byte]).decode(page, "ignore"))}


def _mistaken(text: str) -> set[str]:
    """What a text becomes when its bytes are read in another encoding, or written in one that lacks its letters."""
    found = set()
    for page in PAGES:
        for written, read in (("utf-8", page), (page, "utf-8"), (page, PAGES[0]), (PAGES[0], page)):
            for how in ("replace", "ignore"):
                found.add(text.encode(written, how).decode(read, how))
        found.add(text.encode().decode("latin-1").translate(_letters(page)))
    found.add(text.encode("ascii", "replace").decode())
    return found - {text}


def _in_another_encoding(before: str, after: str) -> bool:
    """Whether live's text, its bytes once or twice taken for another encoding's, is what came back."""
    squeezed = after.replace("\u00a0", " ")
    once = _mistaken(before)
    if after in once or squeezed in {text.replace("\u00a0", " ") for text in once}:
        return True
    return any(after in _mistaken(text) for text in once if len(text) > len(before))


def _looks_damaged(before: str, after: str) -> bool:
    """Whether ftfy finds encoding damage in what came back, and none in live."""
    from ftfy.badness import is_bad

    return is_bad(after) and not is_bad(before)


def _escaped_again(before: str, after: str) -> bool:
    return before != after and html.unescape(after) == before


TYPOGRAPHIC = {
    **dict.fromkeys("“”„‟«»″", '"'),
    **dict.fromkeys("‘’‚‛′‹›", "'"),
    **dict.fromkeys("‐‑‒–—―−", "-"),
    "…": "...",
}
ODD_SPACES = "[\u00a0\u1680\u2000-\u200a\u202f\u205f\u3000]"
UNSEEN = "[\u00ad\u200b-\u200d\u2060\ufeff]"


def _plain(text: pl.Expr) -> pl.Expr:
    return text.str.replace_many(TYPOGRAPHIC)


def _spaced(text: pl.Expr) -> pl.Expr:
    return text.str.replace_all(ODD_SPACES, " ").str.replace_all(UNSEEN, "")


def _bones(text: pl.Expr) -> pl.Expr:
    """A text without the letters that encodings differ in, and what stands for them."""
    return text.str.replace_all(r"[^\x21-\x3e\x40-\x7e]+", "")


def _solid(text: pl.Expr) -> pl.Expr:
    return text.str.replace_all(r"\s+", "")


def _lines(text: pl.Expr) -> pl.Expr:
    return text.str.count_matches(r"\r\n|\r|\n")


CUT_AT = (255, 256, 1_024, 8_192, 32_759, 32_766, 32_767)
"""The lengths at which programs cut a text."""

TEXT_DAMAGES = (
    Damage(
        "cut short",
        "the beginning of live's text, cut at a length that programs cut at",
        TEXTS,
        AFTER.str.len_chars().is_in(CUT_AT)
        & (BEFORE.str.len_chars() > AFTER.str.len_chars())
        & (BEFORE.str.head(AFTER.str.len_chars()) == AFTER),
    ),
    Damage(
        "line breaks lost",
        "the same text in fewer lines",
        TEXTS,
        (_lines(AFTER) < _lines(BEFORE)) & (_solid(AFTER) == _solid(BEFORE)),
    ),
    Damage(
        "non-breaking or unseen spaces",
        "the same text with spaces that only look like spaces",
        TEXTS,
        AFTER.str.contains(f"{ODD_SPACES}|{UNSEEN}") & (_spaced(AFTER) == _spaced(BEFORE)) & (AFTER != BEFORE),
    ),
    Damage(
        "spaces around a code",
        "the same code with white space before or after it",
        ("code",),
        AFTER == BEFORE,  # both are seen without it, and they differ
    ),
    Damage(
        "quotes or dashes replaced",
        "the same text with typographic quotes, dashes or dots for plain ones, or plain ones for them",
        TEXTS,
        (_plain(AFTER) == _plain(BEFORE)) & (AFTER != BEFORE),
    ),
    Damage(
        "wrong encoding",
        "live's text, its bytes taken for another encoding's",
        TEXTS,
        BEFORE.str.contains(r"[^\x00-\x7f]") & (_bones(BEFORE) == _bones(AFTER)) & (AFTER != ""),  # which was emptied
        _in_another_encoding,
    ),
    Damage(
        "wrong encoding, and edited",
        "it reads like text whose bytes were taken for another encoding's, and live does not",
        TEXTS,
        AFTER.str.contains(r"[^\x00-\x7f]{2}|[\x80-\x9f\ufffd]"),
        _looks_damaged,
        certain=False,
        alone=True,
    ),
    Damage(
        "HTML escaped twice",
        "live's text with its marks written as entities once more",
        TEXTS,
        AFTER.str.contains("&", literal=True),
        _escaped_again,
    ),
)
