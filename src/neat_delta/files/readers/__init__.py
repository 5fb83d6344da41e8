"""From bytes to tables, one file a format."""
