"""What a whole catalogue shows beyond single columns: the key, the relations of its fields, links and check digits."""

from __future__ import annotations

from neat_delta.core.base.infer.key import Known, fields_of_key
from neat_delta.core.base.infer.links import check_digit, links
from neat_delta.core.base.infer.relations import Related, relations

__all__ = ["Known", "Related", "check_digit", "fields_of_key", "links", "relations"]
