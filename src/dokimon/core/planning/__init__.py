"""What `smoke` will do, worked out from the checkout and `dokimon.toml`."""
