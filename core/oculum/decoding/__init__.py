"""Payloads to columns, and back."""
