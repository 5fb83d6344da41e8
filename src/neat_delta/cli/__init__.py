"""The command line: one file per command, which reads the options, calls the steps and prints."""
