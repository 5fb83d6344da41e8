"""The tags of an HTML text: whether each that is opened is closed."""

from __future__ import annotations

from html.parser import HTMLParser

__all__ = ["unclosed_tag"]

VOID = {"area", "base", "br", "col", "embed", "hr", "img", "input", "link", "meta", "param", "source", "track", "wbr"}
"""The elements of HTML that have no end tag (WHATWG HTML, 13.1.2)."""
OPTIONAL = {
    "li",
    "dt",
    "dd",
    "p",
    "tr",
    "td",
    "th",
    "thead",
    "tbody",
    "tfoot",
    "option",
    "optgroup",
    "colgroup",
    "rp",
    "rt",
}
"""Those whose end tag may be left out (13.1.2.4)."""


class _Tags(HTMLParser):
    def __init__(self) -> None:
        super().__init__()
        self.open: list[str] = []
        self.wrong: str | None = None

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        del attrs
        if tag not in VOID:
            self.open.append(tag)

    def handle_endtag(self, tag: str) -> None:
        if tag in VOID:
            return
        while self.open and self.open[-1] != tag and self.open[-1] in OPTIONAL:
            self.open.pop()
        if self.open and self.open[-1] == tag:
            self.open.pop()
        elif self.wrong is None:
            self.wrong = f"</{tag}> closes nothing"


def unclosed_tag(text: str) -> str | None:
    """What is wrong with the tags of a text; None where nothing is.

    >>> unclosed_tag("<b>Veil")
    '<b> is never closed'
    """
    tags = _Tags()
    tags.feed(text)
    tags.close()
    left = [tag for tag in tags.open if tag not in OPTIONAL]
    return tags.wrong or (f"<{left[-1]}> is never closed" if left else None)
