"""The update tables: the smallest tables that an importer turns a change set into, and those that take it back."""

from __future__ import annotations

from neat_delta.core.base.model.update import ITEM, Action, Plan, Table
from neat_delta.core.updates.plan.build import fields_needed, plan
from neat_delta.core.updates.plan.grouping import FILE_COST

__all__ = ["FILE_COST", "ITEM", "Action", "Plan", "Table", "fields_needed", "plan"]
