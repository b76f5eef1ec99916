"""How long the tests take, beside how fast the processors were meanwhile: a shared machine is rarely idle.

    python bench/suite.py [OPTION OF PYTEST ...]

A loop of a known length runs every three seconds while the tests run. Where its median is twice its shortest time, the
processors gave half of what they can, and the tests would take half as long on idle ones.
"""

import os
import statistics
import subprocess
import sys
import time


def loop() -> float:
    """Return the seconds of processor time of a million turns."""
    began = time.process_time()
    for _ in range(1_000_000):
        pass
    return time.process_time() - began


def main() -> None:
    """Run the tests and print their seconds, of the clock and of the processors, and the loop's."""
    began = time.monotonic()
    tests = subprocess.Popen([sys.executable, "-m", "pytest", *sys.argv[1:]])
    loops = [loop()]
    while tests.poll() is None:
        loops.append(loop())
        time.sleep(3)
    took, used = time.monotonic() - began, os.times()
    shortest, median = min(loops), statistics.median(loops)
    processors = used.children_user + used.children_system
    print(f"tests: {took:.0f} s, {processors:.0f} s of the processors, status {tests.returncode}")
    idle = took * shortest / median
    print(f"a loop meanwhile: median {median:.3f} s, shortest {shortest:.3f} s; on idle processors {idle:.0f} s")


if __name__ == "__main__":
    main()
