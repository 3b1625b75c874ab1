"""Hold climbing to real sequences of changes on many small charters: nothing is reached that is not shown.

Run: python soak/climbs.py [FIRST_SEED] [CHARTERS] [STATES]
"""

from __future__ import annotations

import sys
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import Community
from ways_up import reached, small_charter


def main() -> None:
    """Print what is reached and not shown, and how much was looked at."""
    first, charters, states = (int(each) for each in (*sys.argv[1:], "0", "100", "40")[:3])
    gains = shown_in_all = wrong = 0
    for seed in range(first, first + charters):
        rng = Random(seed)
        c = Community.from_texts({"charter.yaml": small_charter(rng)})
        for accomplice in (False, True):
            for key in ("a", "b"):
                paths = c.climb(key, accomplice=accomplice, cuts=False).paths
                shown = {(name, where) for path in paths for name in path.capabilities for where in path.places}
                start, found = reached(c, key, accomplice=accomplice, most=states, rng=rng)
                gains, shown_in_all = gains + len(found - start), shown_in_all + len(shown)
                for name, where in sorted(found - start - shown):
                    wrong += 1
                    print(
                        f"seed {seed}, {key}, accomplice {accomplice}: {name} in {where} is reached and not shown",
                        flush=True,
                    )
    print(f"{charters} charters, {gains} gains come to, {shown_in_all} shown, {wrong} not shown")


if __name__ == "__main__":
    main()
