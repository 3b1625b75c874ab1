"""Whatever members write of themselves and of newcomers, nobody comes to hold what a directory gave to another."""

from __future__ import annotations

from random import Random

import pytest

from ask_above import AskAboveError, Community
from ask_above.change import Edit, MemberAdd, MemberSet
from ask_above.change.importing import COLUMNS, Import
from ask_above.change.syncing import GroupGives, Outsider, Sync
from ask_above.files.csv_rows import read_rows
from ask_above.workspace.plans import plan
from ask_above.workspace.tokens import add_token, tokens_of
from conftest import Place
from seeds import seeds

GIVES = [GroupGives("surveyors", "surveyor"), GroupGives("hosts", "host", "commons")]


def person(n: int, rng: Random) -> Outsider:
    groups = frozenset(name for name in ("surveyors", "hosts") if rng.random() < 0.6)
    return Outsider(str(n), f"person{n}", f"Person {n}", f"person{n}@mill.example", groups)


def attack(place: Place, rng: Random, people: list[Outsider]) -> None:
    """Let a member write something that makes them, or a newcomer of theirs, look like somebody of the directory."""
    c, by = place.open(), rng.choice(["ada", "bram", "vesna", "olaf"])
    one = rng.choice(people)
    fields = {"email": one.email, "name": one.name, "user_name": one.key, "external_id": f"mill:{one.number}"}
    some = {name: fields[name] for name in rng.sample(sorted(fields), rng.randint(1, 3))}
    mine = rng.choice([by, *(key for key, m in c.register.members.items() if m.status == "active")])
    key = rng.choice([one.key, f"new-{rng.randrange(10**6)}"])
    text = ",".join(some) + "\n" + ",".join(some.values()) + "\n"
    rows = read_rows("mine.csv", text.encode(), COLUMNS, ())
    source = rng.choice(["mill", "mine"])
    forged = one._replace(number=rng.choice([one.number, "77"]), key=rng.choice([one.key, mine]))
    edits: list[Edit] = [MemberSet(mine, some), MemberSet(by, some), MemberAdd(key, some)]
    edits.append(Import(rows, "active", link=rng.random() < 0.5))
    edits.append(Sync(source, [forged], GIVES, link=rng.random() < 0.5))
    edit = rng.choice(edits)
    try:
        made = plan(place.open().home, [edit], by=by)
        if not made.is_empty:
            made.apply()
    except AskAboveError:
        return


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(3))
def test_members_who_write_what_they_may_never_hold_what_the_directory_gave_to_another(brook: Place, seed: int) -> None:
    rng = Random(seed)
    people = [person(n, rng) for n in range(4)]
    brook.open().plan(MemberSet("tove", {"note": "begun"})).apply()
    from_there: set[str] = set()  # whom a sync has made
    for _ in range(14):
        if rng.random() < 0.75:
            attack(brook, rng, people)
            continue
        before = {*brook.open().register.members}
        made = plan(brook.open().home, [Sync("mill", people, GIVES)])
        made.source = "mill"
        if not made.is_empty:
            made.apply()
        from_there |= {*brook.open().register.members} - before
        held_by_whom_it_was_given(brook.open(), people, from_there)
    held_by_whom_it_was_given(brook.open(), people, from_there)


def held_by_whom_it_was_given(c: Community, people: list[Outsider], from_there: set[str]) -> None:
    numbers = {f"mill:{one.number}": one for one in people}
    for member in c.register.members.values():
        if member.external_id.casefold().startswith("mill:"):
            assert member.key in from_there, member
        for given in c.register.of(member.key):
            if given.source:
                one = numbers[member.external_id]
                wanted = {(each.rank, each.place) for each in GIVES if each.group in one.groups}
                assert (given.rank, given.place) in wanted
    for field in ("user_name", "external_id", "email"):
        said = [getattr(member, field).casefold() for member in c.register.members.values() if getattr(member, field)]
        assert len(said) == len(set(said)), field


def test_a_token_of_somebody_who_is_gone_acts_as_nobody_else(brook: Place) -> None:
    brook.open().plan(MemberSet("tove", {"note": "begun"})).apply()
    for name, whose in (("robot", "bram"), ("reader", "tove")):
        add_token(brook.open().home, name, member=whose)
    for file in ("members.csv", "assignments.csv"):
        lines = (brook.folder / file).read_text("utf-8").splitlines(keepends=True)
        (brook.folder / file).write_text("".join(line for line in lines if not line.startswith("bram,")), "utf-8")
    assert sorted(token.name for token in tokens_of(brook.open().home.store).values()) == ["reader", "robot"]
    brook.open().plan(MemberAdd("bram", {"name": "Bram the second"})).apply(force=True)
    assert [token.name for token in tokens_of(brook.open().home.store).values()] == ["reader"]
