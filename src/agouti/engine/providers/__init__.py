"""A provider made ready: its settings, circuit breaker, single flight."""
