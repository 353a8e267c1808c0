"""Readings over time: what is newest, what is late."""
