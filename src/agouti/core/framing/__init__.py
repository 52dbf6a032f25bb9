"""How bodies are framed: server-sent events, JSON lines, JSON arrays, binary frames."""
