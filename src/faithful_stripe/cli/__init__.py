"""The command line: parse, call one function of work/ or core/, render."""
