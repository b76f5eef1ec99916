"""What cannot be seen by looking at this machine once: what an upgrade would break, what other versions make of it."""
