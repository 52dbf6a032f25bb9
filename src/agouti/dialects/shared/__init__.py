"""What several dialects use, and none owns."""
