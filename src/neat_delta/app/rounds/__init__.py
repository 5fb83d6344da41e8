"""Rounds that are set up once and run again: the round file, its limits, and going through it step by step."""
