"""Hold a tally against the states that a community went through: what was allowed then, and what is now (rule 5, 6)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING, NamedTuple

from ask_above.ask.acts import NAMES, act_of
from ask_above.ask.audit.log import TEXTS
from ask_above.ask.audit.states import States
from ask_above.charter.moments import Instant
from ask_above.decide.answer import Answer
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import VISITOR
from ask_above.decide.layers import LayerName
from ask_above.decide.names import Names
from ask_above.decide.profile import Asked, Profile
from ask_above.decide.walk import layers, ranks_at
from ask_above.errors import AskAboveError, UnknownNameError
from ask_above.people.register import Assignment

if TYPE_CHECKING:
    import pandas as pd


class Deed(NamedTuple):
    """What somebody did, as the log says it."""

    member: str
    action: str
    place: str
    author: str = ""
    target: str = ""
    to: str = ""
    of: str = ""
    using: str = ""


class Judged(NamedTuple):
    """A deed in one stretch of time, and whether it was allowed: ``None`` where a name in it is unknown.

    ``by`` is the key of the rank that it was done through, else ``override RANK in PLACE``, ``group KEY`` or
    ``exception in PLACE``, ``owner`` for the owner; empty for what was not allowed and for acts.
    """

    deed: Deed
    times: int
    first: Instant
    last: Instant
    state: int
    allowed: bool | None
    now: bool | None
    unknown: tuple[str, str] | None = None
    by: str = ""


class Judge:
    """Answers about deeds at moments; who somebody was then is worked out once."""

    def __init__(self, states: States, now: Instant) -> None:
        self.states, self.now = states, now
        self._asked: dict[tuple[int, str, Instant], Asked] = {}
        self._now: dict[Deed, bool | None] = {}

    def judged(self, tallied: pd.DataFrame) -> Iterator[Judged]:
        """Yield every deed of a tally."""
        columns = [tallied[name].tolist() for name in (*TEXTS, "times", "first", "last")]
        for *texts, times, first, last in zip(*columns, strict=True):
            deed = Deed(*texts)
            state = self.states.position(first)
            try:
                answer = self.answer(deed, state, first)
            except UnknownNameError as error:
                yield Judged(deed, times, first, last, state, None, self._allowed_now(deed), (error.what, error.name))
                continue
            except AskAboveError as error:
                yield Judged(deed, times, first, last, state, None, None, ("action", f"{deed.action}: {error}"))
                continue
            by = self._through(deed, state, first) if answer else ""
            yield Judged(deed, times, first, last, state, bool(answer), self._allowed_now(deed), None, by)

    def answer(self, deed: Deed, state: int, at: Instant) -> Answer:
        """Answer whether a deed is allowed in a state at a moment; raises for a name that nothing has there."""
        names = self.states.states[state].names
        asked = self._who(state, deed.member, at)
        if deed.action in NAMES:
            return act_of(
                names,
                deed.action,
                deed.target or None,
                at=deed.place,
                to=deed.to or None,
                of=deed.of or None,
                using=deed.using or None,
            ).put(names.decider, asked, at)
        place = names.place_number(deed.place)
        return names.decider.may(asked, names.capability(deed.action, asked, names.author(deed.author or None)), place)

    def _who(self, state: int, member: str, at: Instant) -> Asked:
        known = self._asked.get((state, member, at))
        if known is None:
            if len(self._asked) > 200_000:  # noqa: PLR2004 (what is kept stays small however long the log)
                self._asked.clear()
            known = self.states.states[state].names.asked(member or VISITOR, at)
            self._asked[state, member, at] = known
        return known

    def _allowed_now(self, deed: Deed) -> bool | None:
        if deed not in self._now:
            try:
                self._now[deed] = bool(self.answer(deed, len(self.states.states) - 1, self.now))
            except AskAboveError:
                self._now[deed] = None
        return self._now[deed]

    def _through(self, deed: Deed, state: int, at: Instant) -> str:
        """Return the highest rank there that carries what was used; else whose word at a place gave it."""
        if deed.action in NAMES:
            return ""
        names: Names = self.states.states[state].names
        asked, compiled = self._who(state, deed.member, at), names.decider.compiled
        if asked.owner:
            return "owner"
        capability = names.capability(deed.action, asked, names.author(deed.author or None))
        bit, place = compiled.catalogue.bit[capability], names.place_number(deed.place)
        held = ranks_at(compiled, asked.profile, place) if asked.profile else []
        carrying = [rank for rank in held if rank in compiled.unbounded or compiled.carried[rank] & bit]
        if carrying:
            return compiled.ranks[carrying[0]].key
        return _by_word(compiled, asked.profile, place, bit) if asked.profile else ""

    def ended(self, deed: Deed, state: int, at: Instant) -> Assignment | None:
        """Return the assignment with whose end a deed was not allowed any more; ``None`` where none is to blame."""
        given = self.states.states[state].names.register.of(deed.member)
        over = [each for each in given if each.period.end is not None and each.period.end <= at]
        for each in sorted(over, key=lambda a: -(a.period.end or 0)):
            if self.answer(deed, state, (each.period.end or 0) - 1):
                return each
        return None

    def turned_by(self, deed: Deed, state: int, at: Instant) -> int | None:
        """Return the number of the change since which a deed was not allowed any more; ``None`` where it never was."""
        for position in range(state, 0, -1):
            try:
                if self.answer(deed, position - 1, at):
                    return self.states.states[position].number
            except AskAboveError:
                continue
        return None


def _by_word(compiled: CompiledCharter, profile: Profile, place: int, bit: int) -> str:
    """Return whose word it was that gave a capability where no rank carries it: the last that allows it (rule 5.4)."""
    found = ""
    for layer in layers(compiled, profile, place):
        if not layer.allow & bit:
            continue
        key = next(key for key, word in layer.speakers if word.allow & bit)
        where = compiled.places[layer.place].key
        if layer.name is LayerName.MEMBER:
            found = f"exception in {where}"
        else:
            found = f"group {key}" if layer.name is LayerName.GROUP else f"override {key} in {where}"
    return found
