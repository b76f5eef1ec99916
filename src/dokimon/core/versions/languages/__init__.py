"""Constraint languages: one module each, with `compile(text) -> Constraint`."""
