"""One module per ecosystem: what its files declare. `declarations/ecosystems.py` lists them."""
