"""Whether a change is within somebody's reach: what it takes, what must be so, and what it does (rules 9.2 to 9.9)."""

from __future__ import annotations

from collections.abc import Iterator
from copy import copy
from functools import cached_property

from ask_above.change.conditions import Conditions
from ask_above.change.difference import Difference
from ask_above.change.effect import Effect
from ask_above.change.refusal import Refusal
from ask_above.change.rights import OTHERWISE, Making, Rights
from ask_above.change.turns import Turns
from ask_above.charter.moments import Instant
from ask_above.charter.rules import ActRule
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked


class Reach:
    """Holds one change to what members may do.

    ``old`` and ``new`` answer for the two sides of the difference, ``made`` says how it is made.
    """

    def __init__(
        self, old: Decider, new: Decider, difference: Difference, now: Instant, made: Making = OTHERWISE
    ) -> None:
        self.old, self.new, self.difference, self.now = old, new, difference, now
        self.rights = Rights(old, new, difference, now, made)
        self.conditions = Conditions(difference, now, made.outside)
        self.effect = Effect(Turns(old, new, difference, now))

    def made_by(self, made: Making) -> Reach:
        """Return the same change, made otherwise: what it does is worked out once."""
        other = copy(self)
        other.rights = Rights(self.old, self.new, self.difference, self.now, made)
        return other

    def refusals(self, actor: str) -> list[Refusal]:
        """Return every reason why the change is out of a member's reach; none where it is within."""
        return list(dict.fromkeys(self._all(self.old.people.ask(actor, self.now))))

    def _all(self, actor: Asked) -> Iterator[Refusal]:
        # nobody passes conditions by but the keeper of the files
        yield from (refusal._replace(passable=False) for refusal in self.conditions.refusals)
        if actor.rules_all:
            return
        if actor.acts and self.rights.by_oneself_alone(actor.key or ""):
            yield from self.rights.of_oneself(actor)
            return
        yield from self.rights.refusals(actor)
        # what is the owner's alone is refused already, and the two sides need not have the same capabilities then
        if actor.acts and not self.rights.owners:
            yield from self.effect.refusals(actor, self._rule)

    @cached_property
    def _rule(self) -> ActRule:
        return self.rights.rule()

    def candidates(self, but: str) -> Iterator[str]:
        """Yield members who might be able to make the change, the owner first, each kind once; ``but`` is left out."""
        owner = self.old.compiled.charter.owner
        keys = [key for key in ([owner] if owner else []) if key in self.old.people.register.members]
        keys += [key for key in self.old.people.register.members if key not in (owner, but)]
        named = {*self.difference.members}
        seen: set[object] = set()  # whoever is like these, and does not differ themselves, is no other case
        for key in keys:
            form = self.old.ready.class_of(key)
            if key == but or (form in seen and key not in named):
                continue
            if self.old.people.ask(key, self.now).acts:
                yield key
                seen |= set() if key in named else {form}
