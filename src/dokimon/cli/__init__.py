"""The face: Typer takes the call, Rich draws what came of it. Nothing here decides anything."""

import gc

# Start-up makes tens of thousands of objects that all stay; looking for dead ones among them takes a twentieth of it.
gc.set_threshold(50_000)
