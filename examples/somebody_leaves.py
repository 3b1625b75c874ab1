"""Two people leave at the season's end: what hangs on them, who steps in, and is every place looked after then.

Run it anywhere: it works on a copy of the demo community, and draws the coverage before and after.
"""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from ask_above import Community
from ask_above.change import Assign, MemberStatus
from ask_above.demo.walk import write_demo
from ask_above.show import figures


def main() -> None:
    """Ask first, replace, let go, and ask again."""
    with TemporaryDirectory() as folder:
        home = Path(folder) / "wren-valley"
        write_demo(home)
        community = Community.open(home)
        figures.write(figures.cover(community.cover()), home / "before.png")
        tell("Without Ada and Birgit", community, ["ada", "birgit"])
        tell("Without Ines and Olaf", community, ["ines", "olaf"])
        print()
        plan = community.plan(
            Assign("freya", "steward", why="Takes over in spring"),
            MemberStatus("olaf", "retired", "keep"),
            by="ines",
            why="Olaf moves away",
        )
        print(plan.what)
        print("refused" if plan.refusals else "nothing stands against it")
        for each in plan.refusals:
            print(f"  {each.why}")
        plan = community.plan(MemberStatus("olaf", "retired", "keep"), by="ines", why="Olaf moves away")
        plan.apply()
        community = Community.open(home)
        community.plan(Assign("freya", "steward"), by="ines", why="Takes over in spring").apply()
        tell("Afterwards", Community.open(home), [])
        figures.write(figures.cover(Community.open(home).cover()), home / "after.png")
        print(f"Drawn: {', '.join(sorted(file.name for file in home.glob('*.png')))}")


def tell(when: str, community: Community, without: list[str]) -> None:
    """Print what nobody can do, and what hangs on one alone."""
    gaps = community.cover(without=without).gaps
    print(f"{when}:")
    for only in sorted({gap.only or "" for gap in gaps}):
        duties = sorted({gap.capability for gap in gaps if (gap.only or "") == only})
        print(f"  {f'{only} alone can' if only else 'nobody can'}: {', '.join(duties)}")
    if not gaps:
        print("  nothing hangs on one member alone")


if __name__ == "__main__":
    main()
