"""Dokimon: is this machine fit for the checkout in front of you, and does the project start here?"""

__version__ = "0.1.0"
