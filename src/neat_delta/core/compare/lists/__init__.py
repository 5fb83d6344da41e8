"""A supplier's list put into the store's language: which item each row is, its words, its units, its shape."""
