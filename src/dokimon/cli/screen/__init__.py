"""Reports drawn for people, one module per command."""
