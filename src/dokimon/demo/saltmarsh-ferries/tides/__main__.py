"""Print the tides of the next days: `python -m tides --days 2`."""

import argparse

FIRST_HIGH_WATER = 6 * 60 + 12  # minutes after midnight, on the first day
BETWEEN_HIGH_WATERS = 12 * 60 + 25


def main():
    options = argparse.ArgumentParser(prog="tides")
    options.add_argument("--days", type=int, default=1)
    days = options.parse_args().days
    print("Tides at Saltmarsh Pier")
    minute, turn = FIRST_HIGH_WATER, 0
    while minute < days * 24 * 60:
        day, rest = divmod(minute, 24 * 60)
        height = 4.1 + 0.1 * (turn % 5)
        print(f"day {day + 1}  {rest // 60:02}:{rest % 60:02}  high water  {height:.1f} m")
        minute, turn = minute + BETWEEN_HIGH_WATERS, turn + 1


main()
