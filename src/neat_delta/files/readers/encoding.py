"""Which encoding a text file is in: its byte order mark, strict UTF-8, UTF-16 by its zeros, then a code page by the
words and letters of live, and last by those of languages, which is a guess.

Nothing is replaced or dropped: a file is decoded whole, or refused with the line that is wrong.
"""

from __future__ import annotations

import codecs
import re
from collections.abc import Callable
from dataclasses import dataclass

import polars as pl

from neat_delta.core.base.model.layout import encoding_name
from neat_delta.core.base.support.errors import CatalogueError
from neat_delta.core.base.support.nearest import did_you_mean

__all__ = ["BOMS", "Known", "codec", "decoded", "guess", "known_of", "of_head", "written_in"]

BOMS = (
    (b"\xef\xbb\xbf", "utf-8"),
    (b"\xff\xfe\x00\x00", "utf-32-le"),
    (b"\x00\x00\xfe\xff", "utf-32-be"),
    (b"\xff\xfe", "utf-16-le"),
    (b"\xfe\xff", "utf-16-be"),
)

PAGES = (
    "cp1252",
    "cp1250",
    "iso8859-2",
    "cp1251",
    "koi8-r",
    "iso8859-5",
    "cp866",
    "mac-roman",
    "cp850",
    "cp852",
    "iso8859-15",
    "cp1254",
    "cp1257",
    "cp1253",
)
"""The code pages of one byte a letter that are told apart here; where nothing tells them apart, the first."""

COMMON = set("€£–—‘’‚“”„…•™®©°²³½¼¾×·«»§µº\u00a0№")
"""Marks that stand in catalogues of any language."""

LANGUAGES = {
    "western": {
        "French": "àâæçéèêëîïôœùûüÿ",
        "German": "äöüß",
        "Spanish": "áéíñóúü¿¡",
        "Portuguese": "ãáâàçéêíóôõú",
        "Italian": "àèéìíîòóùú",
        "Nordic": "åäöæøé",
        "Dutch": "éëïóöüè",
        "Icelandic": "áæðéíóöþúý",
        "English": "éèêçñïöûâ",
    },
    "polish": {"Polish": "ąćęłńóśźż"},
    "czech": {"Czech": "áčďéěíňóřšťúůýž", "Slovak": "áäčďéíĺľňóôŕšťúýž"},
    "hungarian": {"Hungarian": "áéíóöőúüű"},
    "south slavic": {"Croatian": "čćđšž"},
    "romanian": {"Romanian": "ăâîșțşţ"},
    "cyrillic": {
        "Russian": "абвгдеёжзийклмнопрстуфхцчшщъыьэюя",
        "Ukrainian": "абвгґдеєжзиіїйклмнопрстуфхцчшщьюя",
        "Serbian": "абвгдђежзијклљмнњопрстћуфхцчџш",
    },
    "turkish": {"Turkish": "âçğıîöşüi̇"},
    "baltic": {"Lithuanian": "ąčęėįšųūž", "Latvian": "āčēģīķļņšūž", "Estonian": "äöüõšž"},
    "greek": {"Greek": "αβγδεζηθικλμνξοπρσςτυφχψωάέήίόύώϊϋΐΰ"},
}
"""The letters beyond ASCII that a language writes with, in groups that share their code pages."""

EVIDENCE = 1 << 16
LINES = re.compile(rb"[^\r\n]*[\x80-\xff][^\r\n]*")
LATIN, OTHER_SCRIPT = re.compile("[A-Za-z\u00c0-\u024f]"), re.compile("[\u0370-\u03ff\u0400-\u04ff]")
WORDS = re.compile(r"[^\W\d_]+")


def codec(name: str) -> str:
    """The name of an encoding as Python knows it; CatalogueError when there is none of that name."""
    try:
        canonical = codecs.lookup(name).name
        "".encode(canonical)
    except (LookupError, ValueError):
        known = ["utf-8", "utf-16", *PAGES, "shift-jis", "gb18030", "big5", "euc-kr"]
        hint = did_you_mean(name, known, "For example: utf-8, utf-16, cp1252, cp1250, cp1251.")
        raise CatalogueError(f'There is no encoding "{name}".{hint}') from None
    return canonical


def of_head(head: bytes) -> tuple[str, bytes]:
    """The encoding that the first bytes of a file show, and its byte order mark; UTF-8 until something else is
    known.
    """
    for bom, name in BOMS:
        if head.startswith(bom):
            return name, bom
    even, odd = head[:4096:2].count(0), head[1:4096:2].count(0)
    half = min(len(head), 4096) // 2
    if half and odd > half * 0.4 and even < half * 0.1:
        return "utf-16-le", b""
    if half and even > half * 0.4 and odd < half * 0.1:
        return "utf-16-be", b""
    return "utf-8", b""


def decoded(data: bytes, encoding: str, path: str) -> str:
    """All of a file's text; CatalogueError with the place where it is not in that encoding."""
    for bom, name in BOMS:
        if data[: len(bom)] == bom and encoding.removesuffix("-sig") in {name, name[:6]}:
            data = data[len(bom) :]
            break
    try:
        return str(data[:], encoding)
    except UnicodeDecodeError as error:
        line = data[: error.start].count(b"\n") + 1
        column = error.start - data[:].rfind(b"\n", 0, error.start)
        raise CatalogueError(
            f"{path}, line {line:,}, byte {column:,} of it: 0x{data[error.start]:02X} is not "
            f"{encoding_name(encoding)}. Save the file again as UTF-8, or say what it is with ‹encoding›."
        ) from None


def guess(data: bytes, path: str, words_of_live: Callable[[], Known] | None = None) -> tuple[str, bool]:
    """The code page of a file that is not UTF-8, from the lines that have letters beyond ASCII; and whether it is sure.

    The words and letters of live (`words_of_live`) decide, and it is sure; else a table of what languages write with,
    and it is a guess. CatalogueError when part of it is UTF-8 after all, so that no one encoding reads it, or when
    nothing fits.
    """
    pages, size = [], 0
    for line in LINES.finditer(data):
        pages.append(line[0][:EVIDENCE])
        size += len(pages[-1])
        if size > EVIDENCE:
            break
    sample = b"\n".join(pages)
    _must_be_one(sample, data, path)
    page = None if words_of_live is None else _as_known(sample, words_of_live())
    return (page, True) if page is not None else (_by_language(sample, path), False)


@dataclass(frozen=True, slots=True)
class Known:
    """What is known to stand in files like this one: words with letters beyond ASCII, in lower case, and all signs
    beyond ASCII.
    """

    words: frozenset[str]
    signs: frozenset[str]


def known_of(cells: pl.DataFrame) -> Known:
    """The words and signs beyond ASCII in a table."""
    words: set[str] = set()
    signs: set[str] = set()
    for column in cells.iter_columns():
        odd = column.filter(column.str.contains(r"[^\x00-\x7f]")).unique()
        for text in odd.head(MOST_TEXTS):
            signs.update(letter for letter in text if letter > "\x7f")
            words.update(word for word in WORDS.findall(text.lower()) if not word.isascii())
    return Known(frozenset(words), frozenset(signs))


MOST_TEXTS = 20_000
"""So many different texts of each field are looked through for words."""


def _as_known(sample: bytes, words_of_live: Known) -> str | None:
    """The page in which most words are known; or, if no word is, the one in which all signs are. None where two pages
    that read otherwise do as well.
    """
    read = {page: text for page in PAGES if (text := _decoded(sample, page)) is not None}
    words = {page: {word for word in WORDS.findall(text.lower()) if not word.isascii()} for page, text in read.items()}
    hits = {page: len(page_words & words_of_live.words) for page, page_words in words.items()}
    best = [page for page in read if hits[page] and hits[page] == max(hits.values())]
    if not best:
        best = [
            page for page, text in read.items() if {letter for letter in text if letter > "\x7f"} <= words_of_live.signs
        ]
    return best[0] if best and len({read[page] for page in best}) == 1 else None


def _decoded(data: bytes, page: str) -> str | None:
    try:
        return data.decode(page)
    except UnicodeDecodeError:
        return None


def _by_language(sample: bytes, path: str) -> str:
    scores = [(_plausible(sample, page), page) for page in PAGES]
    best, page = max(scores, key=lambda entry: entry[0])
    if best >= 0.75:
        return page
    from charset_normalizer import from_bytes

    match = from_bytes(sample).best()
    if match is not None and match.encoding != "utf_8":
        return codec(match.encoding)
    if best >= 0.5:
        return page
    raise CatalogueError(
        f"{path}: it is not UTF-8, and no other encoding fits. Say which it is with ‹encoding›, or save it again "
        "as UTF-8."
    )


def _must_be_one(sample: bytes, data: bytes, path: str) -> None:
    """A file that was put together from two encodings is read wrong by either."""
    lines = sample.split(b"\n")
    wrong = [line for line in lines if not _is_utf8(line)]
    if (len(lines) - len(wrong)) * 3 > len(wrong):
        number = data[: data[:].find(wrong[0])].count(b"\n") + 1
        raise CatalogueError(
            f"{path}, line {number:,}: this is not UTF-8, and other lines are; the file mixes two encodings. "
            "Save each part again as UTF-8 before putting them together."
        )


def _is_utf8(line: bytes) -> bool:
    try:
        line.decode()
    except UnicodeDecodeError:
        return False
    return True


def _plausible(sample: bytes, page: str) -> float:
    """How much of what is beyond ASCII reads as one language, or languages of one group, in a code page; 0 to 1."""
    try:
        text = sample.decode(page)
    except UnicodeDecodeError:
        return 0.0
    letters = [letter for letter in text if letter > "\x7f"]
    if not letters or any("\x7f" < letter < "\xa0" for letter in letters):
        return 0.0
    marks = sum(letter in COMMON for letter in letters)
    small = [letter.lower() for letter in letters if letter not in COMMON]
    plausible, group = 0, 0
    for languages in LANGUAGES.values():
        every = set("".join(languages.values()))
        group = max(group, sum(letter in every for letter in small))
        plausible = max(plausible, *(sum(letter in alphabet for letter in small) for alphabet in languages.values()))
    # A capital in the middle of a word, letters of two scripts in one, or a mark where a letter should be, is what a
    # wrong code page shows.
    odd = len(re.findall(r"[^\W\d_][^\w\s\x00-\x7f\u2018\u2019\u00a0\u00ad][^\W\d_]", text))
    for word in WORDS.findall(text):
        if not word.isupper():
            odd += sum(letter.isupper() and letter > "\x7f" for letter in word[1:])
        if LATIN.search(word):
            odd += len(OTHER_SCRIPT.findall(word))
    return max(0.0, (marks + (plausible + group) / 2 - odd) / len(letters))


def written_in(text: str, encoding: str, what: str) -> bytes:
    """A text's bytes in an encoding; CatalogueError that names the first character it does not have."""
    try:
        return text.encode(encoding)
    except UnicodeEncodeError as error:
        line = text[: error.start].rpartition("\n")[2] + text[error.start :].partition("\n")[0]
        raise CatalogueError(
            f"{what}: it is to be in {encoding_name(encoding)}, which has no {text[error.start]!r} "
            f"(in {line.strip()[:60]!r}). Replace that character, or choose another encoding."
        ) from None
