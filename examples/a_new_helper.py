"""A new helper: which rank fits what she needs, what it would do, assigned by someone who may, and checked.

Run it anywhere: it works on a copy of the demo community.
"""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from ask_above import Community
from ask_above.change import Assign, MemberAdd
from ask_above.demo.walk import write_demo


def main() -> None:
    """Find a rank, plan, let somebody give it who may, and ask what follows."""
    with TemporaryDirectory() as folder:
        home = Path(folder) / "wren-valley"
        write_demo(home)
        work(Community.open(home))


def work(community: Community) -> None:
    """Take a helper in who enters readings at the upper gauges and sees nobody's address."""
    needs = [("reading.post", "upper-gauges"), ("reading.correct.own", "upper-gauges")]
    fit = community.fit(needs, never=["contact.see.all"])
    best = fit.single
    if best is None:
        print("No rank gives this alone.")
        return
    print(f"Best fit: {', '.join(best.ranks)} (what comes beside it weighs {best.weight})")
    compared = community.compare("rank:surveyor", "rank:volunteer")
    print(f"Surveyors may and volunteers may not: {', '.join(row.capability for row in compared.of('one'))}")
    print()
    community.plan(MemberAdd("wilma", {"name": "Wilma Brook"}), by="ines").apply()
    community = Community.open(community.home.folder)
    give = Assign("wilma", best.ranks[0], "field", why="Reads the upper gauges on Sundays")
    for giver in ("bram", "ada"):
        plan = community.plan(give, by=giver)
        if plan.refusals:
            print(f"{giver} may not: {plan.refusals[0].why}")
            continue
        print(f"{giver}: {plan.what}")
        for shift in plan.effect.shifts:
            print(f"  {', '.join(shift.members)}: {', '.join(shift.capabilities)} in {', '.join(shift.places)}")
        plan.apply()
    print()
    community = Community.open(community.home.folder)
    print(f"Wilma may enter readings in: {', '.join(community.where('wilma', 'reading.post'))}")
    print(community.may("wilma", "reading.correct", at="upper-gauges", author="wilma").reason)
    print(f"Gaps now: {len(community.unmet())} expectations do not hold, as before.")


if __name__ == "__main__":
    main()
