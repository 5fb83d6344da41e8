"""What became of what was sent, in the terminal: what landed, what the store says, where the two do not agree."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING, get_args

from rich.text import Text

from neat_delta.core.base.model.results import Said
from neat_delta.core.outcomes.retry import was_altered
from neat_delta.core.outcomes.witnesses import Seen
from neat_delta.report.terminal import LISTED, print_some, result_table
from neat_delta.report.text import count, key_text, shown

if TYPE_CHECKING:
    from rich.console import Console

    from neat_delta.core.base.kinds.stored import Habit
    from neat_delta.core.outcomes.confirm import Confirmed, Landing
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

SAYS: dict[Said, str] = {
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
    "not seen": "not seen",
}


def print_witnesses(console: Console, witnesses: Witnesses, results: Results, *, everything: bool) -> None:
    """What the store says of the items, against what the export shows: a table, then what does not agree, the worst
    first, then the messages by their form, then what the report has besides.
    """
    many, counts = len(witnesses.testimonies), witnesses.counts
    looked = any(seen != "not looked at" for _, seen in counts)
    if witnesses.all_done:
        hidden = sum(number for (_, seen), number in counts.items() if seen == "not seen")
        landed = " and landed" if looked else ", says the store"
        if hidden:
            landed = f", says the store; {many - hidden:,} landed, {hidden:,} not seen"
        console.print(f"{count(many, 'item')} sent, all of them done{landed}.", style="bold green")
    else:
        said = ", ".join(f"{results.counts[one]:,} {one}" for one in get_args(Said) if results.counts.get(one))
        console.print(f"{count(many, 'item')} sent. The store says: {said}", style="bold")
        if looked:
            _print_table(console, witnesses)
    for title, items in _disputes(witnesses):
        lines = [line for one in items for line in _lines(one)]
        print_some(console, f"{title}: {count(len(items), 'item')}", lines, everything=everything)
    for said, form, items in witnesses.messages:
        title = form
        names = [Text(f"  {key_text(one.key)}  ").append(shown(one.message), "dim") for one in items]
        if len({one.message for one in items}) == 1:  # then it stands in the title
            names = [Text(f"  {key_text(one.key)}") for one in items]
            title = items[0].message
        print_some(console, f"{SAYS[said]}, {len(items):,} × {_shortened(shown(title))}", names, everything=everything)
    silent_ones: tuple[Said, ...] = ("warned", "refused", "skipped", "not mentioned")
    for said in silent_ones:
        items = [one for one in witnesses.testimonies if one.said == said and not one.message]
        silent = [Text(f"  {key_text(one.key)}") for one in items]
        what = SAYS[said] if said == "not mentioned" else f"{SAYS[said]}, without a message"
        print_some(console, f"{what}: {count(len(items), 'item')}", silent, everything=everything)
    others = [
        Text(f"  {shown(one.report)} row {one.row:,}: {shown(one.key)}  ").append(
            " ".join(shown(part) for part in (one.status, one.message) if part), "dim"
        )
        for one in results.others
    ]
    print_some(console, f"in the report, and not sent: {count(len(others), 'row')}", others, everything=everything)
    twice = [Text(f"  {shown(one)}") for one in results.repeated]
    print_some(console, "there twice in the report; the last one counts", twice, everything=everything)
    if results.aside:
        console.print(f"\n{count(results.aside, 'line')} of the report name no item, such as totals")


def _shortened(message: str) -> str:
    """A message as it is, or its beginning and how long it is."""
    if len(message) <= LONGEST_MESSAGE:
        return message
    return f"{message[:LONGEST_MESSAGE].rstrip()}… ({len(message):,} characters; --json has all of them)"


LONGEST_MESSAGE = 1_000
"""Characters of a message that are shown: some ten lines of the terminal."""


def _print_table(console: Console, witnesses: Witnesses) -> None:
    counts = witnesses.counts
    shown_as = {
        seen: word for seen, word in SEES.items() if seen != "not seen" or any(one == seen for _, one in counts)
    }
    table = result_table("", *shown_as.values(), right=tuple(range(1, len(shown_as) + 1)))
    for said in get_args(Said):
        row = [counts.get((said, seen), 0) for seen in shown_as]
        if any(row):
            table.add_row(SAYS[said], *(f"{number:,}" if number else "·" for number in row))
    console.print()
    console.print(table)


def _disputes(witnesses: Witnesses) -> list[tuple[str, list[Testimony]]]:
    """What does not agree, under its title, the worst first."""
    groups: dict[str, list[Testimony]] = {}
    for one in witnesses.disputed:
        title = {
            "landed": f"{SAYS[one.said]}, and landed all the same",
            "not landed": f"{SAYS[one.said]}, and did not land",
            "differently": f"{SAYS[one.said]}, and landed differently",
        }[one.seen]
        groups.setdefault(title, []).append(one)
    return list(groups.items())


def _lines(one: Testimony) -> list[Text]:
    return [landing(each) for each in one.landings] or [Text(f"  {key_text(one.key)}")]


def print_confirmed(
    console: Console, result: Confirmed, key: Sequence[str], after: str, *, everything: bool, by_items: bool = False
) -> None:
    """What landed in the export `after` and what did not, what stands there twice, and what else moved meanwhile. Where
    it was said `by_items` already (`print_witnesses`), only the rest.
    """
    total = sum(result.counts.values())
    if not by_items and result.all_landed:
        seen = " that can be seen" if result.unseen else ""
        if total:
            console.print(f"All {count(total, 'change')}{seen} landed.", style="bold green")
    elif not by_items and total:
        said = ", ".join(f"{number:,} {word}" for word, number in result.counts.items() if number)
        console.print(f"{count(total, 'change')}: {said}", style="bold")
    for name, number in result.unseen.items():
        console.print(Text(f"{count(number, 'cell')} of {shown(name)} not seen: {shown(after)} lacks it"))
    for outcome, title in (("not landed", "not landed"), ("differently", "landed differently")):
        landings = [one for one in result.trouble if one.outcome == outcome]
        if not by_items:
            print_some(console, title, [landing(one) for one in landings], everything=everything)
    lines = [
        Text(f"  {key_text(one.key)}  {shown(one.field)}: ").append(shown(one.text), "green")
        .append(f" landed, and {shown(one.read)} {'did not' if one.outcome == 'not landed' else 'landed differently'}")
        for one in result.resting
    ]  # fmt: skip
    title = f"computed from what is not there: {count(len(lines), 'cell')}"
    print_some(console, title, lines, everything=everything)
    twice = [Text(f"  {' / '.join(shown(part) for part in one.values())}") for one in result.twice]
    title = f"{count(len(twice), 'item')} there twice, as an importer does that adds where it should update"
    print_some(console, title, twice, everything=everything)
    for moving, title in ((False, "what else is otherwise now"), (True, "what moves by itself")):
        rows = result.moved.filter(result.moved["moving"] == moving)
        lines = []
        for row in rows.iter_rows(named=True) if everything else rows.head(LISTED + 1).iter_rows(named=True):
            line = Text(f"  {' / '.join(shown(row[part]) for part in key)}  {shown(row['field'])}: ")
            lines.append(
                line.append(shown(row["before"]), "bright_red").append(" → ").append(shown(row["now"]), "green")
            )
        print_some(console, f"{title}: {count(rows.height, 'cell')}", lines, everything=everything, of=rows.height)
    for number, what in ((result.came, "came that live did not have"), (result.went, "went")):
        if number:
            console.print(f"\n{count(number, 'item')} {what}")


def print_habits(console: Console, habits: Sequence[Habit]) -> None:
    """What the store seems to make of fields by itself, as lines for the store file."""
    for one in habits:
        value = f'"{one.value}"' if isinstance(one.value, str) else one.value
        console.print(f"\nThe store {one}, it seems: {one.cells:,} of {count(one.of, 'cell')}.", style="bold")
        console.print(
            Text("  If so, say it in the store file; then it counts as landed, and a check warns beforehand:")
        )
        console.print(Text(f"  [fields.{one.field}] {one.setting} = {value}"))


def print_drafted_results(console: Console, draft: str, path: str) -> None:
    """What was guessed of a report, as a part of the store file."""
    console.print(f"The store file does not say how to read {shown(path)}. It seems to be so:", style="bold")
    for line in draft.splitlines():
        console.print(Text(f"  {line}"), soft_wrap=True)
    console.print()


def print_left(console: Console, left: Sequence[Landing], *, altered: bool) -> None:
    """What is not taken back, as it does not stand as it was set; what the store made of it by itself can be `altered`
    back, if that is wanted.
    """
    own = [] if altered else [one for one in left if was_altered(one)]
    rest = [one for one in left if one not in own]
    print_some(console, "left alone, as somebody changed it since", [landing(one) for one in rest], everything=False)
    title = "left alone, as the store made something else of it (--altered takes it back, too)"
    print_some(console, title, [landing(one) for one in own], everything=False)
    if left:
        console.print()


def left_lines(confirmed: Confirmed) -> list[str]:
    """What did not land and is not sent again, by the reason, a line each."""
    groups: dict[str, list[str]] = {}
    for one, again in zip(confirmed.trouble, confirmed.again, strict=True):
        if again.left is not None:
            field = "" if one.field is None else f" {shown(one.field)}"
            groups.setdefault(again.left, []).append(f"{key_text(one.key)}{field}")
    return [
        f"Left alone, {count(len(items), 'change')}: {reason}: {', '.join(items[:LISTED])}"
        + (f" and {len(items) - LISTED:,} more" if len(items) > LISTED else "")
        for reason, items in groups.items()
    ]


ITEM_OUTCOMES = {
    ("not landed", False): "it is still there",
    ("differently", False): "it is there, and otherwise",
    ("not landed", True): "there is no such item",
}


def landing(one: Landing) -> Text:
    """A change that did not land as it was meant, on a line."""
    line = Text(f"  {key_text(one.key)}")
    if one.field is None:
        return line.append(f": {ITEM_OUTCOMES[one.outcome, one.new]}")
    line.append(f"  {shown(one.field)}{', ' + one.how if one.how else ''}: ")
    line.append(shown(one.meant or ""), "green").append(" was meant, ")
    if one.now is None:
        return line.append("and there is no such item", "bright_red")
    return line.append("and it is ").append(shown(one.now), "bright_red")
