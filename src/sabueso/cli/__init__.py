"""The command line: parses, calls, shows. One module a command."""
