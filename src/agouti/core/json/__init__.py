"""JSON: extracted from text, grown piece by piece, repaired, pointed into."""
