"""One question, one answer (rules 5 and 6)."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator
from typing import TYPE_CHECKING, Final

from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.names import listed
from ask_above.charter.rules import Act, Over
from ask_above.decide.answer import Account, Answer
from ask_above.decide.classes import MemberClasses
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.explain import Explainer
from ask_above.decide.kept import Keeper
from ask_above.decide.profile import Asked, People, ask_rank, ask_visitor
from ask_above.decide.walk import Reckoner, lists_that_count, standing
from ask_above.decide.words import in_place
from ask_above.people.register import Register

if TYPE_CHECKING:
    from ask_above.decide.authority import Case


VISITOR: Final = "visitor"
"""Someone who is not signed in."""


class Order:
    """Which number each member has in the register's order."""

    def __init__(self, decider: Decider) -> None:
        self._members = decider.people.register.members
        self.number = {key: n for n, key in enumerate(decider.people.register.keys())}

    def after(self, decider: Decider) -> Order | None:
        """Return it after a change, where the members are the same."""
        return self if decider.people.register.members is self._members else None


class Decider(Keeper):
    """Answers questions about one charter and one register; takes the moment as an argument."""

    def __init__(self, charter: Charter, register: Register) -> None:
        super().__init__()
        self.compiled = CompiledCharter(charter)
        self.people = People(self.compiled, register)
        self.reckoner = Reckoner(self.compiled)
        self.ready = MemberClasses(self.compiled, register)

    def after(self, charter: Charter, register: Register) -> Decider:
        """Return what answers after a change; all that the change does not touch is shared."""
        kept = (self.compiled, frozenset[int]()) if charter is self.compiled.charter else self.compiled.after(charter)
        if kept is None:
            return Decider(charter, register)
        compiled, touched = kept
        other = Decider.__new__(Decider)
        other.compiled = compiled
        other.people = People(compiled, register)
        other.reckoner = self.reckoner if compiled is self.compiled else self.reckoner.after(compiled, touched)
        other.ready = self.ready.after(compiled, register)
        self._hand_on(other)
        return other

    def alike(self, at: Instant) -> Iterator[tuple[Asked, list[str]]]:
        """Yield one of each who are equal in all that counts, as they stand at an instant, and the keys of them all."""
        return ((self.people.ask(keys[0], at), keys) for keys in self.ready.alike().values())

    def in_order(self, keys: Iterable[str]) -> list[str]:
        """Return members in the register's order."""
        number = self.keep(Order).number
        return sorted(filter(number.__contains__, keys), key=number.__getitem__)

    def each(self, keys: Collection[str], at: Instant) -> Iterator[Asked]:
        """Yield some members as they stand at an instant, in the register's order."""
        self.people.register.read(keys)
        return (self.people.ask(key, at) for key in self.in_order(keys))

    def usable(self, asked: Asked, place: int) -> int:
        """Return all that someone can use at a place."""
        if asked.rules_all:
            return self.compiled.has_meaning(place)
        return self.reckoner.usable(asked.profile, place) if asked.profile else 0

    def may(self, asked: Asked, capability: str, place: int) -> Answer:
        """Answer whether someone may use a capability, given by its full name, at a place."""
        allowed = bool(self.usable(asked, place) & self.compiled.catalogue.bit[capability])
        return Answer(allowed, self.account, (asked, capability, place))

    def account(self, asked: Asked, capability: str, place: int) -> Account:
        """Tell why an answer on a capability is what it is."""
        return self.explainer(asked, place).account(capability, notes=self.notes(asked, capability, place))

    def explainer(self, asked: Asked, place: int) -> Explainer:
        """Return what tells of somebody at a place why each answer is what it is."""
        return Explainer(self.compiled, self.people.register, asked, place)

    def account_of(self, who: str, capability: str, place: str, at: Instant) -> Account:
        """Tell the same for someone at a moment, all given as they are asked about."""
        return self.account(self.asked(who, at), capability, self.compiled.place_at[place])

    def asked(self, who: str, at: Instant) -> Asked:
        """Return who is meant by ``petra``, ``rank:warden`` or ``visitor``; the names must be known."""
        if who == VISITOR:
            return ask_visitor(self.compiled)
        if who.startswith("rank:"):
            return ask_rank(self.compiled, self.compiled.charter.ranks[who[5:]])
        return self.people.ask(who, at)

    def notes(self, asked: Asked, capability: str, place: int) -> tuple[str, ...]:
        """Say whom a capability that moderates may be used on (rules 6.3 and 6.4)."""
        rule = self.compiled.charter.rules.act(Act.MODERATE)
        if capability not in rule.using:
            return ()
        where = in_place(self.compiled.places[place].called, site=place == 0)
        if asked.rules_all:
            return (f"This reaches anyone {where} but themselves.",)
        if not asked.acts:
            return (f"This reaches nobody: only an active member may act on others, and {asked.label} is not one.",)
        own = standing(self.compiled, asked.profile, place)
        rank = self.compiled.ladder.rank(own)
        title = rank.called if rank else "any rank"
        reaches = {
            Over.BELOW: f"only those below {title}",
            Over.LEVEL: f"only those below {title} or level with it",
            Over.ANYONE: "anyone but the owner",
        }[rule.over]
        return (f"This reaches {reaches} {where}{self._list_note(asked, capability, place)}.",)

    def _list_note(self, asked: Asked, capability: str, place: int) -> str:
        profile, act = asked.profile, Act.MODERATE
        asked_for = lists_that_count(self.compiled, profile, place, act, capability) if profile else []
        if not asked_for or any(Act.MODERATE not in rank.lists for rank in asked_for):
            return ""
        lists = [rank.lists[Act.MODERATE] for rank in asked_for]
        left_out = [r.called for r in self.compiled.ranks if not any(each.admits(r.key) for each in lists)]
        return f", and not {listed(left_out, 'or')}" if left_out else ""

    # -- acts

    def case(self, actor: Asked, place: int, at: Instant, *, in_change: bool = False) -> Case:
        """Return a question about an act, to be put; with ``in_change`` as a part of a change."""
        from ask_above.decide.authority import Case

        return Case(self.reckoner, self.people, actor, place, at, in_change=in_change)
