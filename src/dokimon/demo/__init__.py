"""The sample project, Saltmarsh Ferries, and the text that goes with showing it."""
