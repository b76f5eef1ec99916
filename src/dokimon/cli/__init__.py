"""The face: Typer takes the call, Rich draws what came of it. Nothing here decides anything."""
