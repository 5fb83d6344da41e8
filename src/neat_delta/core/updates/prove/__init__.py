"""Replay of update tables on live, and the proof that they do what they should."""
