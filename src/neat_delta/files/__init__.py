"""Bytes to tables and back: one file per format, and the writing of outputs whole or not at all."""
