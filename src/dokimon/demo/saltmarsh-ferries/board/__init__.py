"""The departure board of Saltmarsh Ferries."""
