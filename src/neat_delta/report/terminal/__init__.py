"""What the commands print for a person: readable at 80 columns and without colour."""

from __future__ import annotations

from neat_delta.report.console import LISTED, Detail, Screen, print_some, result_table, terminal
from neat_delta.report.terminal.accounts import print_accounts, print_clashes, print_meanwhile, print_waiting
from neat_delta.report.terminal.figures import (
    print_changed_fields,
    print_figures,
    print_impact,
    print_records,
    print_suggestions,
    print_totals,
)
from neat_delta.report.terminal.findings import print_checked, print_findings, print_findings_count, print_idle
from neat_delta.report.terminal.inputs import (
    print_headings,
    print_inputs,
    print_learned,
    print_moving,
    print_pairs,
    print_questions,
    print_sheet,
)
from neat_delta.report.terminal.items import print_items, print_rest
from neat_delta.report.terminal.written import print_contradictions, print_written

__all__ = [
    "LISTED",
    "Detail",
    "Screen",
    "print_accounts",
    "print_changed_fields",
    "print_checked",
    "print_clashes",
    "print_contradictions",
    "print_figures",
    "print_findings",
    "print_findings_count",
    "print_headings",
    "print_idle",
    "print_impact",
    "print_inputs",
    "print_items",
    "print_learned",
    "print_meanwhile",
    "print_moving",
    "print_pairs",
    "print_questions",
    "print_records",
    "print_rest",
    "print_sheet",
    "print_some",
    "print_suggestions",
    "print_totals",
    "print_waiting",
    "print_written",
    "result_table",
    "terminal",
]
