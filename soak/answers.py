"""Random communities, every question, against the plain reading of the rules in tests/plain_rules.py.

python soak/answers.py [COMMUNITIES] [FIRST_SEED]
"""

from __future__ import annotations

import sys
from datetime import timedelta
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from generated import NOW, generate
from test_against_plain_rules import answers, replay


def main() -> None:
    communities = int(sys.argv[1]) if len(sys.argv) > 1 else 500
    first = int(sys.argv[2]) if len(sys.argv) > 2 else 0
    asked = 0
    for seed in range(first, first + communities):
        when = NOW + timedelta(hours=Random(seed).randint(-72, 72))
        for answer, expected, question in answers(generate(Random(seed)), when):
            asked += 1
            if answer.allowed is not expected or (asked % 50 == 0 and replay(answer) is not expected):
                print(f"seed {seed}, {question}: {answer}\nthe plain rules say {expected}")
                sys.exit(1)
    print(f"{communities} communities from seed {first}: {asked} answers, none differs")


if __name__ == "__main__":
    main()
