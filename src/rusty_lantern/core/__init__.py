"""The computation: facts in, verdicts out. No input or output, no network, no clock of its own."""
