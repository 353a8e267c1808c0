"""Telling people: what is due goes out, each once or more, none lost."""
