"""Likely causes of a failure, from what was printed."""
