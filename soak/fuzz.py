"""Twenty thousand mutated inputs, and questions and commands of any words: each is answered, or refused with a message.

python soak/fuzz.py [INPUTS] [SEED]
"""

from __future__ import annotations

import shutil
import sys
import tempfile
import time
from contextlib import suppress
from itertools import islice
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import AskAboveError, Community
from commands import run
from fuzzing import FOLDER, SEEDS, command_lines, mutate, questions, try_to_open


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
    ask(rng, inputs // 5)
    command(rng, inputs // 10)


def ask(rng: Random, many: int) -> None:
    community = Community.demo()
    for name, asked in islice(questions(rng, community), many):
        try:
            with suppress(AskAboveError):
                str(getattr(community, name)(**asked))
        except Exception:
            print(f"Community.{name}({asked}) ends in something other than an answer or a message")
            raise
    print(f"{many} questions of any words, nothing else")


def command(rng: Random, many: int) -> None:
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name) / "river"
        shutil.copytree(FOLDER, folder)
        for line in islice(command_lines(rng), many):
            done = run(*line, cwd=folder)
            if "in Ask Above itself" in done.stderr or done.returncode not in (0, 1, 2):
                raise SystemExit(f"{line}: {done.stderr}")
    print(f"{many} command lines of any words, nothing else")


if __name__ == "__main__":
    main()
