"""From the arguments of a call to a call of the engine: options, default hooks, streams."""
