"""How long reading a charter takes, against what the C parser takes to compose its YAML in the same run.

    python benchmarks/reading.py [LINES]

Prints the ratio; the limit is 3.
"""

from __future__ import annotations

import statistics
import sys
import time
from pathlib import Path

import yaml

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above.files.folder import read_texts
from standard import Size, charter_text

LIMIT = 3.0


def main() -> None:
    wanted = int(sys.argv[1]) if len(sys.argv) > 1 else 5_000
    text = ""
    for places in range(100, 4_000, 20):
        text = charter_text(Size(ranks=60, capabilities=120, places=places, overrides=places * 3))
        if text.count("\n") >= wanted:
            break
    pairs = []
    for _ in range(12):
        start = time.perf_counter()
        yaml.compose(text, Loader=yaml.CBaseLoader)
        middle = time.perf_counter()
        read_texts({"charter.yaml": text})
        pairs.append((time.perf_counter() - middle, middle - start))
    ours, theirs = (statistics.median(pair[n] for pair in pairs[1:]) for n in (0, 1))
    ratio = statistics.median(a / b for a, b in pairs[1:])
    print(f"{text.count(chr(10))} lines: read in {ours * 1000:.0f} ms, composed in {theirs * 1000:.0f} ms")
    print(f"ratio, pair by pair: {ratio:.2f} (limit {LIMIT})")


if __name__ == "__main__":
    main()
