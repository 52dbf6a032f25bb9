"""Replies, their files, code blocks, structured output, model lists."""
