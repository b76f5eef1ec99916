"""`python -m dokimon`."""

from dokimon.cli.app import main

main()
