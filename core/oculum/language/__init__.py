"""The definition language: grammar, parser, checker, formatter."""
