"""A model of what spreadsheets do with a text: what they take it for, in whatever language they speak."""
