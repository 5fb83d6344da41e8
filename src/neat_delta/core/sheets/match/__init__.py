"""Which row is which item, and which heading which field."""
