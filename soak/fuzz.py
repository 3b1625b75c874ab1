"""Twenty thousand mutated inputs: each is read, or refused with a located message.

python soak/fuzz.py [INPUTS] [SEED]
"""

from __future__ import annotations

import sys
import tempfile
import time
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from fuzzing import SEEDS, mutate, try_to_open


def main() -> None:
    inputs = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000
    seed = int(sys.argv[2]) if len(sys.argv) > 2 else int(time.time())
    rng = Random(seed)
    read = 0
    for n in range(inputs):
        files = mutate(rng, SEEDS)
        try:
            read += try_to_open(files)
        except Exception:
            print(f"seed {seed}, input {n}: these files end in something other than an answer or a message")
            for name, raw in files.items():
                if raw != SEEDS[name]:
                    kept = Path(tempfile.gettempdir()) / f"fuzz-{name}"
                    kept.write_bytes(raw)
                    print(f"  {kept} holds the one that was changed")
            raise
        if sys.stderr.isatty() and n % 100 == 0:
            print(f"\r{n}/{inputs}", end="", file=sys.stderr)
    print(f"seed {seed}: {inputs} inputs, {read} read, {inputs - read} refused with a message, nothing else")


if __name__ == "__main__":
    main()
