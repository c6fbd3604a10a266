"""The command line: one thin module a command. Parse, call the core, show; no arithmetic here."""
