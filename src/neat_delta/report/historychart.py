"""How a field, or an item, went over the rounds, as a picture."""

from __future__ import annotations

import io
from collections.abc import Sequence
from decimal import Decimal, InvalidOperation
from typing import TYPE_CHECKING

import matplotlib as mpl
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.ticker import MaxNLocator

from neat_delta.report.charts import HELD, INK, QUIET, SENT, STYLE
from neat_delta.report.text import count, display_text

if TYPE_CHECKING:
    from neat_delta.core.base.model.history import HistoryChange

__all__ = ["history_chart"]

MOST_ITEMS = 8
"""So many items have a line of their own; of more, the changes of each round are drawn as they are spread."""


def history_chart(cells: Sequence[HistoryChange], title: str) -> bytes:
    """A picture (PNG) of the changes that stand: of few items a line each, of many how far each round moved them, in
    per cent. It is readable in grey.
    """
    standing = [cell for cell in cells if cell.state in {"written", "sent", "landed", "reported done"}]
    with_numbers = [(cell, _number(cell.before), _number(cell.after)) for cell in standing]
    points = [(cell, before, after) for cell, before, after in with_numbers if after is not None]
    lines: dict[tuple[str, str], list[tuple[int, float]]] = {}
    for cell, before, after in points:
        line = lines.setdefault((" / ".join(cell.key), cell.field), [])
        if not line and before is not None:
            line.append((cell.round - 1, float(before)))
        line.append((cell.round, float(after)))
    with mpl.rc_context(STYLE):
        figure = Figure(figsize=(9.6, 4.8), dpi=120, layout="constrained")
        axes = figure.add_subplot()
        axes.set_title(display_text(title), loc="left", color=INK)
        axes.set_xlabel("round")
        if not points:
            axes.text(
                0.5, 0.5, "no number was changed", ha="center", va="center", transform=axes.transAxes, color=QUIET
            )
        else:
            rounds = sorted({cell.round for cell, _, _ in points})
            if len(lines) <= MOST_ITEMS:
                _draw_lines(axes, lines)
                rounds = sorted({number for line in lines.values() for number, _ in line})
            else:
                _draw_spread(axes, points)
            _name_rounds(axes, rounds, begin=len(lines) <= MOST_ITEMS)
        content = io.BytesIO()
        figure.savefig(content, format="png", metadata={"Software": None})
    return content.getvalue()


MOST_NAMED = 20
"""So many rounds have their numbers under them; of more, some."""


def _name_rounds(axes: Axes, rounds: Sequence[int], *, begin: bool) -> None:
    """The numbers of the rounds, each under its own, with room at both ends; `begin`: the first is how it was."""
    axes.set_xlim(rounds[0] - 0.6, rounds[-1] + 0.6)
    if len(rounds) > MOST_NAMED:
        axes.xaxis.set_major_locator(MaxNLocator(integer=True))
        return
    axes.set_xticks(rounds, ["before" if begin and place == 0 else str(number) for place, number in enumerate(rounds)])


def _number(text: str | None) -> Decimal | None:
    """A text as a number, if it is one as programs write it."""
    try:
        number = Decimal((text or "").strip().replace(",", "."))
    except InvalidOperation:
        return None
    return number if number.is_finite() else None


def _draw_lines(axes: Axes, lines: dict[tuple[str, str], list[tuple[int, float]]]) -> None:
    """A stepped line for each item, told apart by dashes and marks, and by its name at its end."""
    dashes, marks = ("-", "--", ":", "-."), "osD^vPX*"
    fields = {field for _, field in lines}
    for number, ((key, field), line) in enumerate(lines.items()):
        name = key if len(fields) == 1 else field if len({key for key, _ in lines}) == 1 else f"{key}, {field}"
        axes.plot(
            *zip(*line, strict=True), drawstyle="steps-post", color=(SENT, HELD, INK, QUIET)[number % 4],
            linestyle=dashes[number % 4], marker=marks[number % 8], label=display_text(name),
        )  # fmt: skip
    axes.legend(frameon=False, loc="best")
    axes.set_ylabel(next(iter(fields)) if len(fields) == 1 else "value")
    axes.margins(y=0.15)


def _draw_spread(axes: Axes, points: Sequence[tuple[HistoryChange, Decimal | None, Decimal]]) -> None:
    """Each round's changes in per cent, a box for half of them and a line for its middle."""
    rounds: dict[int, list[float]] = {}
    for cell, before, after in points:
        if before:
            rounds.setdefault(cell.round, []).append(float((after - before) * 100 / abs(before)))
    if not rounds:
        axes.text(0.5, 0.5, "nothing to compare with", ha="center", va="center", transform=axes.transAxes, color=QUIET)
        return
    boxes = axes.boxplot(
        list(rounds.values()), positions=list(rounds), widths=0.5, patch_artist=True, manage_ticks=False, sym=".",
        medianprops={"color": INK}, flierprops={"markeredgecolor": QUIET},
    )  # fmt: skip
    for box in boxes["boxes"]:
        box.set(facecolor=SENT, alpha=0.45)
    axes.axhline(0, color=QUIET, linewidth=0.8)
    axes.set_ylabel("change in per cent")
    axes.set_xlabel("round")
    for number, values in rounds.items():
        axes.annotate(count(len(values), "cell"), (number, max(values)), xytext=(0, 6), textcoords="offset points",
                      ha="center", fontsize=7, color=QUIET)  # fmt: skip
    axes.margins(y=0.15)
