"""Say how much the tests cover, and end with 1 where that is below a floor: `covered.py FILE FLOOR`."""

import json
import sys
from pathlib import Path


def main(file: str, floor: str) -> int:
    summary = json.loads(Path(file).read_text(encoding="utf-8"))["summary"]
    covered = float(summary["percent_covered"])
    print(f"{covered:.2f} % of lines and branches are covered; the floor is {floor} %")
    return int(covered < float(floor))


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:]))
