"""How long commands take on a platform of 80 ranks, 300 places and 3,000 members, against their answers in Python.

    python benchmarks/every_command.py [RUNS]

Both sides read the files anew. Prints for each command the medians and their ratio; the limit is 2.
"""

from __future__ import annotations

import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from click.testing import CliRunner

from ask_above import Community
from ask_above.ask.tables import Holders
from ask_above.cli.main import main as program
from standard import Size, in_folder

LIMIT = 2.0
SIZE = Size(ranks=80, capabilities=80, places=300, overrides=1500, members=3_000, profiles=400)

ANSWERS: dict[str, Callable[[Community], object]] = {
    "check": lambda c: (c.advice(), c.unmet(), c.unmet_later()),
    "ladder": lambda c: Holders(c.decider, c.names.moment()),
    "grid": lambda c: c.grid(),
    "grid --at place-7": lambda c: c.grid(at="place-7"),
    "powers moderate": lambda c: c.powers("moderate"),
    "powers": lambda c: [c.powers(act) for act in ("moderate", "assign", "manage")],
    "may m7 place.see": lambda c: c.may("m7", "place.see").account,
    "who place.see": lambda c: c.who("place.see"),
    "where m7 place.see": lambda c: c.where("m7", "place.see"),
    "tour m7": lambda c: c.tour("m7"),
    "describe m7": lambda c: c.describe("m7"),
    "describe rank-7": lambda c: c.describe("rank-7"),
    "compare m7 m8": lambda c: c.compare("m7", "m8"),
    "climb": lambda c: c.climbs(),
    "cover": lambda c: (c.cover().gaps, c.cover().crowded),
    "roster": lambda c: c.roster(),
    "member list": lambda c: [c.decider.people.ask(key, c.names.moment()) for key in c.register.members],
    "report report.md": lambda c: c.report("md"),
}
"""The commands, and what answers each in Python."""


def seconds(act: Callable[[], object]) -> float:
    start = time.perf_counter()
    act()
    return time.perf_counter() - start


def main() -> None:
    runs = int(sys.argv[1]) if len(sys.argv) > 1 else 5
    with tempfile.TemporaryDirectory() as made:
        folder = in_folder(Path(made) / "platform", SIZE)

        def typed(command: str) -> None:
            words = [str(folder / word) if word == "report.md" else word for word in command.split()]
            done = CliRunner().invoke(program, [*words, "--community", str(folder)])
            if done.exit_code not in (0, 1):
                raise SystemExit(done.output)

        for command, answer in ANSWERS.items():
            pairs = [
                (seconds(lambda: typed(command)), seconds(lambda: answer(Community.open(folder))))  # noqa: B023
                for _ in range(runs + 1)
            ][1:]
            ours, theirs = (statistics.median(each) for each in zip(*pairs, strict=True))
            ratio = statistics.median(one / other for one, other in pairs)
            said = "" if ratio <= LIMIT else "  MISSED"
            print(
                f"{command:20} {ours * 1000:6.0f} ms, its answer {theirs * 1000:6.0f} ms, ratio {ratio:.2f}{said}",
                flush=True,
            )
    print(f"limit {LIMIT}, {runs} runs")


if __name__ == "__main__":
    main()
