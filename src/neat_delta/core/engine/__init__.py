"""The stages in their order, as one run."""
