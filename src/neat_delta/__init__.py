"""Neat Delta as a library: the same steps as the commands, as functions on tables and plain values.

    changes = neat_delta.compare("live.csv", "sheet.xlsx", store="store.toml", with_new=True)
    changes["QA-1001"], changes.to_frame(), changes.held.to_frame()
    changes.plan().write("out")
    neat_delta.confirm("out", "after.csv").to_frame()

The names are loaded when they are first used, so that `neat-delta --help` does not wait for Polars.
"""

from __future__ import annotations

from importlib import import_module

TYPE_CHECKING = False  # not imported, so that the program hears as early as can be that it is to stop
if TYPE_CHECKING:
    from typing import Any

    from neat_delta.app.changes import Changes, PlannedUpdate
    from neat_delta.app.check import Checked, check
    from neat_delta.app.cluster import workers
    from neat_delta.app.compare import compare, recode, translate
    from neat_delta.app.confirm import Outcome, confirm
    from neat_delta.app.deliver import DeliveryOutcome, deliver
    from neat_delta.app.edit import edit
    from neat_delta.app.fetch import fetch
    from neat_delta.app.history import HistoryError, history, rounds
    from neat_delta.app.match import Matches, match
    from neat_delta.app.mend import Mended, mend
    from neat_delta.app.outcome import as_reported, confirm_changes, results, retry, undo, witnesses
    from neat_delta.app.preview import preview
    from neat_delta.app.requests import (
        CheckRequest,
        CompareRequest,
        EditRequest,
        LearnRequest,
        MatchRequest,
        PreviewRequest,
        RecodeRequest,
        SheetRequest,
        WriteRequest,
    )
    from neat_delta.app.rounds.file import (
        Confirming,
        Delivering,
        Limits,
        RoundFile,
        RoundKeys,
        RoundSheet,
        SheetKeys,
        SignOff,
        Telling,
        read_round_file,
    )
    from neat_delta.app.rounds.run import Ended, close_round, confirm_round, resume_round, run_round
    from neat_delta.app.script import script
    from neat_delta.app.sheet import SheetFile, sheet
    from neat_delta.app.write import write
    from neat_delta.core.base.infer.key import find_key
    from neat_delta.core.base.infer.learn import Learned, learn
    from neat_delta.core.base.infer.results import DraftedResults
    from neat_delta.core.base.kinds.stored import Habit
    from neat_delta.core.base.model.accept import Accept
    from neat_delta.core.base.model.catalogue import Catalogue, Origin, Source, as_catalogue
    from neat_delta.core.base.model.changeset import ChangeSet, Held, HeldCount, Item, Row
    from neat_delta.core.base.model.columns import ColumnMapping, ColumnMatch
    from neat_delta.core.base.model.header import (
        CheckFinding,
        Counts,
        Damaged,
        FindingSummary,
        Header,
        LikelyCode,
        NearKey,
        SetAside,
    )
    from neat_delta.core.base.model.history import HistoryCell
    from neat_delta.core.base.model.importer import CodeChange, Importer, OutputColumn, Removal
    from neat_delta.core.base.model.layout import Layout, Notation
    from neat_delta.core.base.model.lists import ListField, ListMapping, Rate, Spread, Stack
    from neat_delta.core.base.model.manifest import (
        Answered,
        CellCounts,
        Comment,
        Contradiction,
        Listed,
        Manifest,
        OutFile,
        Rebased,
        StoreFile,
    )
    from neat_delta.core.base.model.provenance import Provenance
    from neat_delta.core.base.model.results import ResultsForm
    from neat_delta.core.base.model.rounds import KeptInput, RoundStep, RoundSummary
    from neat_delta.core.base.model.rows import Difference
    from neat_delta.core.base.model.rules import Lookup, Rule, RuleInput, Rules, RuleText
    from neat_delta.core.base.model.store import (
        Continued,
        Delivery,
        Field,
        FileForm,
        KeptRounds,
        Key,
        Relations,
        Sheets,
        Standing,
        Store,
        StoreName,
    )
    from neat_delta.core.base.model.update import Plan, Table
    from neat_delta.core.base.query.expressions import evaluate
    from neat_delta.core.base.query.parse import Condition, condition
    from neat_delta.core.base.query.terms import Own, Rows
    from neat_delta.core.base.support.errors import (
        CatalogueError,
        ChangeSetError,
        ConditionError,
        FileError,
        NeatDeltaError,
        OutputError,
        ProofError,
        SettingError,
        StoreError,
        WorkersError,
    )
    from neat_delta.core.compare.lists.translate import TranslatedList
    from neat_delta.core.outcomes.confirm import Confirmed, Resting, TakenBack
    from neat_delta.core.outcomes.landings import Landing
    from neat_delta.core.outcomes.located import Located
    from neat_delta.core.outcomes.results import FileRow, ItemResult, ReportRow, Results
    from neat_delta.core.outcomes.witnesses import Testimony, Witnesses
    from neat_delta.core.review.answers import Answers, SignedOff, sign_off
    from neat_delta.core.review.explain import ExplainedCell, ExplainedItem, explain
    from neat_delta.core.review.facts import Facts
    from neat_delta.core.review.figures import FieldFigures, figures
    from neat_delta.core.review.impact import Impact, ImpactFacts, Mover, Suggestion, Sums
    from neat_delta.core.review.records import Record, Records
    from neat_delta.core.review.samples import ColumnSample, MatchedRows
    from neat_delta.core.review.totals import Total
    from neat_delta.core.review.view import View
    from neat_delta.core.sheets.match.columns import match_columns
    from neat_delta.core.sheets.match.rows import HARMLESS
    from neat_delta.core.sheets.worksheet.cut import Column, WorkingSheet, cut_worksheet
    from neat_delta.core.updates.plan import plan
    from neat_delta.core.updates.prove.proof import prove, target
    from neat_delta.core.updates.prove.replay import replay
    from neat_delta.files.answers import read_answers
    from neat_delta.files.basefile import read_base
    from neat_delta.files.changeset import read_changes, read_live, write_changes
    from neat_delta.files.delivery import Delivered
    from neat_delta.files.footprint import memory_at_most
    from neat_delta.files.ledger.folder import RoundFolder
    from neat_delta.files.ledger.index import Index
    from neat_delta.files.ledger.ledger import Keep, Ledger
    from neat_delta.files.mappingfile import read_mapping
    from neat_delta.files.reading import read
    from neat_delta.files.reports import draft_report, read_report
    from neat_delta.files.scratch import scratch_at
    from neat_delta.files.sources.base import FileState
    from neat_delta.files.sources.fetch import Fetched
    from neat_delta.files.storefile import read_store
    from neat_delta.files.updates import file_rows, write_updates
    from neat_delta.files.writers.delimited import write_delimited
    from neat_delta.files.writers.worksheet import workbook

__version__ = "0.1.0"

_HOMES = {
    "Accept": "core.base.model.accept",
    "Answers": "core.review.answers",
    "Catalogue": "core.base.model.catalogue",
    "CatalogueError": "core.base.support.errors",
    "ChangeSet": "core.base.model.changeset",
    "ChangeSetError": "core.base.support.errors",
    "CheckFinding": "core.base.model.header",
    "Checked": "app.check",
    "Column": "core.sheets.worksheet.cut",
    "ColumnMapping": "core.base.model.columns",
    "ColumnMatch": "core.base.model.columns",
    "CheckRequest": "app.requests",
    "CompareRequest": "app.requests",
    "EditRequest": "app.requests",
    "MatchRequest": "app.requests",
    "RecodeRequest": "app.requests",
    "SettingError": "core.base.support.errors",
    "Condition": "core.base.query.parse",
    "ConditionError": "core.base.support.errors",
    "Counts": "core.base.model.header",
    "Damaged": "core.base.model.header",
    "Facts": "core.review.facts",
    "Field": "core.base.model.store",
    "FieldFigures": "core.review.figures",
    "FileError": "core.base.support.errors",
    "FileForm": "core.base.model.store",
    "FindingSummary": "core.base.model.header",
    "HARMLESS": "core.sheets.match.rows",
    "Header": "core.base.model.header",
    "Held": "core.base.model.changeset",
    "HeldCount": "core.base.model.changeset",
    "Importer": "core.base.model.importer",
    "Item": "core.base.model.changeset",
    "Key": "core.base.model.store",
    "Layout": "core.base.model.layout",
    "Learned": "core.base.infer.learn",
    "Limit": "core.base.infer.limits",
    "LikelyCode": "core.base.model.header",
    "Manifest": "core.base.model.manifest",
    "Matches": "app.match",
    "NearKey": "core.base.model.header",
    "NeatDeltaError": "core.base.support.errors",
    "Notation": "core.base.model.layout",
    "OutputError": "core.base.support.errors",
    "Plan": "core.base.model.update",
    "PreviewRequest": "app.requests",
    "LearnRequest": "app.requests",
    "SheetRequest": "app.requests",
    "TakenBack": "core.outcomes.confirm",
    "WriteRequest": "app.requests",
    "ProofError": "core.base.support.errors",
    "Row": "core.base.model.changeset",
    "Rows": "core.base.query.terms",
    "SetAside": "core.base.model.header",
    "SheetFile": "app.sheet",
    "Source": "core.base.model.catalogue",
    "Store": "core.base.model.store",
    "StoreName": "core.base.model.store",
    "StoreError": "core.base.support.errors",
    "WorkersError": "core.base.support.errors",
    "Table": "core.base.model.update",
    "WorkingSheet": "core.sheets.worksheet.cut",
    "as_catalogue": "core.base.model.catalogue",
    "check": "app.check",
    "compare": "app.compare",
    "condition": "core.base.query.parse",
    "confirm": "app.confirm",
    "confirm_changes": "app.outcome",
    "Changes": "app.changes",
    "PlannedUpdate": "app.changes",
    "Outcome": "app.confirm",
    "ListField": "core.base.model.lists",
    "ListMapping": "core.base.model.lists",
    "TranslatedList": "core.compare.lists.translate",
    "cut_worksheet": "core.sheets.worksheet.cut",
    "translate": "app.compare",
    "edit": "app.edit",
    "evaluate": "core.base.query.expressions",
    "explain": "core.review.explain",
    "figures": "core.review.figures",
    "find_key": "core.base.infer.key",
    "learn": "core.base.infer.learn",
    "match": "app.match",
    "match_columns": "core.sheets.match.columns",
    "memory_at_most": "files.footprint",
    "scratch_at": "files.scratch",
    "workers": "app.cluster",
    "plan": "core.updates.plan",
    "preview": "app.preview",
    "prove": "core.updates.prove.proof",
    "read": "files.reading",
    "read_answers": "files.answers",
    "read_base": "files.basefile",
    "read_changes": "files.changeset",
    "read_live": "files.changeset",
    "read_mapping": "files.mappingfile",
    "read_store": "files.storefile",
    "recode": "app.compare",
    "replay": "core.updates.prove.replay",
    "retry": "app.outcome",
    "sheet": "app.sheet",
    "sign_off": "core.review.answers",
    "target": "core.updates.prove.proof",
    "undo": "app.outcome",
    "workbook": "files.writers.worksheet",
    "write": "app.write",
    "write_changes": "files.changeset",
    "write_delimited": "files.writers.delimited",
    "write_updates": "files.updates",
    "Mended": "app.mend",
    "mend": "app.mend",
    "as_reported": "app.outcome",
    "results": "app.outcome",
    "witnesses": "app.outcome",
    "ResultsForm": "core.base.model.results",
    "draft_report": "files.reports",
    "read_report": "files.reports",
    "file_rows": "files.updates",
    "Answered": "core.base.model.manifest",
    "CellCounts": "core.base.model.manifest",
    "CodeChange": "core.base.model.importer",
    "ColumnSample": "core.review.samples",
    "Comment": "core.base.model.manifest",
    "Confirmed": "core.outcomes.confirm",
    "Continued": "core.base.model.store",
    "Contradiction": "core.base.model.manifest",
    "DraftedResults": "core.base.infer.results",
    "ExplainedCell": "core.review.explain",
    "ExplainedItem": "core.review.explain",
    "FileRow": "core.outcomes.results",
    "Habit": "core.base.kinds.stored",
    "Impact": "core.review.impact",
    "ImpactFacts": "core.review.impact",
    "ItemResult": "core.outcomes.results",
    "Landing": "core.outcomes.landings",
    "Listed": "core.base.model.manifest",
    "Located": "core.outcomes.located",
    "Lookup": "core.base.model.rules",
    "MatchedRows": "core.review.samples",
    "Mover": "core.review.impact",
    "Origin": "core.base.model.catalogue",
    "OutFile": "core.base.model.manifest",
    "OutputColumn": "core.base.model.importer",
    "Own": "core.base.query.terms",
    "Provenance": "core.base.model.provenance",
    "Rate": "core.base.model.lists",
    "Rebased": "core.base.model.manifest",
    "Record": "core.review.records",
    "Records": "core.review.records",
    "Relations": "core.base.model.store",
    "Delivery": "core.base.model.store",
    "rounds": "app.history",
    "history": "app.history",
    "HistoryError": "app.history",
    "RoundSummary": "core.base.model.rounds",
    "read_round_file": "app.rounds.file",
    "RoundFile": "app.rounds.file",
    "RoundKeys": "app.rounds.file",
    "RoundSheet": "app.rounds.file",
    "SheetKeys": "app.rounds.file",
    "Limits": "app.rounds.file",
    "SignOff": "app.rounds.file",
    "Delivering": "app.rounds.file",
    "Confirming": "app.rounds.file",
    "Telling": "app.rounds.file",
    "run_round": "app.rounds.run",
    "resume_round": "app.rounds.run",
    "confirm_round": "app.rounds.run",
    "close_round": "app.rounds.run",
    "Ended": "app.rounds.run",
    "Ledger": "files.ledger.ledger",
    "Keep": "files.ledger.ledger",
    "RoundFolder": "files.ledger.folder",
    "KeptInput": "core.base.model.rounds",
    "RoundStep": "core.base.model.rounds",
    "Index": "files.ledger.index",
    "HistoryCell": "core.base.model.history",
    "KeptRounds": "core.base.model.store",
    "Delivered": "files.delivery",
    "DeliveryOutcome": "app.deliver",
    "Difference": "core.base.model.rows",
    "Fetched": "files.sources.fetch",
    "FileState": "files.sources.base",
    "deliver": "app.deliver",
    "fetch": "app.fetch",
    "script": "app.script",
    "Removal": "core.base.model.importer",
    "ReportRow": "core.outcomes.results",
    "Resting": "core.outcomes.confirm",
    "Results": "core.outcomes.results",
    "Rule": "core.base.model.rules",
    "RuleInput": "core.base.model.rules",
    "RuleText": "core.base.model.rules",
    "Rules": "core.base.model.rules",
    "Sheets": "core.base.model.store",
    "SignedOff": "core.review.answers",
    "Spread": "core.base.model.lists",
    "Stack": "core.base.model.lists",
    "Standing": "core.base.model.store",
    "StoreFile": "core.base.model.manifest",
    "Suggestion": "core.review.impact",
    "Sums": "core.review.impact",
    "Testimony": "core.outcomes.witnesses",
    "Total": "core.review.totals",
    "View": "core.review.view",
    "Witnesses": "core.outcomes.witnesses",
}
"""Where each public name is at home."""

__all__ = [
    "HARMLESS",
    "Accept",
    "Answered",
    "Answers",
    "Catalogue",
    "CatalogueError",
    "CellCounts",
    "ChangeSet",
    "ChangeSetError",
    "Changes",
    "CheckFinding",
    "CheckRequest",
    "Checked",
    "CodeChange",
    "Column",
    "ColumnMapping",
    "ColumnMatch",
    "ColumnSample",
    "Comment",
    "CompareRequest",
    "Condition",
    "ConditionError",
    "Confirmed",
    "Confirming",
    "Continued",
    "Contradiction",
    "Counts",
    "Damaged",
    "Delivered",
    "Delivering",
    "Delivery",
    "DeliveryOutcome",
    "Difference",
    "DraftedResults",
    "EditRequest",
    "Ended",
    "ExplainedCell",
    "ExplainedItem",
    "Facts",
    "Fetched",
    "Field",
    "FieldFigures",
    "FileError",
    "FileForm",
    "FileRow",
    "FileState",
    "FindingSummary",
    "Habit",
    "Header",
    "Held",
    "HeldCount",
    "HistoryCell",
    "HistoryError",
    "Impact",
    "ImpactFacts",
    "Importer",
    "Index",
    "Item",
    "ItemResult",
    "Keep",
    "KeptInput",
    "KeptRounds",
    "Key",
    "Landing",
    "Layout",
    "LearnRequest",
    "Learned",
    "Ledger",
    "LikelyCode",
    "Limit",
    "Limits",
    "ListField",
    "ListMapping",
    "Listed",
    "Located",
    "Lookup",
    "Manifest",
    "MatchRequest",
    "MatchedRows",
    "Matches",
    "Mended",
    "Mover",
    "NearKey",
    "NeatDeltaError",
    "Notation",
    "Origin",
    "OutFile",
    "Outcome",
    "OutputColumn",
    "OutputError",
    "Own",
    "Plan",
    "PlannedUpdate",
    "PreviewRequest",
    "ProofError",
    "Provenance",
    "Rate",
    "Rebased",
    "RecodeRequest",
    "Record",
    "Records",
    "Relations",
    "Removal",
    "ReportRow",
    "Resting",
    "Results",
    "ResultsForm",
    "RoundFile",
    "RoundFolder",
    "RoundKeys",
    "RoundSheet",
    "RoundStep",
    "RoundSummary",
    "Row",
    "Rows",
    "Rule",
    "RuleInput",
    "RuleText",
    "Rules",
    "SetAside",
    "SettingError",
    "SheetFile",
    "SheetKeys",
    "SheetRequest",
    "Sheets",
    "SignOff",
    "SignedOff",
    "Source",
    "Spread",
    "Stack",
    "Standing",
    "Store",
    "StoreError",
    "StoreFile",
    "StoreName",
    "Suggestion",
    "Sums",
    "Table",
    "TakenBack",
    "Telling",
    "Testimony",
    "Total",
    "TranslatedList",
    "View",
    "Witnesses",
    "WorkersError",
    "WorkingSheet",
    "WriteRequest",
    "__version__",
    "as_catalogue",
    "as_reported",
    "check",
    "close_round",
    "compare",
    "condition",
    "confirm",
    "confirm_changes",
    "confirm_round",
    "cut_worksheet",
    "deliver",
    "draft_report",
    "edit",
    "evaluate",
    "explain",
    "fetch",
    "figures",
    "file_rows",
    "find_key",
    "history",
    "learn",
    "match",
    "match_columns",
    "memory_at_most",
    "mend",
    "plan",
    "preview",
    "prove",
    "read",
    "read_answers",
    "read_base",
    "read_changes",
    "read_live",
    "read_mapping",
    "read_report",
    "read_round_file",
    "read_store",
    "recode",
    "replay",
    "results",
    "resume_round",
    "retry",
    "rounds",
    "run_round",
    "scratch_at",
    "script",
    "sheet",
    "sign_off",
    "target",
    "translate",
    "undo",
    "witnesses",
    "workbook",
    "workers",
    "write",
    "write_changes",
    "write_delimited",
    "write_updates",
]


def __getattr__(name: str) -> Any:  # noqa: ANN401 - whatever the name stands for
    """Load a public name from its module."""
    if name not in _HOMES:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    globals()[name] = getattr(import_module(f"{__name__}.{_HOMES[name]}"), name)
    return globals()[name]
