"""The canonical form of requests and replies: messages, events, vectors, usage, parameters."""
