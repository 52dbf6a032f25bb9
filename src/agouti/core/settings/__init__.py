"""Settings of calls: rate limits, retries, declared dialects."""
