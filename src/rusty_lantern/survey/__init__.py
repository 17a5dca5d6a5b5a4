"""Reading an estate: stores, journal, tables of objects, the test without credentials."""
