"""Random changes of a community in a folder: for tests, and as a program that can be killed or run many times over.

Run: python tests/random_changes.py FOLDER SEED COUNT [URL]
"""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import nullcontext
from datetime import UTC, datetime, timedelta
from random import Random
from typing import Any

from ask_above import AskAboveError, ChangedMeanwhileError, Community
from ask_above.change import (
    Assign,
    CharterSet,
    Edit,
    Grant,
    HandOver,
    MemberAdd,
    MemberGroups,
    MemberSet,
    MemberStatus,
    PlaceAdd,
    PlaceCopy,
    PlaceMove,
    PlaceRemove,
    PlaceSet,
    RankAdd,
    RankMove,
    RankRemove,
    RankRename,
    RankSet,
    Realign,
    Say,
    SetGate,
    SetLike,
    Unassign,
    Withdraw,
    Withhold,
)
from ask_above.change.importing import ImportAssignments
from ask_above.people.reading import FileRow, FileRows
from ask_above.people.register import Assignment

YES = ("true", "yes", "on", "True", "YES", True)
NO = ("false", "no", "off", "False", None)


def day(rng: Random) -> str:
    return (datetime.now(UTC) + timedelta(days=rng.randint(1, 400))).strftime(
        rng.choice(["%Y-%m-%d", "%Y-%m-%dT%H:%M"])
    )


def rank_field(rng: Random, c: Community, key: str) -> dict[str, Any]:
    """Some field of a rank, in some spelling that the reader takes."""
    ranks = list(c.charter.ranks)
    some = rng.sample(ranks, rng.randint(1, 2))
    names = rng.sample(list(c.charter.catalogue.keys), 2)
    made: list[dict[str, Any]] = [
        {rng.choice(["open", "on-joining", "entry", "unbounded"]): rng.choice(YES)},
        {rng.choice(["open", "on-joining", "entry", "unbounded"]): rng.choice(NO)},
        {"call": rng.choice(["open", "closed"])},
        {"held-by": rng.choice(["anyone", "visitors", "members", "bots", None])},
        {"paused": rng.choice([*YES, *NO])},
        {"builds-on": some},
        {rng.choice(["grants", "withhold"]): names},
        {rng.choice(["after", "apart-from"]): some},
        {"limit": rng.choice(["0", "1", "5", None])},
        {rng.choice(["moderates", "assigns", "manages"]): {rng.choice(["only", "except"]): some}},
        {"kept-by": rng.choice(["the feed", None])},
        {"title": rng.choice(["Other", "Another"])},
        {"about": f"Number {rng.randrange(1000)}"},
        {"badge": rng.choice(["*", None])},
        {"heading": rng.choice(YES)},
        {"copied-from": rng.choice(ranks)},
    ]
    return rng.choice([each for each in made if key not in str(each.get("builds-on", ""))] or made)


def random_edit(rng: Random, c: Community) -> Edit:
    """Some edit of any kind, which may well be refused."""
    ranks, places, members = list(c.charter.ranks), list(c.charter.places), list(c.register.members)
    groups, sets = list(c.charter.groups), list(c.charter.override_sets)
    names = rng.sample(list(c.charter.catalogue.keys), rng.randint(1, 2))
    one, other, where, who = rng.choice(ranks), rng.choice(ranks), rng.choice(places), rng.choice(members)
    holder = rng.choice([*ranks, *(f"{key}+" for key in ranks), *groups])
    new = f"new-{rng.randrange(10**6)}"
    made: list[Any] = [
        Grant(one, names),
        Withhold(one, names),
        Withdraw(names[0]),
        RankMove(one, above=other),
        RankMove(one, below=other),
        RankSet(one, rank_field(rng, c, one)),
        RankSet(one, rank_field(rng, c, one)),
        RankAdd(new, {"grants": names, **rank_field(rng, c, new)}, above=other),
        RankAdd(new, {}, copy_of=one),
        RankRename(one, new_key=new),
        RankRemove(one, rng.choice([None, other])),
        Say(where, holder, rng.choice(["allow", "deny", "bar", "clear"]), names),
        Say(where, holder, rng.choice(["allow", "deny"]), names),
        Say(where, who, rng.choice(["allow", "deny"]), names, True),
        SetGate(where, {rng.choice(["any", "all", "none"]): [one, f"{other}+"]}),
        SetGate(where, {}),
        SetLike(where, rng.sample(sets, rng.randint(0, min(2, len(sets))))),
        PlaceAdd(new, "board", where, {"title": "New"}),
        PlaceMove(where, rng.choice(places), rng.random() < 0.5),
        PlaceCopy(where, new, rng.choice([None, *places])),
        PlaceRemove(where),
        PlaceSet(where, {"title": new}),
        Realign(where),
        Assign(who, one, where),
        Assign(who, one),
        Assign(who, one, where, since=day(rng)),
        Assign(who, one, where, until=day(rng)),
        Assign(who, one, only=True),
        Unassign(who, one),
        Unassign(who, one, where),
        MemberSet(who, {"note": f"Note {rng.randrange(1000)}"}),
        MemberSet(who, {"name": new}),
        MemberSet(who, {"email": f"{new}@river.example"}),
        MemberSet(who, {"kind": rng.choice(["person", "bot"])}),
        MemberSet(who, {"groups": ";".join(rng.sample(groups, rng.randint(0, min(2, len(groups)))))}),
        MemberStatus(who, rng.choice(["active", "locked", "retired"])),
        MemberAdd(new, {"name": "New", "groups": ";".join(rng.sample(groups, min(1, len(groups))))}),
        MemberAdd(new, {"kind": rng.choice(["person", "bot"])}, rng.choice(["active", "pending", "invited"])),
        HandOver(who),
        MemberSet(who, {rng.choice(["user_name", "external_id"]): rng.choice([new, "mill:1", other, ""])}),
        MemberSet(who, {rng.choice(["email", "phone"]): rng.choice([f"{new}@river.example", ""])}),
        MemberAdd(new, {rng.choice(["user_name", "external_id", "email"]): f"{new}@river.example"}),
        MemberGroups(who, put=rng.sample(groups, min(1, len(groups)))),
        MemberGroups(who, take=rng.sample(groups, min(1, len(groups)))),
        CharterSet(f"bundles.{rng.choice([*c.charter.catalogue.bundles, 'pack'])}", names),
        RankSet(one, {rng.choice(["entry", "on-joining", "open"]): "true"}),
        RankSet(one, {"held-by": rng.choice(["members", "bots"])}),
        Say(where, f"{one}+", rng.choice(["allow", "deny", "clear"]), names),
        records(rng, c),
    ]
    edit: Edit = rng.choice(made)
    return edit


def records(rng: Random, c: Community) -> Edit:
    """A list of assignments that says who made them and where they come from, of somebody's who has one or has not."""
    who, whose = rng.choice(list(c.register.members)), rng.choice(list(c.register.members))
    given = rng.choice(
        [*c.register.of(who), *c.register.assignments, Assignment(who, rng.choice(list(c.charter.ranks)))]
    )
    cells = {"member": given.member, "rank": given.rank, "place": "" if given.place == "site" else given.place}
    cells |= {
        "from": rng.choice([given.period.said_from, ""]),
        "until": rng.choice([given.period.said_until, day(rng)]),
    }
    cells |= {"by": whose, "why": "as always", "source": rng.choice(["", "mill"])}
    rows = FileRows("records.csv")
    rows.rows = [FileRow(cells, 2)]
    return ImportAssignments(rows)


def several_edits(rng: Random, c: Community) -> list[Edit]:
    """One edit or several; now and then a rank that is made, and given at once."""
    if rng.random() < 0.2:
        new, who = f"new-{rng.randrange(10**6)}", rng.choice(list(c.register.members))
        names = rng.sample(list(c.charter.catalogue.keys), rng.randint(0, 2))
        ranks, where = list(c.charter.ranks), rng.choice(list(c.charter.places))
        made = RankAdd(new, {"grants": names, **rank_field(rng, c, new)} if names else {}, below=rng.choice(ranks))
        return [made, Assign(who, new, rng.choice(["site", where]))]
    return [random_edit(rng, c) for _ in range(rng.choice([1, 1, 1, 2, 3]))]


def changes(folder: str, rng: Random, url: str | None = None, by: str | None = None) -> Iterator[Any]:
    """Make random changes for ever; yields each plan that was made and its entry."""
    home, others_wait = Community.open(folder, register=url).home, False
    while True:
        try:
            # whoever was overtaken plans with the others waiting
            with home.locked() if others_wait else nullcontext():
                others_wait = False
                c = Community.open(folder, register=url)
                plan = c.plan(random_edit(rng, c), by=by, why="a try")
                if plan.is_empty:
                    continue
                entry = plan.apply(force=True)
        except ChangedMeanwhileError:
            others_wait = True
            continue
        except AskAboveError:
            continue
        yield plan, entry


def main() -> None:
    """Make changes and say each number once it is made."""
    folder, seed, count = sys.argv[1], int(sys.argv[2]), int(sys.argv[3])
    made = changes(folder, Random(seed), sys.argv[4] if len(sys.argv) > 4 else None)
    for _ in range(count):
        print(next(made)[1].number, flush=True)  # noqa: T201


if __name__ == "__main__":
    main()
