"""Routing: what becomes of readings between their decoder and the store."""
