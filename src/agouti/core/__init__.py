"""Canonical types, framing, addresses and errors: pure computation, no I/O.

Nothing in this package imports an HTTP library, asyncio or any layer above it.
"""
