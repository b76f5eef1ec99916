"""One run: what it is started with, its phases from the start to the end, and the report that they come to."""
