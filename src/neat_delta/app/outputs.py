"""What every command prints for programs: one struct a command, from which the schemas in `docs/json/` are made.

Within a version keys are only added. Exact decimals are strings.
"""

from __future__ import annotations

import msgspec
from msgspec import UNSET, UnsetType

from neat_delta.core.base.kinds.stored import Habit
from neat_delta.core.base.model.catalogue import Source, Way
from neat_delta.core.base.model.changeset import HeldCount, Item
from neat_delta.core.base.model.header import Header
from neat_delta.core.base.model.history import HistoryChange, SetLater, WentBack
from neat_delta.core.base.model.manifest import Listed, Manifest
from neat_delta.core.base.model.results import ResultsForm, ResultStatus
from neat_delta.core.base.model.rounds import RoundStep, RoundSummary
from neat_delta.core.base.model.rows import Difference
from neat_delta.core.base.model.store import Store
from neat_delta.core.outcomes.confirm import Resting
from neat_delta.core.outcomes.landings import Landing, Outcome
from neat_delta.core.outcomes.results import ReportRow
from neat_delta.core.outcomes.witnesses import Seen
from neat_delta.core.review.explain import ExplainedItem
from neat_delta.core.review.figures import FieldFigures
from neat_delta.core.review.impact import ImpactFacts
from neat_delta.core.review.records import Records
from neat_delta.core.review.samples import ColumnSample, MatchedRows
from neat_delta.core.review.totals import Total
from neat_delta.files.delivery import Delivered

__all__ = [
    "OUTPUTS",
    "VERSION",
    "CatalogueFinding",
    "CheckOutput",
    "CompareOutput",
    "ConfirmOutput",
    "DeliverOutput",
    "EditTrials",
    "ExplainOutput",
    "FetchOutput",
    "FileCounts",
    "HistoryOutput",
    "ItemAnswer",
    "LearnOutput",
    "MatchOutput",
    "MendFile",
    "Message",
    "Output",
    "PlannedStep",
    "PracticeOutput",
    "PreviewItem",
    "PreviewOutput",
    "ReportOutput",
    "RunOutput",
    "RunPlanOutput",
    "SheetOutput",
    "TrialCell",
    "TrialFacts",
    "UndoOutput",
    "WitnessCount",
    "WriteOutput",
]

VERSION = 1

Key = dict[str, str]


class Output(msgspec.Struct, frozen=True, kw_only=True):
    """What a command prints for a program; `version` is that of its form."""

    version: int = VERSION


class CatalogueFinding(msgspec.Struct, frozen=True):
    """What a check found in a catalogue: where, and what was done (`accepted` by a standing exception, or `noted`)."""

    check: str
    level: str
    key: list[str] | None
    field: str | None
    row: int | None
    value: str | None
    what: str
    done: str


class CheckOutput(Output, frozen=True, kw_only=True):
    """`check`: what was found, and which checks did not run, with what would switch each on."""

    store: str | None
    catalogue: Source
    found: list[CatalogueFinding]
    not_run: dict[str, str]


class CompareOutput(Output, frozen=True, kw_only=True):
    """`compare`, `edit` and `recode`: of how many items something is to be sent, and held; how much waits for a person;
    the fields of the store file that live lacks; what is held by reason; and the change set's header. `read` says
    whether all of both files was read at once (`whole`), a few columns at a time (`columns`), or only what is not in
    both of them (`records`).
    """

    output: str | None
    store: str | None
    lacking: list[str]
    to_send: int
    held: int
    waiting: int
    unresolved: int | UnsetType = UNSET
    reasons: list[HeldCount]
    header: Header
    read: Way
    goes_back: list[WentBack] | UnsetType = UNSET
    round: int | UnsetType = UNSET


class LearnOutput(Output, frozen=True, kw_only=True):
    """`learn`: the store file as it would be drafted, with the evidence; and of a report, how it is read."""

    output: str | None
    store: Store
    evidence: dict[str, str]
    relations: dict[str, str]
    key: str
    results: ResultsForm | UnsetType = UNSET
    results_evidence: dict[str, str] | UnsetType = UNSET
    unknown: list[str] | UnsetType = UNSET


class MatchOutput(Output, frozen=True, kw_only=True):
    """`match`: which heading is which field, and what becomes of the rows."""

    saved: str | None
    store: str | None
    key: list[str]
    rows: MatchedRows
    matched_by: list[str]
    pairs: list[ColumnSample]


class SheetOutput(Output, frozen=True, kw_only=True):
    """`sheet`: what was cut, which codes are not in live, the cells that stand as in live (`kept`, by heading), and in
    how many bytes the sheet `remembers` what it was cut with, maybe in a file beside it (`base`).
    """

    store: str | None
    live: Source
    output: str
    items: int
    fields: list[str]
    missing: list[str]
    kept: dict[str, int]
    base: str | None
    remembers: int | None


class PreviewItem(msgspec.Struct, frozen=True):
    """An item of a change set, with its name."""

    name: str
    item: Item


class PreviewOutput(Output, frozen=True, kw_only=True):
    """`preview`: counts, figures per field, the impact, and the items that were asked for."""

    to_send: int
    held: int
    waiting: int
    unresolved: int | UnsetType = UNSET
    header: Header
    reasons: list[HeldCount]
    fields: list[FieldFigures]
    impact: ImpactFacts
    records: Records | UnsetType = UNSET
    totals: list[Total] | UnsetType = UNSET
    items_found: int
    items: list[PreviewItem]


class ExplainOutput(Output, frozen=True, kw_only=True):
    """Of a preview that explains: how the computed cells of some items came about, step by step; and with a ledger the
    last changes of them by `rounds`.
    """

    items: list[ExplainedItem]
    rounds: list[WentBack] | UnsetType = UNSET


class TrialCell(msgspec.Struct, frozen=True):
    """A cell that a rule would change."""

    key: Key
    before: str | None
    after: str
    held: str | None


class TrialFacts(msgspec.Struct, frozen=True):
    """Of a field how many cells would change, and those that stand out."""

    cells: int
    sample: list[TrialCell]
    least: list[TrialCell]
    greatest: list[TrialCell]
    oddest: list[TrialCell]


class EditTrials(Output, frozen=True, kw_only=True):
    """Of an edit that is tried: what rules would do, by field."""

    fields: dict[str, TrialFacts]


class DeliverOutput(Output, frozen=True, kw_only=True):
    """`deliver`: the folder, the address (without what is secret in it), what became of each file, or of the one
    transaction, what stands in a database otherwise than when the changes were planned, and why it broke off.
    """

    folder: str
    to: str
    arrived: bool
    files: list[Delivered]
    differences: list[Difference]
    broken: str | None = None


class WriteOutput(Output, frozen=True, kw_only=True):
    """`write`: the folder, its manifest, and where it was `delivered`."""

    folder: str
    manifest: Manifest
    delivered: list[DeliverOutput] = []
    round: int | UnsetType = UNSET


class UndoOutput(Output, frozen=True, kw_only=True):
    """`undo`: the folder and its manifest, the folder that it takes back (`files`), what is left alone; and in a ledger
    what later rounds set of it.
    """

    folder: str
    files: str
    manifest: Manifest
    left: list[Landing]
    later: list[SetLater] | UnsetType = UNSET


class HistoryOutput(Output, frozen=True, kw_only=True):
    """`history`: the rounds; of one round its steps, too; of an item, a field or a round its cells; and what of the
    folders cannot be read.
    """

    ledger: str
    rounds: list[RoundSummary] | UnsetType = UNSET
    steps: list[RoundStep] | UnsetType = UNSET
    cells: list[HistoryChange] | UnsetType = UNSET
    broken: list[str] = []


class FileCounts(msgspec.Struct, frozen=True):
    """How an update file was imported: rows by result, and whether the store stopped in the middle."""

    file: str
    counts: dict[str, int]
    stopped: bool


class PracticeOutput(Output, frozen=True, kw_only=True):
    """`practice`, where it imports: how each file was imported, and where the next export and the report are."""

    files: list[FileCounts]
    counts: dict[str, int]
    after: str
    results: str


class WitnessCount(msgspec.Struct, frozen=True):
    """Of how many items the store says this, and the export shows that."""

    said: ResultStatus
    seen: Seen
    items: int


class ItemAnswer(msgspec.Struct, frozen=True):
    """What the store says of an item, and what the export shows of it."""

    key: Key
    said: ResultStatus
    seen: Seen
    message: str
    ids: list[str]


class Message(msgspec.Struct, frozen=True):
    """A message of the store in the form that it has for several items, and the items that have it."""

    said: ResultStatus
    form: str
    keys: list[Key]


class ReportOutput(msgspec.Struct, frozen=True):
    """What the store's report says: rows of it that name what was not sent, keys that stand there twice, lines that are
    no row, and how it was read where the store file does not say it (`guessed`).
    """

    counts: dict[ResultStatus, int]
    witnesses: list[WitnessCount]
    items: list[ItemAnswer]
    messages: list[Message]
    not_sent: list[ReportRow]
    repeated: list[str]
    aside: int
    guessed: ResultsForm | None


class MendFile(msgspec.Struct, frozen=True):
    """The sheet to be mended: its name, its items, and the removals that it cannot say."""

    file: str
    items: int
    removals: int


class ConfirmOutput(Output, frozen=True, kw_only=True):
    """`confirm`: what the export shows (if there is one), what the report says (if there is one), and what was written
    to be sent again or to be mended. `answers` are those that were kept when it was delivered, where no other report
    was named. `moved` has the cells that are otherwise now and were not sent: the fields of the key, `field`, `before`,
    `now`, and whether it moves by itself (`moving`); each with a `_` after it where a field of the key is called so.
    `reports_older` says that the reports were there before the files, and so are of an earlier import.
    """

    files: str | None
    store: str | None
    answers: list[str] = []
    reports_older: bool = False
    counts: dict[Outcome, int] | UnsetType = UNSET
    trouble: list[Landing] | UnsetType = UNSET
    moved: list[dict[str, str | bool]] | UnsetType = UNSET
    came: int | UnsetType = UNSET
    went: int | UnsetType = UNSET
    twice: list[Key] | UnsetType = UNSET
    habits: list[Habit] | UnsetType = UNSET
    resting: list[Resting] | UnsetType = UNSET
    unseen: dict[str, int] | UnsetType = UNSET
    results: ReportOutput | UnsetType = UNSET
    retry: Manifest | None = None
    left: list[Listed] | UnsetType = UNSET
    mend: MendFile | UnsetType = UNSET


class FetchOutput(Output, frozen=True, kw_only=True):
    """`fetch`: the file that was written, the address it came from (without what is secret in it), the BLAKE3 digest of
    its bytes, how many there are, when it was changed as its server says, and whether it is the same as the last time.
    """

    output: str
    address: str
    blake3: str
    bytes: int
    modified: str | None
    same: bool


class RunOutput(Output, frozen=True, kw_only=True):
    """`run`: the round file, the round as it stands, whether that is an event to tell of (null: it went on as planned),
    why it waits or failed, the page to answer, and who could not be told.
    """

    file: str
    round: RoundSummary
    event: str | None
    why: list[str]
    page: str | None
    untold: list[str] = []


class PlannedStep(msgspec.Struct, frozen=True, rename={"with_": "with"}):
    """A step of a round as it is set up: its name, what it does, and with what."""

    step: str
    what: str
    with_: list[str] = []


class RunPlanOutput(Output, frozen=True, kw_only=True):
    """`run`, where it only prints: what would be done, with what, from where."""

    file: str
    steps: list[PlannedStep]


OUTPUTS: dict[str, type[Output]] = {
    "check": CheckOutput,
    "compare": CompareOutput,
    "confirm": ConfirmOutput,
    "deliver": DeliverOutput,
    "edit-try": EditTrials,
    "fetch": FetchOutput,
    "history": HistoryOutput,
    "learn": LearnOutput,
    "match": MatchOutput,
    "practice": PracticeOutput,
    "preview": PreviewOutput,
    "preview-explain": ExplainOutput,
    "run": RunOutput,
    "run-print": RunPlanOutput,
    "sheet": SheetOutput,
    "undo": UndoOutput,
    "write": WriteOutput,
}
"""The outputs by the names of their schemas; `edit` and `recode` print what `compare` does."""
