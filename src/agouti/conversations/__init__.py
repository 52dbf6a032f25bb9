"""A conversation, its files, and its window."""
