"""Process trees: their output and sockets, how we know that they are up, how they are stopped."""
