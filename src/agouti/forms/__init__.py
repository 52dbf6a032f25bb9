"""Forms: the types and schemas of structured output."""
