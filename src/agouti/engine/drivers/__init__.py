"""The drivers of the engine: threads and tasks."""
