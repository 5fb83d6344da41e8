"""The sign-off of a round: the page that goes to reviewers, the answers that came back, and which of them still hold
when live has moved meanwhile.
"""

from __future__ import annotations

import contextlib
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path, PurePath
from typing import TYPE_CHECKING

from neat_delta.app.preview import preview
from neat_delta.app.rounds.file import RoundFile
from neat_delta.core.base.model.rounds import KeptInput
from neat_delta.core.base.support.errors import ChangeSetError
from neat_delta.core.review.answered import answer
from neat_delta.core.review.answers import Answers
from neat_delta.core.review.carried import DatedAnswers, carried_over, refused_since
from neat_delta.files.answers import read_answers
from neat_delta.files.changelines import digest_of_changes
from neat_delta.files.changeset import read_changes
from neat_delta.files.ledger.folder import RoundFolder
from neat_delta.files.logs import say
from neat_delta.files.whole import write_new
from neat_delta.report.text import count

if TYPE_CHECKING:
    from neat_delta.core.base.model.catalogue import Catalogue
    from neat_delta.core.base.model.changeset import ChangeSet
    from neat_delta.core.base.model.store import Store

__all__ = ["PAGE", "Signing", "signed_off", "write_page"]

PAGE = "page.html"


@dataclass(frozen=True, slots=True)
class Signing:
    """The answers that hold, what is lacking still, the numbers of the items that nobody was asked of (of those where
    other answers hold), the change set as it is signed off, and the files of the answers.
    """

    answers: list[Answers]
    lacking: list[str]
    unasked: list[int]
    changes: ChangeSet
    inputs: list[KeptInput]


def signed_off(
    file: RoundFile, folder: RoundFolder, changes: ChangeSet, live: Catalogue, store: Store | None, today: str
) -> Signing:
    """What came back of a round's reviewers. Answers to an earlier change set of the round hold for what is the same in
    this one; what is not is asked again.
    """
    wanted = file.at.sign_off
    place = Path(folder.place("answers") if wanted.answers is None else file.place(wanted.answers))
    place.mkdir(parents=True, exist_ok=True)
    entries, kept = _answers_in(place, folder, changes)
    own, carried = list[Answers](), list[Answers]()
    unasked_by = Counter[int]()  # by how many files that came to an earlier change set
    for entry in entries:
        refused = refused_since(entry, entries)
        if entry.changes is changes and not refused:
            own.append(entry.answers)
            continue
        part, open_items = carried_over(entry.answers, entry.changes, changes, refused)
        carried.append(part)
        unasked_by.update(open_items)
    of_all = wanted.reviewers - len(own) - len(carried)
    needed = of_all + max(unasked_by.values(), default=0)
    unasked = sorted(item for item, files in unasked_by.items() if of_all + files > 0 >= of_all)
    lacking = []
    if needed > 0:
        stand = "it stands" if len(unasked) == 1 else "they stand"
        asked = f"{count(len(unasked), 'item')} not answered yet as {stand} now" if unasked else "all of it"
        lacking = [f"sign-off: {count(needed, 'file')} of answers still to come into {place}, about {asked}"]
    answers_now = [*own, *carried]
    signed = answer(changes, live, answers_now, store, today=today).changes if answers_now else changes
    return Signing(answers_now, lacking, unasked, signed, kept)


def _answers_in(place: Path, folder: RoundFolder, changes: ChangeSet) -> tuple[list[DatedAnswers], list[KeptInput]]:
    """The answers that stand there to change sets of the round, and their files."""
    steps = folder.steps()
    comparisons = [(number, step) for number, step in enumerate(steps) if step.step == "compared"]
    first = {step.changes: number for number, step in reversed(comparisons)}
    last = {step.changes: number for number, step in comparisons}
    names = {step.changes: step.file for _, step in comparisons if step.changes != changes.digest}
    earlier = [read_changes(folder.place(name)) for name in reversed(names.values())]
    seen = {
        (PurePath(entry.name).name, entry.blake3): number
        for number, step in reversed([*enumerate(steps)])
        for entry in step.inputs
        if entry.role == "answers"
    }
    entries, kept = list[DatedAnswers](), list[KeptInput]()
    for path in sorted(place.iterdir()):
        if path.suffix.lower() not in {".json", ".xlsx"} or path.name.startswith("."):
            continue
        for of_changes in (changes, *earlier):
            with contextlib.suppress(ChangeSetError):
                answers = read_answers(str(path), of_changes)
                kept.append(folder.keep("answers", str(path), str(path)))
                at = seen.get((path.name, kept[-1].blake3), len(steps))
                digest = of_changes.digest
                entries.append(DatedAnswers(answers, of_changes, first[digest], last[digest], at))
                break
        else:
            say("answers", f"{path} is left out: it answers no change set of this round")
    return entries, kept


def write_page(
    file: RoundFile, folder: RoundFolder, changes: ChangeSet, live: Catalogue, items: Sequence[int] = ()
) -> str:
    """Write the page of a round's changes, or of these items of it; its path."""
    from neat_delta.report.charts import charts
    from neat_delta.report.page import page

    keys = [changes.keys.row(item)[0] for item in items]
    facts = preview(changes, live, request=file.preview, skus=keys)
    content = page(facts, charts(changes, live, facts.category), digest_of_changes(changes), file.preview.field)
    path = folder.place(PAGE)
    write_new({path: content}, replace=True)
    return path
