"""What looking for the cause of a failure adds to a smoke check: `python bench/diagnosing.py [ROUNDS]`.

A program prints 1,500 lines and fails, next to one that prints them and passes: then nothing is diagnosed. Each round runs
both, one after the other; the figures are medians.
"""

from __future__ import annotations

import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

_DOKIMON = str(Path(sys.executable).with_name("dokimon"))
_LINES = 1500
_PROGRAM = """import sys
for part in range({lines}):
    print(f"building part {{part}} of {lines}: src/tides/{{part}}.c -o build/{{part}}.o, warning: unused variable tide")
print("Error: listen EADDRINUSE: address already in use :::3000" if {status} else "high water at 07:40")
sys.exit({status})
"""


def main() -> None:
    """Measure and print."""
    rounds = int(sys.argv[1]) if len(sys.argv) > 1 else 15
    times: dict[int, list[float]] = {0: [], 1: []}
    with tempfile.TemporaryDirectory() as temporary:
        for status in times:
            folder = Path(temporary, str(status))
            folder.mkdir()
            command = f"{sys.executable} -S print.py"
            (folder / "dokimon.toml").write_text(
                f'format = 1\n[[run]]\nname = "tides"\nkind = "program"\ncommand = "{command}"\n'
            )
            (folder / "print.py").write_text(_PROGRAM.format(lines=_LINES, status=status))
        for _ in range(rounds):
            for status, taken in times.items():
                started = time.perf_counter()
                subprocess.run(
                    [_DOKIMON, "smoke", "--quiet", "--no-record"], cwd=Path(temporary, str(status)),
                    stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL, check=False,
                )  # fmt: skip
                taken.append(time.perf_counter() - started)
    passes, fails = (statistics.median(times[status]) for status in (0, 1))
    print(
        f"{_LINES} lines: passes in {passes * 1000:.0f} ms, fails in {fails * 1000:.0f} ms: {fails / passes:.2f} times"
    )


if __name__ == "__main__":
    main()
