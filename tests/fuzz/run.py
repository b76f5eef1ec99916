"""`python tests/fuzz/run.py [SECONDS] [SEED]`: fuzz each kind for its share of the time, and count what was found."""

from __future__ import annotations

import random
import sys
import time
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent))

from fuzzing import KINDS, Found


def main() -> None:
    """Fuzz, and print a table; each new kind of finding once, with the seed that shows it."""
    seconds = float(sys.argv[1]) if len(sys.argv) > 1 else 60.0
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    all_found = 0
    for kind, work in KINDS.items():
        deadline = time.monotonic() + seconds / len(KINDS)
        seed, told = first, {}
        slowest = 0.0
        while time.monotonic() < deadline:
            begun = time.process_time()
            try:
                work(random.Random(seed))
            except Found as found:
                told.setdefault(str(found)[:90], (seed, found))
            slowest = max(slowest, time.process_time() - begun)
            seed += 1
        print(f"{kind}: {seed - first} cases, {len(told)} kinds of finding, the slowest {slowest:.3f} s")
        for number, found in list(told.values())[:20]:
            print(f"    seed {number}: {str(found)[:200]}")
        all_found += len(told)
    sys.exit(1 if all_found else 0)


main()
