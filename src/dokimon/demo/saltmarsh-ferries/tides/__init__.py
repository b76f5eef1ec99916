"""The tide table of Saltmarsh Ferries. The numbers are made up; no boat should sail by them."""
