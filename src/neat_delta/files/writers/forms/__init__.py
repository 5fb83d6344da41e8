"""The forms of update files, one file for each sort, each registered here in one line."""

from __future__ import annotations

from neat_delta.core.base.model.importer import FormName
from neat_delta.files.writers.forms.base import UpdateFormat, UpdateLayout
from neat_delta.files.writers.forms.delimited import DELIMITED
from neat_delta.files.writers.forms.objects import JSON, JSON_LINES
from neat_delta.files.writers.forms.patches import JSON_PATCH, MERGE_PATCH
from neat_delta.files.writers.forms.xlsx import XLSX
from neat_delta.files.writers.forms.xml import XML

__all__ = ["FORMS", "UpdateFormat", "UpdateLayout"]

FORMS: dict[FormName, UpdateFormat] = {
    "delimited": DELIMITED,
    "xlsx": XLSX,
    "json": JSON,
    "json lines": JSON_LINES,
    "xml": XML,
    "merge patch": MERGE_PATCH,
    "json patch": JSON_PATCH,
}
