"""Texts that came back other than they went out: in another encoding, cut, with other marks or spaces."""

from __future__ import annotations

import re
from functools import cache

import polars as pl

from neat_delta.core.compare.detect.damage.base import AFTER, BEFORE, TEXTS, Damage

__all__ = ["TEXT_DAMAGES"]

PAGES = ("cp1252", "latin-1", "cp1250", "cp1251", "mac-roman", "cp437", "cp850", "iso8859-15", "cp1253", "cp1254")
"""The code pages that text in UTF-8 is most often mistaken for, and the other way round."""


@cache
def _letters(page: str) -> dict[int, str]:
    """What each byte is in a page. Some programs keep the bytes that it has no letter for, five in Windows-1252."""
    return {byte: letter for byte in range(128, 256) if (letter := bytes([byte]).decode(page, "ignore"))}


@cache
def _longer(text: str) -> frozenset[str]:
    """What a text in UTF-8 becomes when its bytes are read in a page of one byte a letter."""
    misread = {text.encode().decode("latin-1").translate(_letters(page)) for page in PAGES}
    return frozenset(misread | {text.encode().decode(page, "replace") for page in PAGES}) - {text}


@cache
def _other_page(text: str) -> frozenset[str]:
    """What a text in one of these pages becomes when it is read in another of them."""
    written = {page: text.encode(page) for page in PAGES if text == text.encode(page, "ignore").decode(page)}
    return frozenset(encoded.decode(page, "replace") for encoded in written.values() for page in PAGES) - {text}


def _not_utf8(text: str) -> set[str]:
    """What a text in one of the pages becomes when it is read as UTF-8, which it is not."""
    misread = {text.encode(page, "replace").decode(errors="replace") for page in PAGES}
    return {reading for reading in misread if "\ufffd" in reading}


def _in_another_encoding(before: str, after: str) -> bool:
    """Whether live's text, its bytes once or twice taken for another encoding's, or its letters replaced by question
    marks, is what came back; and not the other way round.
    """
    once, squeezed = _longer(before), after.replace("\u00a0", " ")
    if after in once or squeezed in {text.replace("\u00a0", " ") for text in once}:
        return True
    if any(after in _longer(text) for text in once) or after in _not_utf8(before):
        return True
    return (after in _other_page(before) and _sounder(before, after)) or _asked(before, after, only_letters=True)


def _sounder(first: str, other: str) -> bool:
    """Whether the first text is sound rather than the second: less of what ftfy calls bad, more letters among what is
    beyond ASCII, and letters that are not Western, which is what most are mistaken for.
    """
    from ftfy.badness import badness

    def rank(text: str) -> tuple[int, float, bool]:
        odd = [letter for letter in text if letter > "\x7f"]
        letters = sum(letter.isalpha() for letter in odd) / len(odd) if odd else 1.0
        return -badness(text) - text.count("\ufffd"), letters, not all(letter <= "\xff" for letter in odd)

    return rank(first) > rank(other)


def _asked(before: str, after: str, *, only_letters: bool) -> bool:
    """Whether question marks stand for all letters that some page lacks."""
    for page in ("ascii", *PAGES):
        if after == before.encode(page, "replace").decode(page) and (lost := _lost(before, page)):
            return all(letter.isalpha() for letter in lost) == only_letters
    return False


def _lost(text: str, page: str) -> list[str]:
    """The letters of a text that a page lacks."""
    return [letter for letter in text if not letter.encode(page, "ignore")]


def _letters_dropped(before: str, after: str) -> bool:
    """Whether all that some page lacks was dropped, letters among it; an editor drops a sign, and no letter."""
    for page in ("ascii", *PAGES):
        kept = before.encode(page, "ignore").decode(page)
        if after == kept and any(letter.isalpha() for letter in _lost(before, page)):
            return True
    return _asked(before, after, only_letters=False)


def _looks_damaged(before: str, after: str) -> bool:
    """Whether ftfy finds encoding damage in what came back, and none in live."""
    from ftfy.badness import is_bad

    return is_bad(after) and not is_bad(before)


TAG, ENTITY = re.compile(r"<[a-zA-Z/!][^<>]*>"), re.compile(r"&(?:#\w+|\w+);")


def _escaped_again(before: str, after: str) -> bool:
    """Whether tags or entities were themselves written as entities."""
    marks = len(TAG.findall(before)) + len(ENTITY.findall(before))
    from html import unescape

    return marks > 0 and unescape(after) == before and not TAG.search(after)


def _escaped(before: str, after: str) -> bool:
    """Whether a plain text's marks were written as entities."""
    from html import unescape

    return not TAG.search(before) and not ENTITY.search(before) and unescape(after) == before != after


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


def _typographic(text: pl.Expr) -> pl.Expr:
    return text.str.count_matches(f"[{''.join(TYPOGRAPHIC)}]")


def _spaced(text: pl.Expr) -> pl.Expr:
    return text.str.replace_all(ODD_SPACES, " ").str.replace_all(UNSEEN, "")


def _bones(text: pl.Expr) -> pl.Expr:
    """A text without the letters that encodings differ in, and what stands for them."""
    return text.str.replace_all(r"[^\x21-\x3e\x40-\x7e]+", "")


def _solid(text: pl.Expr) -> pl.Expr:
    return text.str.replace_all(r"\s+", "")


def _lines(text: pl.Expr) -> pl.Expr:
    return text.str.count_matches(r"\r\n|\r|\n")


BEYOND_ASCII = BEFORE.str.contains(r"[^\x00-\x7f]") & (AFTER != "")  # which was emptied

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
        "the same text in one line",
        TEXTS,
        (_lines(AFTER) == 0) & (_lines(BEFORE) > 0) & (_solid(AFTER) == _solid(BEFORE)),
        certain=False,
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
        "the same text with typographic quotes, dashes or dots for plain ones",
        TEXTS,
        (_plain(AFTER) == _plain(BEFORE)) & (_typographic(AFTER) > _typographic(BEFORE)),
        certain=False,
    ),
    Damage(
        "wrong encoding",
        "live's text, its bytes taken for another encoding's",
        TEXTS,
        BEYOND_ASCII & (_bones(BEFORE) == _bones(AFTER)),
        _in_another_encoding,
    ),
    Damage(
        "letters lost",
        "live's text without the letters that another encoding lacks, or with question marks for signs",
        TEXTS,
        BEYOND_ASCII & (_bones(BEFORE) == _bones(AFTER)),
        _letters_dropped,
        certain=False,
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
        "live's text with its tags or entities written as entities once more",
        TEXTS,
        AFTER.str.contains("&", literal=True),
        _escaped_again,
    ),
    Damage(
        "HTML escaped",
        "live's plain text with its marks written as entities",
        TEXTS,
        AFTER.str.contains("&", literal=True),
        _escaped,
        certain=False,
    ),
)
