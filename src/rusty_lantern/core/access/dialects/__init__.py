"""How one store's software reads policies otherwise than the published language has it, as measured differences.

A dialect is data (`core.model.dialect`): which of the known constructs (`readings.READINGS`) it reads otherwise, and
how. A policy is rewritten by it once, after parsing, into statements of the common language that say what the software
makes of it (`rewrite`); neither decider knows of dialects.
"""
