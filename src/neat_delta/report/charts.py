"""Charts of a round, drawn with Matplotlib: how far prices and margins move, where the changes are.

Each is readable in grey: what is held is hatched, and a line is told by its dashes, never by colour alone.
"""

from __future__ import annotations

import io
import math
import re
import warnings
from collections.abc import Sequence
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import matplotlib as mpl
import numpy as np
import polars as pl
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap, to_rgb
from matplotlib.figure import Figure
from matplotlib.font_manager import FontProperties
from matplotlib.textpath import text_to_path
from matplotlib.ticker import MaxNLocator
from rich.cells import cell_len

from neat_delta.core.base.model.changeset import ChangeSet, held
from neat_delta.core.review.impact import grouped, points
from neat_delta.report.text import count, display_text

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue

__all__ = ["Chart", "as_png", "as_svg", "charts"]

INK, QUIET, SENT, HELD, PAPER = "#1f2a26", "#66706b", "#2f6b55", "#e0a94b", "#fbfaf7"
"""Text and axes; lines behind; what is sent; what is held; the ground. In grey they lie far apart."""

VARIABLES = {INK: "--ink", QUIET: "--quiet", SENT: "--sent", HELD: "--held", PAPER: "--paper"}
"""The names that the page has for the colours, so that a chart in it turns dark with the page."""

MOST_BARS = 12
MANY = 1_500
"""So many bars are drawn; more dots than that become a map of how many lie where."""

STYLE: Any = {
    "svg.fonttype": "none",
    "svg.hashsalt": "neat-delta",
    "text.parse_math": False,  # a field may be called $price$
    "font.family": "DejaVu Sans",
    "font.size": 9,
    "axes.edgecolor": QUIET,
    "axes.labelcolor": INK,
    "axes.spines.top": False,
    "axes.spines.right": False,
    "hatch.color": INK,
    "hatch.linewidth": 0.6,
    "text.color": INK,
    "xtick.color": INK,
    "ytick.color": INK,
    "figure.facecolor": PAPER,
    "axes.facecolor": PAPER,
    "savefig.facecolor": PAPER,
}


SIZE, POINTS = (6.4, 3.6), 72
"""The inches of a figure, across and up, and the points of one, in which what is around the axes is counted."""

LEFT, RIGHT, BELOW, ABOVE = 28.0, 8.0, 36.0, 24.0
"""Points around the axes: beside the labels at their left, at the right, for two lines below, for one above."""

warnings.filterwarnings(
    "ignore", r"Glyph \d+ .* missing from font", UserWarning
)  # a page is read in fonts that have it


class Chart:
    """A chart: its name (for a file), its title, what it shows in a sentence, and the figure."""

    def __init__(self, name: str, title: str, says: str, figure: Figure) -> None:
        self.name, self.title, self.says, self.figure = name, title, says, figure


def charts(changes: ChangeSet, live: Catalogue | None, by: str | None) -> list[Chart]:
    """The charts that the change set has something for; `by` is the field whose values are the categories."""
    with mpl.rc_context(STYLE):
        pictures = []
        if live is not None:
            impact = points(changes, live)
            pictures += [_prices(impact.prices), _margins(impact.margins)]
        pictures.append(_fields(changes))
        if live is not None and by is not None:
            pictures.append(_categories(changes, live, by))
        return [chart for chart in pictures if chart is not None]


def as_png(chart: Chart) -> bytes:
    """A chart as a picture; the same chart gives the same bytes."""
    content = io.BytesIO()
    with mpl.rc_context(STYLE):
        title = chart.figure.suptitle(chart.title, x=0.01, y=1.06, ha="left", fontsize=11, fontweight="bold")
        chart.figure.savefig(
            content, format="png", dpi=150, bbox_inches="tight", pad_inches=0.12, metadata={"Software": None}
        )
        title.remove()
    return content.getvalue()


def as_svg(chart: Chart) -> str:
    """A chart to stand inside a page: its colours are the page's variables, its text is text, its ids are its own."""
    content = io.StringIO()
    with mpl.rc_context(STYLE):
        chart.figure.savefig(content, format="svg", transparent=True, metadata={"Date": None, "Creator": None})
    svg = content.getvalue()[content.getvalue().index("<svg") :]
    svg = re.sub(r"<metadata>.*?</metadata>", "", svg, flags=re.DOTALL)
    used = set(re.findall(r'(?:url\(#|href="#)([^)"]+)', svg))
    svg = re.sub(r' id="([^"]*)"', lambda id_: f' id="{chart.name}-{id_[1]}"' if id_[1] in used else "", svg)
    svg = re.sub(r'(url\(#|href="#)', rf"\g<1>{chart.name}-", svg)
    for colour, variable in VARIABLES.items():
        svg = svg.replace(colour, f"var({variable})")
    svg = re.sub(r"font: ([0-9.]+px) [^;\"]*", r"font: \1 var(--font)", svg)
    head, _, rest = svg.partition(">")
    size = re.search(r'viewBox="[^"]*"', head)
    return f'<svg xmlns="http://www.w3.org/2000/svg" {size[0] if size else ""} aria-hidden="true">{rest}'


def _figure(labels: Sequence[str], above: bool = False) -> tuple[Figure, Axes]:
    """A figure with room for the widest of these labels at its left, under them for a line of words, and above for one
    where it is wanted. Matplotlib's own layout would draw all of it three times to find out.
    """
    width, height = (inches * POINTS for inches in SIZE)
    widest = max(map(_width, labels))
    figure = Figure(figsize=SIZE)
    axes = figure.add_subplot()
    figure.subplots_adjust(
        left=(widest + LEFT) / width, right=1 - RIGHT / width, bottom=BELOW / height,
        top=1 - (ABOVE if above else RIGHT) / height,
    )  # fmt: skip
    axes.set_axisbelow(True)
    return figure, axes


def _width(label: str) -> float:
    """Points that a label takes, in this font or in one with all letters."""
    size = float(STYLE["font.size"])
    measured, _, _ = text_to_path.get_text_width_height_descent(label, FontProperties(size=size), False)
    return max(float(measured), cell_len(label) * size / 2)


def _prices(shares: Sequence[Decimal]) -> Chart | None:
    """How many prices change by how many per cent. A few that lie far out are counted at the edge."""
    if not shares:
        return None
    values = np.array([float(share) for share in shares])  # it is only drawn
    low, high = _reach(values)
    step = _step((high - low) / min(24, 2 * math.ceil(math.sqrt(len(values)))))
    edges = np.arange(math.floor(low / step), math.ceil(high / step) + 1) * step
    if len(edges) < 2:
        edges = np.array([low - step / 2, low + step / 2])
    inside = values[(values >= edges[0]) & (values <= edges[-1])]
    far = len(values) - len(inside)
    figure, axes = _figure([str(np.histogram(inside, edges)[0].max())], above=far > 0)
    axes.hist(inside, bins=edges.tolist(), color=SENT, edgecolor=PAPER, linewidth=0.8)
    axes.axvline(0, color=INK, linewidth=0.8)
    axes.axvline(float(np.median(values)), color=INK, linewidth=1, linestyle="--")
    axes.set_xlabel("change of the price, per cent of the price before   (dashed: the median)")
    axes.set_ylabel("items")
    axes.yaxis.set_major_locator(MaxNLocator(integer=True))
    if far:
        axes.set_title(f"{count(far, 'item')} beyond {edges[0]:+.0f} … {edges[-1]:+.0f} %", fontsize=8, loc="right")
    up, down = int((values > 0).sum()), int((values < 0).sum())
    says = f"{count(up, 'price')} up, {down:,} down; the median is {np.median(values):+.1f} %.".replace("-", "−")
    return Chart("price-changes", "How far prices move", says, figure)


def _reach(values: np.ndarray) -> tuple[float, float]:
    """From where to where is drawn: all, unless a few values would squeeze the others together."""
    low, high = float(values.min()), float(values.max())
    first, last = (float(edge) for edge in np.quantile(values, [0.02, 0.98]))
    span = max(last - first, 1.0)
    return (low if low > first - 2 * span else first), (high if high < last + 2 * span else last)


def _step(wanted: float) -> float:
    """The next of 1, 2, 5, 10, … (and their tenths) that is no less."""
    power = 10.0 ** math.floor(math.log10(max(wanted, 1e-6)))
    return max(next(power * n for n in (1, 2, 5, 10) if power * n >= wanted * 0.999), 0.1)


def _margins(margins: Sequence[tuple[Decimal, Decimal]]) -> Chart | None:
    """Each item's margin before (across) and after (up); on the line nothing changes."""
    if not margins:
        return None
    before, after = (np.array([float(margin[side]) for margin in margins]) for side in (0, 1))
    figure, axes = _figure(["−100"])
    low, high = (float(edge) for edge in np.quantile(np.concatenate([before, after]), [0.005, 0.995]))
    pad = max((high - low) * 0.08, 1.0)
    reach = (low - pad, high + pad)
    axes.plot(reach, reach, color=QUIET, linewidth=1, linestyle="--", zorder=1)
    if len(margins) > MANY:
        shades = LinearSegmentedColormap.from_list("shades", [(*to_rgb(SENT), 0.15), (*to_rgb(SENT), 1.0)])
        axes.hexbin(before, after, gridsize=36, extent=(*reach, *reach), mincnt=1, bins="log", cmap=shades, zorder=2)
    else:
        axes.scatter(before, after, s=22, color=SENT, edgecolors=PAPER, linewidths=0.6, zorder=3)
    axes.set_xlim(reach)
    axes.set_ylim(reach)
    axes.set_xlabel("margin before, per cent of the price   (dashed: no change)")
    axes.set_ylabel("margin after, per cent")
    better, worse = int((after > before).sum()), int((after < before).sum())
    says = f"The margin of {count(better, 'item')} grows, of {worse:,} it shrinks."
    return Chart("margins", "Margins before and after", says, figure)


def _fields(changes: ChangeSet) -> Chart | None:
    """The changed cells of each field, sent and held."""
    cells = changes.cells.with_columns(stays=held(changes.items, changes.cells), name=pl.col("field").cast(pl.String))
    title = "Changed cells per field"
    return _bars("fields", title, "cells", _counted(cells, "name", "stays"))


def _categories(changes: ChangeSet, live: Catalogue, by: str) -> Chart | None:
    """The changed items of each group, those of which something is held apart."""
    stays = held(changes.items, changes.cells)
    items = changes.cells.with_columns(stays=stays).group_by("item", maintain_order=True).agg(pl.col("stays").any())
    names = grouped(changes, live, by, changes.cells, items["item"])
    counted = _counted(items.with_columns(name=names), "name", "stays")
    return _bars("categories", f"Changed items per {display_text(by)}", "items", counted)


def _counted(table: pl.DataFrame, name: str, stays: str) -> list[tuple[str, int, int]]:
    """Name, sent, held; the largest first, what is left over together at the end."""
    groups = table.group_by(name, maintain_order=True).agg(
        sent=(~pl.col(stays)).sum().cast(pl.Int64), held=pl.col(stays).sum().cast(pl.Int64)
    )
    groups = groups.sort(pl.col("sent") + pl.col("held"), descending=True, maintain_order=True)
    bars = [(display_text(str(group_name)), sent, stay) for group_name, sent, stay in groups.iter_rows()]
    rest = bars[MOST_BARS:]
    if rest:
        bars = bars[:MOST_BARS]
        bars.append((f"{len(rest):,} more", sum(bar[1] for bar in rest), sum(bar[2] for bar in rest)))
    return bars


def _bars(name: str, title: str, unit: str, rows: Sequence[tuple[str, int, int]]) -> Chart | None:
    if not rows:
        return None
    labels = [label if len(label) <= 28 else label[:27] + "…" for label, _, _ in rows]
    figure, axes = _figure(labels, above=True)
    sent, stay = [bar[1] for bar in rows], [bar[2] for bar in rows]
    places = range(len(rows))
    word = "to send" if unit == "cells" else "all of it to send"
    axes.barh(places, sent, color=SENT, label=word, height=0.72)
    if any(stay):
        word = "held" if unit == "cells" else "something held"
        axes.barh(
            places, stay, left=sent, color=HELD, hatch="////", edgecolor=INK, linewidth=0.4, label=word, height=0.72
        )
    for place, total in enumerate(map(sum, zip(sent, stay, strict=True))):
        axes.annotate(f"{total:,}", (total, place), (4, 0), textcoords="offset points", va="center", fontsize=8)
    axes.set_yticks(list(places), labels)
    axes.invert_yaxis()
    axes.margins(x=0.1)
    axes.xaxis.set_major_locator(MaxNLocator(integer=True))
    axes.set_xlabel(unit)
    figure.legend(frameon=False, fontsize=8, loc="upper right", ncols=2, borderaxespad=0.2)  # above, never on a bar
    says = f"Most in {rows[0][0]}: {count(rows[0][1] + rows[0][2], unit[:-1])}, of which {rows[0][2]:,} " + (
        "held." if unit == "cells" else "with something held."
    )
    return Chart(name, title, says, figure)
