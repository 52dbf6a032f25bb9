"""The relay: formats, the door, life and death of calls, the page."""
