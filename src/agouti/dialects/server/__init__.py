"""The other direction: requests of a wire format decoded, its replies, stream events and errors encoded; no I/O."""
