"""The computation: tables and plain values in, tables and plain values out."""
