"""Random commands and edits by hand, one after another: the folder answers as its files alone.

Run: python soak/by_hand.py [SEED] [COUNT]; by default 2,000 sequences from seed 0. It names the seed that fails.
"""

from __future__ import annotations

import sys
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from hand_edits import main

if __name__ == "__main__":
    sys.argv[1:] = [*sys.argv[1:], *("0", "2000")[len(sys.argv) - 1 :]]
    main()
