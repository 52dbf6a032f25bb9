"""The cache of answers: equal questions are answered from disk."""
