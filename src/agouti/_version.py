"""The version of this package."""

__version__ = "0.2.0"
