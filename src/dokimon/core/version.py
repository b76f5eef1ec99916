"""Which Dokimon this is."""

__version__ = "0.1.0"
