"""The commands, one module each; each has a ``command``."""
