"""JSON Schema: whether values fit, and how long patterns may take."""
