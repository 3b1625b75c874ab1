"""The whole arrangement for a council: a page to read and print, without people in it, and the figures beside it.

Run it anywhere: it reads the demo community and writes into a folder of its own; name a folder to keep what it writes.
"""

from __future__ import annotations

import sys
from pathlib import Path
from tempfile import TemporaryDirectory

from ask_above import Community
from ask_above.show import figures
from ask_above.show.report import report


def main() -> None:
    """Write the page and the figures, and list the advice."""
    if len(sys.argv) > 1:
        write(Path(sys.argv[1]))
        return
    with TemporaryDirectory() as folder:
        write(Path(folder))


def write(folder: Path) -> None:
    """Write all of it into a folder."""
    community = Community.demo()
    (folder / "river.html").write_text(report(community, "html", members=False), "utf-8")
    drawn = {
        "ladder.svg": figures.ladder(community),
        "powers.pdf": figures.powers(community),
        "grid.png": figures.grid(community),
        "places.png": figures.places(community),
        "climb.png": figures.climb(community, rank="warden"),
    }
    for name, axes in drawn.items():
        figures.write(axes, folder / name)
    print(f"Written: {', '.join(sorted(file.name for file in folder.iterdir()))}")
    print()
    print(community.describe("rank:warden"))
    print()
    unmet = community.unmet()
    print(f"{len(unmet)} of {len(community.charter.expectations)} expectations do not hold.")
    for each in unmet:
        print(f"  {each.expectation.text}: {each.because}")
    print()
    print("Advice:")
    for piece in community.advice().pieces[:4]:
        print(f"  {piece.what}")


if __name__ == "__main__":
    main()
