"""Receiving replies: whole, streamed, polled, and their error messages."""
