"""A community's year, change by change: set up, intake, promotions, a quarrel, a moved board, a departure, a handover.

Run it anywhere: it writes the community into a folder of its own, changes it as its administrators would, and takes
everything back in the end.
"""

from __future__ import annotations

from pathlib import Path
from tempfile import TemporaryDirectory

from ask_above import Community, RefusedError
from ask_above.ask.impact.whole import Impact
from ask_above.change import (
    Assign,
    Edit,
    Grant,
    HandOver,
    MemberAdd,
    MemberStatus,
    PlaceAdd,
    PlaceMove,
    RankAdd,
    RankMove,
    Say,
    Withhold,
)
from ask_above.workspace.undoing import undo

CHARTER = """\
charter: 1
key: wren-valley
title: Wren Valley River Watch
owner: ines

rules:
  timezone: Europe/London
  seeing: place.see
  authority:
    moderate: {using: [member.mute]}
    assign: {using: rank.assign}
    manage: {using: rank.manage}
  overrides: {using: place.manage}
  accounts: {using: member.lock}

capabilities:
  Boards:
    place.see: See that a board is there, and read it
    place.manage: {about: Change who may do what on a board, risk: high}
    post.write: {about: Write on a board, kinds: [board]}
    post.remove: {about: Take a post down, authored: true, risk: medium, kinds: [board]}
  People:
    member.mute: {about: Keep a member from writing for a while, risk: medium}
    member.lock: {about: Lock an account or let it go, risk: high, kinds: [site]}
    rank.assign: {about: Give a rank to a member, risk: high}
    rank.manage: {about: manage ranks, risk: high, kinds: [site]}

ranks:              # highest first
  - {key: steward, title: Steward, unbounded: true}
  - {key: volunteer, title: Volunteer, grants: [post.write, post.remove.own], on-joining: true}
  - {key: waiting, title: Waiting, entry: true}
  - {key: passer-by, title: Passer-by, held-by: anyone, grants: [place.see]}

places:
  - {key: talk, title: River talk, kind: board}

expectations:
  - visitor may not post.write in talk
"""


class Year:
    """One community through a year."""

    def __init__(self, folder: Path) -> None:
        self.folder = folder
        (folder / "charter.yaml").write_text(CHARTER, encoding="utf-8")
        (folder / "members.csv").write_text("key,name,status\nines,Ines Moor,active\n", encoding="utf-8")

    @property
    def now(self) -> Community:
        """The community as it stands."""
        return Community.open(self.folder)

    def do(self, *edits: Edit, by: str = "", why: str = "") -> None:
        """Plan a change, say what it does, and make it; or say why not."""
        plan = self.now.plan(*edits, by=by or None, why=why)
        who = plan.before.member(by).called if by else "The keeper"
        print(f"- {who}: {plan.what}")
        try:
            plan.apply()
        except RefusedError as refused:
            print(f"    refused: {refused}")
            return
        told(plan.effect)


def told(effect: Impact) -> None:
    """Tell who gains (+) and who loses (-) what."""
    for shift in effect.shifts:
        who = ", ".join(shift.members) or f"whoever is {' or '.join(shift.ranks)}"
        print(f"    {'+' if shift.gains else '-'} {who}: {', '.join(shift.capabilities)} ({', '.join(shift.places)})")


def january(year: Year) -> None:
    """Set up: who does what, and where."""
    print("January: set up")
    year.do(
        RankAdd("reach-lead", {"title": "Reach lead", "grants": ["post.remove.all", "member.mute"]}, above="volunteer"),
        RankAdd("surveyor", {"title": "Surveyor"}, above="volunteer"),
        PlaceAdd("field", "section", "site", {"title": "Field work"}),
        PlaceAdd("gauges", "board", "field", {"title": "Gauge readings"}),
        Say("gauges", "volunteer", "deny", ["post.write"]),
        Say("gauges", "surveyor", "allow", ["post.write"]),
        Assign("ines", "steward"),
    )


def spring(year: Year) -> None:
    """Intake and promotions."""
    print("\nMarch: three people ask to join; Ines vouches for two, the third only looks on")
    year.do(*(MemberAdd(key, {"name": name}, "pending") for key, name in NEW))
    year.do(MemberStatus("petra", "active"), MemberStatus("tomas", "active"), by="ines")
    print("\nMay: promotions, each within their own reach")
    year.do(Assign("petra", "reach-lead"), by="ines", why="Looks after the upper reach")
    year.do(Assign("tomas", "surveyor"), by="petra")
    year.do(Grant("reach-lead", ["rank.assign"]), by="ines", why="Reach leads train surveyors")
    year.do(Assign("tomas", "surveyor", until="2099-12-31"), by="petra")
    year.do(Say("gauges", "reach-lead+", "allow", ["post.write"]), by="ines", why="Reach leads read gauges too")
    year.do(Assign("tomas", "surveyor", until="2099-12-31"), by="petra", why="Passed the gauge course")


NEW = (("petra", "Petra Lind"), ("tomas", "Tomas Reed"), ("dara", "Dara Fenwick"))


def summer(year: Year) -> None:
    """Quarrel, and a board that moves."""
    print("\nJuly: a quarrel on River talk; one board is closed to one of them, and opened again")
    year.do(Say("talk", "tomas", "bar", ["post.write"], member=True), by="ines", why="Shouting")
    print(f"    {year.now.may('tomas', 'post.write', at='talk').reason}")
    undo(year.now.home, by="ines", why="They have made it up").apply()
    print(f"- Ines Moor undoes it: {year.now.may('tomas', 'post.write', at='talk').reason}")
    print("\nSeptember: River talk moves into Field work")
    year.do(PlaceMove("talk", "field", keep=True), by="ines")
    year.do(Withhold("passer-by", ["place.see"]), by="petra")
    year.do(Say("field", "passer-by", "deny", ["place.see"]), Say("field", "volunteer+", "allow", ["place.see"]))


def winter(year: Year) -> None:
    """Departure, handover, and a look back."""
    print("\nNovember: Tomas moves away; Ines hands the site over")
    year.do(MemberStatus("tomas", "retired", "petra"), by="petra")
    year.do(MemberStatus("tomas", "retired", "petra"), by="ines", why="Moved to the coast")
    year.do(HandOver("petra"), by="petra")
    year.do(Assign("petra", "steward"), HandOver("petra"), by="ines", why="Five good years")
    year.do(RankMove("surveyor", above="reach-lead"), by="petra")


def looking_back(year: Year) -> None:
    """Tell what the year came to, and take it all back."""
    home = year.now.home
    entries = home.store.entries()
    print(f"\nThe journal has {len(entries)} entries; between set-up and now:")
    told(year.now.as_of(2).impact(year.now))
    for entry in reversed(entries[1:]):
        if entry.kind == "change" and entry.undone_by is None:
            undo(home, entry.number, why="Looking back").apply(force=True)
    same = (year.folder / "charter.yaml").read_text(encoding="utf-8") == CHARTER
    print(f"All taken back, the charter is {'what it was, byte for byte' if same else 'not what it was'}.")


def main() -> None:
    """Go through the year."""
    with TemporaryDirectory() as folder:
        year = Year(Path(folder))
        january(year)
        spring(year)
        summer(year)
        winter(year)
        looking_back(year)


if __name__ == "__main__":
    main()
