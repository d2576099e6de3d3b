"""Whether what a server acknowledged is there, whatever happens to it: random sequences, one after another.

python scripts/keeping.py [SEQUENCES] [SEED]
"""

import sys
import tempfile
from collections import Counter
from pathlib import Path
from random import Random

from tests.keeping import Sequence

STEPS = 12


def main() -> int:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 20
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else 1
    done, failed = Counter[str](), 0
    for number in range(seed, seed + count):
        with tempfile.TemporaryDirectory() as folder:
            sequence = Sequence(Random(number), Path(folder))
            try:
                sequence.run(STEPS)
            except Exception as error:
                failed += 1
                print(f"sequence {number}: {type(error).__name__}: {error}"[:2000], flush=True)
            done += sequence.done
        if number % 20 == 0:
            print(f"{number - seed + 1} sequences, {failed} failed", flush=True)
    print(f"{count} sequences of {STEPS} steps ({dict(done)}): {failed} failed")
    return bool(failed)


if __name__ == "__main__":
    sys.exit(main())
