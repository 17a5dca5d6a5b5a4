"""The baseline language: sheets of requirements, how they are read, how they cascade, how they are judged."""
