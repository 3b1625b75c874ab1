"""Three members take turns with changes within their reach: they come to nothing that none of them held."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import combinations
from random import Random
from typing import Any

import pytest
import yaml

from ask_above import Community
from ask_above.change.difference import Difference
from ask_above.change.parts import State
from ask_above.change.reach import Reach
from ask_above.charter.charter import Charter
from ask_above.charter.moments import ALWAYS, Instant, Period
from ask_above.decide.decider import Decider
from ask_above.decide.gains import as_active
from ask_above.people.register import Assignment, Member, Register
from seeds import seeds
from standard import as_yaml
from ways_up import AT, Search, small_charter

pytestmark = pytest.mark.slow

DAY = 86_400_000_000
PEOPLE = ("one", "two", "three")


def handed_on_as_held(rng: Random) -> str:
    """A charter of many ways up, in which one hands on what one holds alone, and nobody gives themselves a rank."""
    data: dict[str, Any] = yaml.safe_load(small_charter(rng))
    for act in (*data["rules"]["authority"].values(), data["rules"]["overrides"]):
        act["hand-on"] = "held" if "hand-on" in act else act.pop("hand-on", None) or "held"
    data["rules"]["authority"]["moderate"].pop("hand-on", None)
    data["groups"] = [{"key": "club", "confers": [rng.choice(["b", "c"])]}]
    return as_yaml(data)


class Conspiracy:
    """Three members, each with a rank of their own; ``now`` goes on as they wait."""

    def __init__(self, c: Community, rng: Random) -> None:
        self.rng, self.now = rng, AT
        members = {who: Member(who, name=who, status="active", joined="2020-01-01") for who in PEOPLE}
        given = {who: [Assignment(who, rng.choice("abcd"), "site", ALWAYS)] for who in PEOPLE}
        self.state = Decider(c.charter, c.register.changed(members, given))
        self.search = Search(c, "a", accomplice=False)
        self.search.people = list(PEOPLE)

    def turn(self) -> None:
        """Let somebody make some change, if it is within their reach; now and then a day passes."""
        if self.rng.random() < 0.1:
            self.now += DAY
        who = self.rng.choice(PEOPLE)
        charter, register = self.state.compiled.charter, self.state.people.register
        for charter_after, register_after in self.some_changes(charter, register):
            later = Decider(charter_after, register_after)
            sides = State(charter, register), State(charter_after, register_after)
            difference = Difference(*sides, self.now)
            if difference and not Reach(self.state, later, difference, self.now).refusals(who):
                self.state = later
                return

    def some_changes(self, charter: Charter, register: Register) -> Iterator[tuple[Charter, Register]]:
        edits = list(self.search.edits(charter))
        for _ in range(6):
            yield self.rng.choice(edits), register
            yield charter, self._people(charter, register)
            yield self.rng.choice(edits), self._people(charter, register)

    def _people(self, charter: Charter, register: Register) -> Register:
        whom = self.rng.choice(PEOPLE)
        if self.rng.random() < 0.4:
            return register.changed({whom: self.rng.choice(list(self.search.records(register.members[whom])))}, {})
        given = list(register.of(whom))
        rank = self.rng.choice([key for key, each in charter.ranks.items() if not each.automatic])
        place = self.rng.choice(list(charter.places))
        if given and self.rng.random() < 0.5:
            given.remove(self.rng.choice(given))
        if self.rng.random() < 0.7:
            start: Instant | None = self.now + DAY * self.rng.choice([1, 2]) if self.rng.random() < 0.3 else None
            end = self.now + DAY * 3 if self.rng.random() < 0.3 else None
            given.append(Assignment(whom, rank, place, Period(start, end, "2030-01-01" if start else "", "")))
        return register.changed({}, {whom: given})


def held_at_first(state: Decider, place: str) -> int:
    """What any of them holds at a place, as if active, alone or with some of the ranks that anybody may join."""
    compiled, found = state.compiled, 0
    at = compiled.place_at[place]
    free = [rank.position for rank in compiled.ranks if rank.open and not rank.kept_by and not rank.automatic]
    for who in PEOPLE:
        profile = as_active(state.people.ask(who, AT))
        for size in range(len(free) + 1):
            for some in combinations(free, size):
                more = profile._replace(placed=profile.placed | {(each, 0) for each in some})
                found |= state.reckoner.held(more, at).mask
    return found


@pytest.mark.parametrize("seed", seeds(8))
def test_what_they_come_to_use_one_of_them_held_at_first(seed: int) -> None:
    rng = Random(seed)
    conspiracy = Conspiracy(Community.from_texts({"charter.yaml": handed_on_as_held(rng)}), rng)
    first = conspiracy.state
    held = {place: held_at_first(first, place) for place in first.compiled.place_at}
    names = first.compiled.catalogue.names
    for n in range(14):
        conspiracy.turn()
        state = conspiracy.state
        for who in PEOPLE:
            asked = state.people.ask(who, conspiracy.now)
            for place, at in state.compiled.place_at.items():
                beyond = state.usable(asked, at) & ~held[place]
                assert not beyond, (seed, n, who, place, names(beyond))
