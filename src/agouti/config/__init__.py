"""Configuration: entries (`entries`), where values came from (`origins`), reading and merging (`load`)."""
