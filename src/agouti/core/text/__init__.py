"""Texts: code blocks, pieces of streams, suggestions for misspelled names."""
