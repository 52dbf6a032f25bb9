"""Messages: prompts, parts, templates, windows, token estimates."""
