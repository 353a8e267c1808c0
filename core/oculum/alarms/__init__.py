"""Conditions evaluated over readings: transitions out, state carried."""
