"""Findings and a policy in; what is held, accepted or put back out. Nothing else says what is held."""
