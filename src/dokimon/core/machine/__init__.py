"""What this machine has: the catalogue of tools, the search for their copies, and their versions."""
