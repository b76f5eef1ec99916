"""One module per command. Only here are the rooms strung together."""
