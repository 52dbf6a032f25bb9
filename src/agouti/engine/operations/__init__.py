"""What can be asked of a provider, one kind in each module: see `agouti.engine.call.Operation`."""
