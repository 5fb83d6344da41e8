"""What became of what was sent, in the terminal: what landed, what the store says, where the two do not agree."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, get_args

import polars as pl
from rich.text import Text

from neat_delta.core.base.model.results import ResultStatus
from neat_delta.core.outcomes.landings import landings_of, was_altered
from neat_delta.core.outcomes.witnesses import Seen
from neat_delta.report.terminal import LISTED, Screen, print_some, result_table
from neat_delta.report.text import count, display_text, key_text

if TYPE_CHECKING:
    from neat_delta.core.base.kinds.stored import Habit
    from neat_delta.core.outcomes.confirm import Confirmed
    from neat_delta.core.outcomes.landings import Landing
    from neat_delta.core.outcomes.results import Results
    from neat_delta.core.outcomes.witnesses import Testimony, Witnesses

__all__ = [
    "left_lines",
    "print_confirmed",
    "print_drafted_results",
    "print_habits",
    "print_left",
    "print_witnesses",
]

SAYS: dict[ResultStatus, str] = {
    "done": "said to be done",
    "warned": "done with a warning",
    "skipped": "skipped",
    "refused": "refused",
    "not mentioned": "not mentioned",
}
SEES: dict[Seen, str] = {
    "landed": "landed",
    "differently": "landed differently",
    "not landed": "not landed",
    "taken back": "taken back",
    "not seen": "not seen",
}


def print_witnesses(console: Screen, witnesses: Witnesses, results: Results) -> None:
    """What the store says of the items, against what the export shows: a table, then what does not agree, the worst
    first, then the messages by their form, then what the report has besides.
    """
    many, counts = len(witnesses.testimonies), witnesses.counts
    looked = any(seen != "not looked at" for _, seen in counts)
    if witnesses.all_done and not any(seen == "taken back" for _, seen in counts):
        hidden = sum(number for (_, seen), number in counts.items() if seen == "not seen")
        landed = " and landed" if looked else ", says the store"
        if hidden:
            landed = f", says the store; {many - hidden:,} landed, {hidden:,} not seen"
        all_of_them = "" if many == 1 else "all of them "
        console.print(f"{count(many, 'item')} sent, {all_of_them}done{landed}.", style="bold green")
    else:
        by_word = results.counts
        counted = ", ".join(f"{by_word[word]:,} {word}" for word in get_args(ResultStatus) if by_word.get(word))
        console.print(f"{count(many, 'item')} sent. The store says: {counted}", style="bold")
        if looked:
            _print_table(console, witnesses)
    for title, items in _disputes(witnesses):
        lines = [line for testimony in items for line in _lines(testimony)]
        print_some(console, f"{title}: {count(len(items), 'item')}", lines)
    for counted, form, items in witnesses.messages:
        title = form
        names = [
            Text(f"  {key_text(testimony.key)}  ").append(display_text(testimony.message), "dim") for testimony in items
        ]
        if len({testimony.message for testimony in items}) == 1:  # then it stands in the title
            names = [Text(f"  {key_text(testimony.key)}") for testimony in items]
            title = items[0].message
        print_some(
            console,
            f"{SAYS[counted]}, {len(items):,} × {_shortened(display_text(title))}",
            names,
        )
    silent_ones: tuple[ResultStatus, ...] = ("warned", "refused", "skipped", "not mentioned")
    for counted in silent_ones:
        items = [
            testimony for testimony in witnesses.testimonies if testimony.status == counted and not testimony.message
        ]
        silent = [Text(f"  {key_text(testimony.key)}") for testimony in items]
        what = SAYS[counted] if counted == "not mentioned" else f"{SAYS[counted]}, without a message"
        print_some(console, f"{what}: {count(len(items), 'item')}", silent)
    others = [
        Text(f"  {display_text(row.report)} row {row.row:,}: {display_text(row.key)}  ").append(
            " ".join(display_text(part) for part in (row.status, row.message) if part), "dim"
        )
        for row in results.others
    ]
    print_some(console, f"in the report, and not sent: {count(len(others), 'row')}", others)
    twice = [Text(f"  {display_text(item)}") for item in results.repeated]
    print_some(console, "there twice in the report; the last one counts", twice)
    if results.aside:
        console.print(f"\n{count(results.aside, 'line')} of the report name no item, such as totals")


def _shortened(message: str) -> str:
    """A message as it is, or its beginning and how long it is."""
    if len(message) <= LONGEST_MESSAGE:
        return message
    return f"{message[:LONGEST_MESSAGE].rstrip()}… ({len(message):,} characters; --json has all of them)"


LONGEST_MESSAGE = 1_000
"""Characters of a message that are shown: some ten lines of the terminal."""


def _print_table(console: Screen, witnesses: Witnesses) -> None:
    counts = witnesses.counts
    shown_as = {
        seen: word
        for seen, word in SEES.items()
        if seen not in {"taken back", "not seen"} or any(seen_as == seen for _, seen_as in counts)
    }
    table = result_table("", *shown_as.values(), right=tuple(range(1, len(shown_as) + 1)))
    for result_word in get_args(ResultStatus):
        row = [counts.get((result_word, seen), 0) for seen in shown_as]
        if any(row):
            table.add_row(SAYS[result_word], *(f"{number:,}" if number else "·" for number in row))
    console.print()
    console.print(table)


def _disputes(witnesses: Witnesses) -> list[tuple[str, list[Testimony]]]:
    """What does not agree, under its title, the worst first."""
    groups: dict[str, list[Testimony]] = {}
    for testimony in witnesses.disputed:
        title = {
            "landed": f"{SAYS[testimony.status]}, and landed all the same",
            "not landed": f"{SAYS[testimony.status]}, and did not land",
            "differently": f"{SAYS[testimony.status]}, and landed differently",
        }[testimony.seen]
        groups.setdefault(title, []).append(testimony)
    return list(groups.items())


def _lines(testimony: Testimony) -> list[Text]:
    return [landing(each) for each in testimony.landings] or [Text(f"  {key_text(testimony.key)}")]


def print_confirmed(console: Screen, result: Confirmed, after: str, *, by_items: bool = False) -> None:
    """What landed in the export `after` and what did not, what stands there twice, and what else moved meanwhile. Where
    it was said `by_items` already (`print_witnesses`), only the rest.
    """
    total = sum(result.counts.values())
    if not by_items and result.all_landed and not result.lacking.height:
        seen = " that can be seen" if result.unseen else ""
        if total:
            landed = f"The change{seen}" if total == 1 else f"All {total:,} changes{seen}"
            console.print(f"{landed} landed.", style="bold green")
    elif not by_items and total:
        counted = ", ".join(f"{number:,} {word}" for word, number in result.counts.items() if number)
        console.print(f"{count(total, 'change')}: {counted}", style="bold")
    for name, number in result.unseen.items():
        console.print(Text(f"{count(number, 'cell')} of {display_text(name)} not seen: {display_text(after)} lacks it"))
    for outcome in ("not landed", "differently") if not by_items else ():
        those = result.lacking.filter(pl.col("outcome") == outcome)
        landings = landings_of(those[: console.room()], result.keys)
        print_some(console, SEES[outcome], [landing(trouble) for trouble in landings], of=those.height)
    lines = [
        Text(f"  {key_text(resting.key)}  {display_text(resting.field)}: ").append(display_text(resting.text), "green")
        .append(f" landed, and {display_text(resting.read)} {RESTING_ON[resting.outcome == 'not landed']}")
        for resting in result.resting
    ]  # fmt: skip
    title = f"computed from what is not there: {count(len(lines), 'cell')}"
    print_some(console, title, lines)
    twice = [Text(f"  {' / '.join(display_text(part) for part in key_of.values())}") for key_of in result.twice]
    title = f"{count(len(twice), 'item')} there twice, as an importer does that adds where it should update"
    print_some(console, title, twice)
    for moving, title in OTHERWISE if console.detail != "waiting" else ():
        rows = result.other_changes.filter(result.other_changes.to_series(-1) == moving)
        lines = []
        for *parts, name, before, now, _ in rows[: console.room()].iter_rows():
            line = Text(f"  {' / '.join(map(display_text, parts))}  {display_text(name)}: ")
            lines.append(
                line.append(display_text(before), "bright_red").append(" → ").append(display_text(now), "green")
            )
        print_some(console, f"{title}: {count(rows.height, 'cell')}", lines, of=rows.height)
    for number, what in ((result.came, "came that live did not have"), (result.went, "went")):
        if number:
            console.print(f"\n{count(number, 'item')} {what}")


def print_habits(console: Screen, habits: Sequence[Habit]) -> None:
    """What the store seems to make of fields by itself, as lines for the store file."""
    for habit in habits:
        value = f'"{habit.value}"' if isinstance(habit.value, str) else habit.value
        console.print(f"\nThe store {habit}, it seems: {habit.cells:,} of {count(habit.of, 'cell')}.", style="bold")
        console.print(
            Text("  If so, say it in the store file; then it counts as landed, and a check warns beforehand:")
        )
        console.print(Text(f"  [fields.{habit.field}] {habit.setting} = {value}"))


def print_drafted_results(console: Screen, draft: str, path: str) -> None:
    """What was guessed of a report, as a part of the store file."""
    console.print(f"The store file does not say how to read {display_text(path)}. It seems to be so:", style="bold")
    for line in draft.splitlines():
        console.print(Text(f"  {line}"), soft_wrap=True)
    console.print()


def print_left(console: Screen, left: Sequence[Landing], *, altered: bool) -> None:
    """What is not taken back, as it does not stand as it was set; what the store made of it by itself can be `altered`
    back, if that is wanted.
    """
    own = [landing_left for landing_left in left if was_altered(landing_left) and not altered]
    rest = [landing_left for landing_left in left if altered or not was_altered(landing_left)]
    print_some(
        console,
        "left alone, as somebody changed it since",
        [landing(landing_left) for landing_left in rest],
    )
    title = "left alone, as the store made something else of it (--altered takes it back, too)"
    print_some(console, title, [landing(landing_left) for landing_left in own])
    if left:
        console.print()


def left_lines(confirmed: Confirmed) -> list[str]:
    """What did not land and is not sent again, by the reason, a line each."""
    left, lines = confirmed.lacking.filter(pl.col("left").is_not_null()), list[str]()
    for (reason,), those in left.group_by("left", maintain_order=True):
        items = [
            f"{key_text(each.key)}{'' if each.field is None else f' {display_text(each.field)}'}"
            for each in landings_of(those.head(LISTED), confirmed.keys)
        ]
        rest = f" and {those.height - LISTED:,} more" if those.height > LISTED else ""
        lines.append(f"Left alone, {count(those.height, 'change')}: {reason}: {', '.join(items)}{rest}")
    return lines


OTHERWISE = ((False, "what else is otherwise now"), (True, "what moves by itself"))
"""What is said of cells that were not sent and are otherwise now, by whether their field moves by itself."""

RESTING_ON = {True: "did not", False: "landed differently"}

ITEM_OUTCOMES = {
    ("not landed", False): "it is still there",
    ("differently", False): "it is there, and otherwise",
    ("not landed", True): "there is no such item",
}


def landing(change: Landing) -> Text:
    """A change that did not land as it was meant, on a line."""
    line = Text(f"  {key_text(change.key)}")
    if change.field is None:
        return line.append(f": {ITEM_OUTCOMES[change.outcome, change.new]}")
    line.append(f"  {display_text(change.field)}{', ' + change.how if change.how else ''}: ")
    line.append(display_text(change.meant or ""), "green").append(" was meant, ")
    if change.now is None:
        return line.append("and there is no such item", "bright_red")
    return line.append("and it is ").append(display_text(change.now), "bright_red")
