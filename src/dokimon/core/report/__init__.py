"""The report: everything that one invocation found, as data, and its encoders."""
