"""Texts of definitions made from a table, from what SenML says of itself, from bytes: drafts for a person to change."""
