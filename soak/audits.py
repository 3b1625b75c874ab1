"""What audits conclude, held to brute force over many random communities.

    python soak/audits.py 300 [FIRST]

For each seed: every form of a log says the same; what was used, unused and least, and until when something was allowed,
is what trying each thing alone comes to.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from functools import partial
from pathlib import Path
from tempfile import TemporaryDirectory

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

import test_audit_truth as truth

TRIED = (
    truth.test_what_was_used_through_what_is_what_suffices_alone,
    truth.test_allowed_until_is_the_edge_at_which_it_turned,
    truth.test_what_is_told_to_be_unused_is_held_used_by_nobody_and_can_be_taken,
    truth.test_least_leaves_all_that_was_done_and_nothing_more_can_be_taken,
)


def main() -> None:
    """Try so many seeds from one on."""
    count, first = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0
    wrong = 0
    for seed in range(first, first + count):
        with TemporaryDirectory() as folder:
            forms = partial(truth.TestOneDescription().test_each_form_and_each_partition_says_the_same, Path(folder))
            tries: list[Callable[[int], None]] = [forms, *TRIED]
            for tried in tries:
                try:
                    tried(seed)
                except AssertionError as error:
                    wrong += 1
                    print(f"seed {seed}, {tried}: {str(error)[:300]}", flush=True)
        if (seed - first) % 25 == 24:
            print(f"{seed - first + 1} seeds, {wrong} failures", flush=True)
    print(f"{count} seeds, {wrong} failures")


if __name__ == "__main__":
    main()
