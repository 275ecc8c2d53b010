"""The command line: parse, call, show."""
