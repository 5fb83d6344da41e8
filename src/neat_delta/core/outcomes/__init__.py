"""What became of what was sent: confirm, retry, undo."""
