"""The command line: one module a command. Parse, call, print; no judgement here."""
