"""`dokimon.toml`: its text in, typed values or a list of problems out."""
