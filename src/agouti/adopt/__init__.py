"""From a pasted curl command or address to configuration entries: `curl` reads, `entries` decides, `files` writes."""
