"""Rate limits of one's own: pure scheduling of requests, without I/O."""
