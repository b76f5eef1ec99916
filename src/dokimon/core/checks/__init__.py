"""Smoke checks: one module per kind, listed in `registry.py`, and what kinds share."""
