"""From tables to bytes: working sheets and update files."""
