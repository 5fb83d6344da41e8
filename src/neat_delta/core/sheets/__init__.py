"""What becomes a sheet of the store: matching with live, rules, code changes, what spreadsheets do, working sheets."""
