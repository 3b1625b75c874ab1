"""Whether a change is within somebody's reach: what it takes, what must be so, and what it does (rules 9.2 to 9.9)."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property

from ask_above.change.conditions import Conditions
from ask_above.change.difference import Difference
from ask_above.change.effect import Effect
from ask_above.change.refusal import Refusal
from ask_above.change.rights import Rights
from ask_above.change.turns import Turns
from ask_above.charter.moments import Instant
from ask_above.charter.rules import ActRule
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked

_MOST_NAMED = 3


class Reach:
    """Holds one change to what members may do.

    ``old`` and ``new`` answer for the two sides of the difference. ``taken_out`` are members whom the actor added, and
    takes out again by taking that change back. ``outside`` names the program outside that makes it, if one does.
    """

    def __init__(
        self,
        old: Decider,
        new: Decider,
        difference: Difference,
        now: Instant,
        taken_out: frozenset[str] = frozenset(),
        outside: str = "",
    ) -> None:
        self.old, self.new, self.difference, self.now = old, new, difference, now
        self.rights = Rights(old, new, difference, now, taken_out)
        self.conditions = Conditions(difference, now, outside)
        self.effect = Effect(Turns(old, new, difference, now))

    def refusals(self, actor: str) -> list[Refusal]:
        """Return every reason why the change is out of a member's reach; none where it is within."""
        return list(dict.fromkeys(self._all(self.old.people.ask(actor, self.now))))

    def _all(self, actor: Asked) -> Iterator[Refusal]:
        # nobody passes conditions by but the keeper of the files
        yield from (each._replace(passable=False) for each in self.conditions.refusals)
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

    def who_could(self, but: str) -> list[str]:
        """Return members who could make the change, the owner first, a few at most; ``but`` is left out."""
        owner = self.old.compiled.charter.owner
        keys = [key for key in ([owner] if owner else []) if key in self.old.people.register.members]
        keys += [key for key in self.old.people.register.members if key not in (owner, but)]
        named = {*self.difference.members}
        found: list[str] = []
        failing: set[object] = set()  # whoever is like these, and does not differ themselves, could not make it either
        for key in keys:
            form = self.old.ready.class_of(key)
            if key == but or (form in failing and key not in named):
                continue
            asked = self.old.people.ask(key, self.now)
            if asked.acts and next(self._all(asked), None) is None:
                found.append(key)
                if len(found) == _MOST_NAMED:
                    break
            elif key not in named:
                failing.add(form)
        return found
