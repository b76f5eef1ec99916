"""What a checkout declares: requirements, each with its source."""
