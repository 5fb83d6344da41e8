"""Computed values: rules in their order, over live, a list, and tables beside them."""
