"""What letters say to members, held to a second reading: who they are, their ranks, what they may, and on whom.

Run: python soak/written.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import re
import sys
from collections import Counter
from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime, timedelta
from email import message_from_string, policy
from pathlib import Path
from random import Random
from typing import TYPE_CHECKING, Any, Final

sys.path.insert(0, str(Path(__file__).parent.parent))
sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from soak.edits import of_a_directory, side, some_edits, with_a_directory, with_a_head
from soak.told import answers, through_seeds, with_more

from ask_above import AskAboveError
from ask_above.change.items import ItemRename
from ask_above.show.letters import letters
from ask_above.workspace.plans import Plan
from generated import generate

if TYPE_CHECKING:
    from soak.plain_edits import Side

Told = dict[str, set[Any]]
_OUT: Final = ("locked", "retired")
DAY: Final = r"\d+ \w{3} \d{4}(?:, [\d:]{5,8}(?: \(\S+?\))?)?"
_SPAN: Final = rf"(?:,? from (?P<since>{DAY}))?(?:,? (?P<word>through|until) (?P<until>{DAY}))?"
_RANK: Final = re.compile(
    r"You (?P<has>have|will have|no longer have|will not have) the rank (?P<rank>\S+) "
    rf"(?P<where>on the whole site|in \S+?){_SPAN}(?P<waits> once you are active)?\."
)
_MAY: Final = re.compile(rf"You (?P<may>may now|may|may no longer), (?P<where>.+?){_SPAN}: (?P<what>.+)\.")
_ACTS: Final = re.compile(r"((?:(?:moderate|assign|manage)(?:, | and )?)+) (.+)")


class Letters:
    """What the letters of a plan say, one by one."""

    def __init__(self, plan: Plan, after: Side) -> None:
        self.c = after
        self.keys = {said.get("title", key): key for key, said in {**after.rank, **after.place}.items()}
        self.told: Told = {what: set() for what in ("standing", "groups", "ranks", "answers", "acts")}
        for file, text in letters(plan):
            member = file.partition("-")[2].removesuffix(".eml")
            for line in message_from_string(text, policy=policy.default).get_content().splitlines()[4:]:
                self.line(member, line)

    def line(self, member: str, line: str) -> None:
        if rank := _RANK.fullmatch(line):
            (place,) = self.places(rank["where"])
            said = rank["has"], bool(rank["waits"]), *self.span(rank)
            self.told["ranks"].add((member, self.keys.get(rank["rank"], rank["rank"]), place, *said))
        elif may := _MAY.fullmatch(line):
            gains, span = may["may"] != "may no longer", self.span(may)
            assert (may["may"] == "may now") <= (span[0] is None), line
            for place in self.places(may["where"]):
                self.told["answers"] |= {(gains, member, cap, place, *span) for cap in self.capabilities(may["what"])}
                self.told["acts"] |= {(gains, member, place, span[0], *act) for act in self.acts(may["what"])}
        elif " the group " in line:
            self.told["groups"].add((member, " now " in line, line.removesuffix(".").rpartition(" ")[2]))
        elif line and "(was " not in line:
            self.told["standing"].add((member, line))

    def places(self, said: str) -> set[str]:
        if said == "everywhere":
            return {*self.c.place}
        site = {"site"} if said.startswith("on the whole site") else set[str]()
        inside = said.removeprefix("on the whole site").removeprefix(" and ").removeprefix("in ")
        return site | {self.keys.get(title, title) for title in re.split(r", | and ", inside) if title}

    def span(self, said: re.Match[str]) -> tuple[datetime | None, datetime | None]:
        since = self.instant(said["since"]) if said["since"] else None
        # through a day: until the next one begins
        return since, self.instant(said["until"], more=said["word"] == "through") if said["until"] else None

    def instant(self, said: str, *, more: bool = False) -> datetime:
        words = re.sub(r" \(\S+\)$", "", said)
        form = "%d %b %Y" + ("" if "," not in words else ", %H:%M:%S" if words.count(":") > 1 else ", %H:%M")
        moment = datetime.strptime(words, form) + timedelta(days=more)  # noqa: DTZ007 (it is in the charter's zone)
        return self.c.instant(moment.isoformat() if "," in words else moment.date().isoformat())

    def capabilities(self, said: str) -> set[str]:
        return {
            re.sub(r" \((own|all)\)$", r".\1", each.removeprefix("do "))
            for each in said.split("; ")
            if each.startswith("do ")
        }

    def acts(self, said: str) -> Iterator[tuple[str, str]]:
        for part in () if said.startswith("do ") else said.split("; "):
            acts, ranks = (re.split(r", | and ", each) for each in _ACTS.fullmatch(part).groups())  # type: ignore[union-attr]
            yield from ((act, self.keys.get(rank, rank)) for act in acts for rank in ranks)


class Differing:
    """What there is to say to members whom a change concerns, read off the two sides."""

    def __init__(self, before: Side, after: Side, moments: list[datetime]) -> None:
        self.before, self.after, self.moments = before, after, moments
        was, now = answers(before, moments), answers(after, moments)
        self.turned = {(True, *each) for each in now - was} | {(False, *each) for each in was - now}
        self.found: Told = {what: set() for what in ("standing", "groups", "ranks", "answers", "acts")}
        for member, row in after.members.items():
            if member in before.members or row["status"] in ("active", "pending"):
                self.of(member)

    def of(self, m: str) -> None:
        row, was = self.after.members[m], self.before.members.get(m)
        sentences = [*self.standing(m, row, was)]
        self.found["standing"] |= {(m, sentence) for sentence in sentences}
        groups = [{*filter(None, (each or row)["groups"].split(";"))} for each in (was, row)]
        self.found["groups"] |= {(m, True, g) for g in groups[1] - groups[0]}
        self.found["groups"] |= {(m, False, g) for g in groups[0] - groups[1]}
        conferred = {"site", *(q for c in (self.before, self.after) for g in c.groups for _, q in c.confers(g))}
        spots = {q: {self.moments[0]} for q in conferred} if sentences or groups[0] != groups[1] else {}
        for place, begins in self.ranks(m, row):
            spots.setdefault(place, {self.moments[0]}).update(begins)
        owns = [c.c.get("owner") == m for c in (self.before, self.after)]
        if owns[0] != owns[1] or (was and (row["status"] in _OUT) != (was["status"] in _OUT)):
            return
        self.found["answers"] |= {(gains, m, cap, q, n) for gains, n, _, who, cap, q in self.turned if who == m}
        for place, moments in spots.items():
            self.acts(m, place, sorted(moments))

    def standing(self, m: str, row: Any, was: Any) -> Iterator[str]:
        for c, others, said in (
            (self.after, self.before, "now the owner and may do everything"),
            (self.before, self.after, "no longer the owner"),
        ):
            if c.c.get("owner") == m != others.c.get("owner"):
                yield f"You are {said}."
        if was is None:
            yield {"active": "You are now a member."}.get(row["status"], "You are now a pending member.")
        elif row["status"] != was["status"]:
            again = {"locked": "Your account is no longer locked.", "retired": "You are a member again."}
            if was["status"] in _OUT and row["status"] == "invited":
                again = dict.fromkeys(_OUT, "Your invitation is valid again.")
            out = {"retired": "You are no longer a member.", "locked": "Your account is locked."}
            article = {"active": "an", "invited": "an", "pending": "a"}.get(row["status"])
            now = f"You are now {article} {row['status']} member."
            yield out.get(row["status"]) or again.get(was["status"], now)

    def ranks(self, m: str, row: Any) -> Iterator[tuple[str, set[datetime]]]:
        waits = row["status"] == "pending"
        spots = {(a["rank"], a["place"]) for c in (self.before, self.after) for a in c.assignments if a["member"] == m}
        for r, q in spots:
            had, has = ([c.has(m, r, q, t) for t in self.moments] for c in (self.before, self.after))
            if had == has:
                continue
            gained = [t for t, one, two in zip(self.moments, had, has, strict=True) if two and not one]
            if not any(has):
                self.found["ranks"].add((m, r, q, "no longer have" if had[0] else "will not have", False, None, None))
            else:
                n = has.index(True)
                until = self.moments[has.index(False, n)] if False in has[n:] else None
                since = self.moments[n] if n else None
                has_now = "have" if not n and row["status"] == "active" else "will have"
                self.found["ranks"].add((m, r, q, has_now, waits, since, until))
            yield q, {*gained[:1]}

    def acts(self, m: str, place: str, moments: list[datetime]) -> None:
        for gains in (True, False):
            last = set[Any]()
            for t in moments:
                was, now = (self.able(c, m, place, t) for c in (self.before, self.after))
                turned = now - was if gains else was - now
                if turned != last:
                    since = t if t > self.moments[0] else None
                    self.found["acts"] |= {(gains, m, place, since, *each) for each in turned}
                last = turned

    @staticmethod
    def able(c: Side, m: str, place: str, t: datetime) -> set[tuple[str, str]]:
        if m not in c.members or place not in c.place:
            return set()
        p = c.person(m, t)
        able = {("moderate", r) for r in c.ranks if c.moderate(p, c.as_rank(r), place)}
        able |= {("assign", r) for r in c.ranks if c.acts(p) and c.assign(p, r, None, place, t)}
        return able | {("manage", r) for r in c.ranks if c.acts(p) and c.manage(p, r)}


def as_it_is(seed: int, count: int = 4) -> Counter[str]:
    """Plan changes in one community; raises ``AssertionError`` where letters say more or less than differs."""
    rng, counts = Random(seed), Counter[str]()
    made = with_a_directory(with_more(with_a_head(generate(rng), rng), rng), rng)
    for row in made.members:
        row.setdefault("email", f"{row['key']}@river.example")
    c, now = made.open(), datetime.now(UTC)
    before = side(made.texts()["charter.yaml"], c.names)
    for _ in range(count):
        edits = [of_a_directory(rng, c)] if rng.random() < 0.2 else some_edits(rng, c)
        plan = None
        with suppress(AskAboveError):
            plan = c.plan(*edits)
        # another key is the same thing where nothing else differs, and two things else: neither is read
        if plan is None or plan.is_empty or any(isinstance(each, ItemRename) for each in edits):
            continue
        after = side(plan.texts["charter.yaml"], plan.after)
        moments = sorted(before.moments(now) | after.moments(now))
        told, differs = Letters(plan, after).told, Differing(before, after, moments).found
        heard = {m for m, row in after.members.items() if row["email"]}
        for what, found in differs.items():
            facts = {fact for fact in found if fact[what in ("answers", "acts")] in heard}
            if what == "answers":
                held_to(told[what], facts, moments, (seed, edits))
            else:
                assert told[what] == facts, (seed, edits, what, told[what] ^ facts)
            counts.update([what] * bool(facts))
    return counts


def held_to(told: set[Any], facts: set[Any], moments: list[datetime], which: Any) -> None:
    """Compare what is said of capabilities; of one's own things nothing is said where it is so of anybody's."""
    said = {
        (gains, m, cap, q, n)
        for gains, m, cap, q, since, until in told
        for n, t in enumerate(moments)
        if (since or t) <= t and (until is None or t < until)
    }
    besides = {
        (gains, m, cap.removesuffix(".all") + ".own", q, n) for gains, m, cap, q, n in said if cap.endswith(".all")
    }
    assert said <= facts, (*which, "said", said - facts)
    assert facts - said <= besides, (*which, "not said", facts - said - besides)


if __name__ == "__main__":
    through_seeds(as_it_is)
