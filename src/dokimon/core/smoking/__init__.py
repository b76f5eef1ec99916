"""A plan carried out: steps prepared, runs started, checked and stopped."""
