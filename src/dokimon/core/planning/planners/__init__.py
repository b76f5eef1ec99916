"""One module per ecosystem: how its projects are prepared and started. `planning/making.py` lists them."""
