"""Helpers that know no shop words: errors, nearest names, distinct rows, work in the background."""
