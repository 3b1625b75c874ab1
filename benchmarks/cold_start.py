"""How long one answer takes from the command line, against importing typer and yaml in the same run.

    python benchmarks/cold_start.py [RUNS]

Prints the medians and their ratio; the limit is 1.5. Needs typer beside the package.
"""

from __future__ import annotations

import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

LIMIT = 1.5
KEEPING = {key: value for key, value in os.environ.items() if key != "PYTHONDONTWRITEBYTECODE"}
"""The environment in which Python keeps what it has compiled, as it does for whoever installed the package."""


def seconds(command: list[str]) -> float:
    start = time.perf_counter()
    subprocess.run(command, check=False, capture_output=True, env=KEEPING)
    return time.perf_counter() - start


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 25
    with tempfile.TemporaryDirectory() as folder:
        demo = str(Path(folder) / "wren-valley")
        program = [sys.executable, "-m", "ask_above"]
        subprocess.run([*program, "demo", demo], check=True, capture_output=True)
        question = [*program, "may", "dara", "post.write", "--at", "notices", "--community", demo]
        baseline = [sys.executable, "-c", "import typer, yaml"]
        pairs = [(seconds(question), seconds(baseline)) for _ in range(runs + 1)][1:]
    ours = statistics.median(pair[0] for pair in pairs)
    theirs = statistics.median(pair[1] for pair in pairs)
    ratio = statistics.median(pair[0] / pair[1] for pair in pairs)
    print(f"ask-above may on the demo: {ours * 1000:.0f} ms; import typer, yaml: {theirs * 1000:.0f} ms")
    print(f"ratio, pair by pair: {ratio:.2f} (limit {LIMIT}), {runs} runs")


if __name__ == "__main__":
    main()
