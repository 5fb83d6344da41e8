"""Which cells differ, and which of those only in their writing."""
