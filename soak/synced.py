"""What a sync leaves, held to a second reading: two directories that change, and people who are changed by hand.

Run: python soak/synced.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import partial
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import AskAboveError
from ask_above.change import Assign, Edit, MemberGroups, MemberStatus, Unassign
from ask_above.files.directories import DirectoryEntry, DirectoryMapping, DirectoryRead, read_mapping
from ask_above.workspace.memory import MemoryStorage
from ask_above.workspace.plans import plan
from ask_above.workspace.syncing import keep_claims, plan_sync, understood

CHARTER = """charter: 1
key: river
title: River
owner: ines
capabilities:
  All:
    post.write: Write a post
    post.remove: {about: Take a post down, risk: high}
    reading.post: Enter a reading
    rank.assign: Give a rank
    member.lock: Lock an account
    charter.manage: Change the charter
ranks:
  - {key: warden, grants: [post.write, post.remove, reading.post]}
  - {key: host, grants: [post.write, reading.post]}
  - {key: reader, grants: [reading.post]}
  - {key: feed, grants: [reading.post], kept-by: otters}
groups:
  - {key: upper, confers: [reader]}
  - {key: lower}
places:
  - {key: commons, kind: section, places: [{key: landing, kind: channel}]}
"""
PLACES = ("site", "commons", "landing")
GROUPS = ("Divers", "Hosts", "Readers", "Wardens")
State = dict[str, tuple[Any, list[tuple[str, str, str, str]]]]


def texts(rng: Random) -> dict[str, str]:
    """Return a community of six besides its owner, as files."""
    status = ["active", "active", "pending", "invited", "locked", "retired"]
    people = [f"m{n},Mem {n},m{n}@x.example,{rng.choice(status)},{rng.choice(['', 'upper'])}" for n in range(6)]
    given = {f"m{rng.randrange(6)},{rng.choice(['host', 'reader'])},{rng.choice(PLACES)}" for _ in range(4)}
    return {
        "charter.yaml": CHARTER,
        "members.csv": "\n".join(["key,name,email,status,groups", "ines,Ines,ines@x.example,active,", *people, ""]),
        "assignments.csv": "\n".join(["member,rank,place", *sorted(given), ""]),
    }


def spaced(sign: str, dn: str) -> str:
    """Return a name of an entry with spaces around a sign."""
    return dn.replace(sign, f" {sign} ") if sign == "=" else dn.replace(sign, f"{sign} ")


class Society:
    """A directory that changes, of people who are in groups, which are in groups."""

    def __init__(self, name: str, rng: Random, folder: Path) -> None:
        self.name, self.rng, self.folder = name, rng, folder
        self.people: dict[str, dict[str, str]] = {}
        self.inside: dict[str, set[str]] = {group: set() for group in GROUPS}
        self.gone: list[dict[str, str]] = []
        self.count = 0
        for _ in range(4):
            self.join()
        self.mapping = self.mapped()

    def mapped(self) -> DirectoryMapping:
        """Return a mapping that claims other things."""
        rng, ranks = self.rng, ["warden", "host", "reader", *(["feed"] if self.name == "otters" else [])]
        ways = [
            lambda: f"rank: {rng.choice(ranks)}, place: {rng.choice(PLACES)}",
            lambda: f"into: {rng.choice(['upper', 'lower'])}",
        ]
        gives = {f"  - {{group: {group}, {rng.choice(ways)()}}}" for group in GROUPS for _ in range(rng.randrange(3))}
        lines = sorted(gives) or ["  - {group: Divers, rank: reader}"]
        absent = rng.choice(["retire", "tell", "leave"])
        file = self.folder / f"{self.name}.yaml"
        head = f"name: {self.name}\ndirectory: none.ldif\npeople: {{number: employeeNumber}}\ngives:\n"
        file.write_text(head + "\n".join(lines) + f"\nabsent: {absent}\nmost-absent: 100%\n")
        return read_mapping(file)

    def join(self) -> None:
        """Let somebody come, who may have a key or an address of somebody here."""
        self.count += 1
        n, other = self.count, f"m{self.rng.randrange(6)}"
        uids = {person["uid"] for person in (*self.people.values(), *self.gone)}
        uid = other if self.rng.random() < 0.2 and other not in uids else f"{self.name}{n}"
        mail = self.rng.choice([f"{uid}@x.example", f"{other}@x.example", ""])
        number = self.rng.choice([f"{100 + n}", f"AB{n}"])
        self.people[f"id{n}"] = {"uid": uid, "cn": f"Person {n}", "mail": mail, "employeenumber": number}

    def change(self) -> None:
        """Let people come, go and come back, be called and numbered otherwise, and groups have others in them."""
        rng = self.rng
        for _ in range(rng.randrange(1, 6)):
            person = rng.choice([*self.people] or [""])
            how = rng.choice(["join", "go", "back", "cn", "mail", "number", *["groups"] * 6])
            if how == "join" or not person:
                self.join()
            elif how == "go":
                self.gone.append(self.people.pop(person))
                for members in self.inside.values():
                    members.discard(person)
            elif how == "back" and self.gone:
                self.count += 1
                self.people[f"id{self.count}"] = self.gone.pop()
            elif how in ("cn", "mail"):
                self.people[person][how] = f"new{rng.randrange(99)}@{self.name}.example"
            elif how == "number":
                self.people[person]["employeenumber"] = self.people[person]["employeenumber"].swapcase()
            else:
                self.inside[rng.choice(GROUPS)] ^= {rng.choice([person, *GROUPS])}

    def read(self) -> DirectoryRead:
        """Return it as a server gives it: who is in what is told at either end, and names are spelled in any way."""
        rng = Random(self.count)
        spelled: list[Callable[[str], str]] = [str.upper, str, *(partial(spaced, sign) for sign in ",=")]
        said: dict[str, dict[str, tuple[str, ...]]] = {
            of: {key: (value,) for key, value in person.items() if value} for of, person in self.people.items()
        }
        said |= {group: {"cn": (group,)} for group in GROUPS}
        for group, members in self.inside.items():
            for member in members:
                field = rng.choice(["member", "uniquemember", "memberof", "memberuid"])
                at, value = (member, group) if field == "memberof" else (group, member)
                if field == "memberuid" and member in self.people:
                    value = self.people[member]["uid"]
                else:
                    field = "member" if field == "memberuid" else field
                    value = rng.choice(spelled)(f"cn=River\\, {value},dc=x")
                said[at][field] = (*said[at].get(field, ()), value)
        entries = {of: DirectoryEntry(f"cn=river\\2c {of},dc=x", attributes) for of, attributes in said.items()}
        return DirectoryRead(tuple(entries[of] for of in self.people), tuple(entries[group] for group in GROUPS))

    def groups(self, person: str) -> set[str]:
        """Return the groups that somebody is in, through others too."""
        mine = {group for group, members in self.inside.items() if person in members}
        while more := {group for group, members in self.inside.items() if members & mine} - mine:
            mine |= more
        return mine


def by_hand(home: MemoryStorage, rng: Random) -> None:
    """Change somebody by a command, where that may be."""
    key, rank, place = rng.choice([*home.read().register.members]), rng.choice(["warden", "host"]), rng.choice(PLACES)
    status, group = rng.choice(["locked", "retired", "active"]), rng.choice(["upper", "lower"])
    given: tuple[Edit, ...] = (Assign(key, rank, place), Unassign(key, rank, place))
    edits: tuple[Edit, ...] = (*given, MemberStatus(key, status), MemberGroups(key, [group]))
    with suppress(AskAboveError):
        plan(home, [rng.choice(edits)], by="ines", why="by hand").apply(force=True)


def state(home: MemoryStorage) -> State:
    """Return the members, and what each was given."""
    register = home.read().register
    return {
        key: (
            member._replace(where=None, distinct=""),  # type: ignore[arg-type]
            sorted((each.rank, each.place, str(each.period), each.source) for each in register.of(key)),
        )
        for key, member in register.members.items()
    }


def differences(society: Society, before: State, after: State) -> Iterator[str]:
    """Yield what is not as the directory says, and what was touched that it does not claim."""
    name, gives = society.mapping.name, society.mapping.gives
    keys = {member.external_id.casefold(): key for key, (member, _) in after.items() if member.external_id}
    claimed = {given.into for given in gives if given.into}
    met = set()
    for of, person in society.people.items():
        key = keys.get(f"{name}:{person['employeenumber']}".casefold())
        if key is None:
            likely = [k for k, (m, _) in before.items() if m.email == person["mail"] != "" or k == person["uid"]]
            likely += [k for k, (m, _) in after.items() if m.email == person["mail"] != ""]
            if not likely:
                yield f"{person} was left out, and is like nobody"
            continue
        met.add(key)
        (member, held), (was, had) = after[key], before.get(key, after[key])
        mine = society.groups(of)
        ranks = {(given.rank, given.place) for given in gives if given.rank and given.group in mine}
        groups = {given.into for given in gives if given.into and given.group in mine}
        groups |= set(was.groups) - claimed if key in before else set()
        if (member.name, member.email) != (person["cn"], person["mail"] or was.email) or member.status == "retired":
            yield f"{key} is {member}, and there {person}"
        if set(member.groups) != groups:
            yield f"{key} is in {member.groups}, and should be in {groups}"
        if key in before and [each for each in held if each[3] != name] != [each for each in had if each[3] != name]:
            yield f"{key} was given or lost what the directory does not hold: {had}, {held}"
        theirs = {each[:2] for each in held if each[3] == name}
        if theirs - ranks or (member.status != "locked" and ranks - {each[:2] for each in held}):
            yield f"{key} has {held}, and should have {ranks}"
    for key, (was, had) in before.items():
        if key not in met and was.external_id.startswith(f"{name}:") and society.mapping.absent == "retire":
            left = [each for each in had if each[3] != name]
            if key != "ines" and (after[key][0].status, after[key][1]) != ("retired", left):
                yield f"{key} is gone there, and here {after[key]}"
        elif key not in met and after.get(key) != (was, had):
            yield f"{key} was touched: {was}, {had}, {after.get(key)}"
    yield from (f"{key} came" for key in after if key not in before and key not in met)


def synced(home: MemoryStorage, society: Society, *, link: bool) -> bool:
    """Take a directory over; returns whether that was refused."""
    mapping = society.mapping
    try:
        plan_sync(home, mapping, understood(mapping, society.read()), by="ines", why="at night", link=link).apply()
    except AskAboveError as error:
        if str(error) != "Nothing would change.":
            return True
    keep_claims(home, mapping)
    return False


def as_it_is(seed: int) -> Iterator[str]:
    """Yield what eight syncs leave that the directories do not say, each the second time too."""
    rng = Random(seed)
    home = MemoryStorage(texts(rng))
    with TemporaryDirectory() as folder:
        both = [Society(name, rng, Path(folder)) for name in ("otters", "dippers")]
        for step in range(8):
            for _ in range(rng.randrange(3)):
                by_hand(home, rng)
            society, link, before = rng.choice(both), rng.random() < 0.5, state(home)
            if step:
                society.change()
            if rng.random() < 0.15:
                society.mapping = society.mapped()
            if synced(home, society, link=link):
                continue
            after = state(home)
            yield from (f"{seed}, step {step}: {said}" for said in differences(society, before, after))
            if synced(home, society, link=link) or state(home) != after:
                yield f"{seed}, step {step}: a second time it is not as the first"


def main(as_it_is: Callable[[int], Iterator[str]]) -> int:
    """Hold so many communities to a reading; the exit code is whether any differs."""
    count, first = int(sys.argv[1]), int(sys.argv[2]) if len(sys.argv) > 2 else 0
    found = [said for seed in range(first, first + count) for said in as_it_is(seed)]
    print("\n".join(found))
    print(f"{count:,} communities; {len(found)} differences")
    return bool(found)


if __name__ == "__main__":
    sys.exit(main(as_it_is))
