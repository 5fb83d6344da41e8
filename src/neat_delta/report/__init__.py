"""A change set as people look at it."""
