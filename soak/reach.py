"""Changes held to their reach, many times over: random edits, three who conspire, and whether nothing differs.

    python soak/reach.py 500 [FIRST]
    python soak/reach.py attack 5000 [FIRST]

For each seed: three members take turns within their reach and come to nothing that none of them held; pairs of
communities that are said to differ in nothing have the same answers to every question, now and later.
"""

from __future__ import annotations

import shutil
import sys
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from conftest import DEMO, Place
from test_changes_at_random import one_actor
from test_conspiracies import test_what_they_come_to_use_one_of_them_held_at_first as conspire
from test_nothing_differs import held_to_all_answers

PAIRS = 10


def attack(count: int, first: int) -> None:
    """Try so many plans by members of the demo: none that is accepted reaches beyond whoever makes it."""
    actors = ["ada", "olaf", "sigrid", "petra", "bram", "tove", "kofi", "birgit"]
    tried, seed = 0, first
    while tried < count:
        with TemporaryDirectory() as name:
            folder = Path(name) / "valley"
            shutil.copytree(DEMO, folder)
            actor = actors[seed % len(actors)]
            try:
                tried += one_actor(Place(folder, None), Random(f"{seed}{actor}"), actor)
            except AssertionError:
                print(f"seed {seed}, {actor}", flush=True)
                raise
        seed += 1
        if seed % 10 == 0:
            print(f"{tried} plans", flush=True)


def main() -> None:
    """Go through the seeds; the first that fails ends it."""
    if sys.argv[1] == "attack":
        attack(int(sys.argv[2]), int(sys.argv[3]) if len(sys.argv) > 3 else 1_000)
        return
    count, first = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 1_000
    nothing = tried = 0
    for seed in range(first, first + count):
        conspire(seed)
        same, pairs = held_to_all_answers(seed, PAIRS)
        nothing, tried = nothing + same, tried + pairs
        if (seed - first + 1) % 50 == 0:
            print(f"{seed - first + 1} seeds: {tried} pairs, {nothing} of them said to differ in nothing", flush=True)
    print("all held")


if __name__ == "__main__":
    main()
