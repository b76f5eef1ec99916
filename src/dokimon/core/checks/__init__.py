"""Smoke checks: one module for each kind. Each takes what was expected and returns `Check`s with what was seen."""
