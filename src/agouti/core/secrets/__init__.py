"""Secrets, and how they are masked."""
