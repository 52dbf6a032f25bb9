"""Limits of one's own."""
