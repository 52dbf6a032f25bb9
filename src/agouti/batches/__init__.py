"""Batches: one prompt for each row of a file, with a journal, a pace and a plan."""
