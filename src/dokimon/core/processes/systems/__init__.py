"""All that differs by system in dealing with processes. `face` is what the rest of Dokimon calls; it picks one module.

A system is one module with the functions that `values.System` lists: `linux`, `portable` (macOS; the tests drive it on
Linux too). Both share what POSIX gives them (`posix`). Nothing outside this folder knows `fork`, `killpg`, terminals, locks,
pidfds or `/proc`.
"""
