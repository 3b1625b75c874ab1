"""Hold a tally against the states that a community went through: what was allowed then, and what is now (rule 5, 6).

Also through what each action was allowed.
"""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import TYPE_CHECKING, Final, NamedTuple

from ask_above.ask.audit.log import TEXTS
from ask_above.ask.audit.states import States
from ask_above.charter.moments import Instant
from ask_above.charter.names import MEMBER_MARK, RANK_MARK, among_keys
from ask_above.charter.rules import ACT_WORDS, Act
from ask_above.decide.acts import GOES_WITH, ActAsked, act_of
from ask_above.decide.answer import Answer
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import VISITOR, Decider
from ask_above.decide.gains import Handing
from ask_above.decide.layers import LayerName
from ask_above.decide.names import Names
from ask_above.decide.profile import Asked, Profile
from ask_above.decide.walk import closed_gate, holders_at, ranks_at
from ask_above.errors import AmbiguousNameError, AskAboveError, UnknownNameError
from ask_above.people.directory import NameKind
from ask_above.people.register import Assignment

if TYPE_CHECKING:
    import pandas as pd


_LABEL: Final = {
    LayerName.AUTOMATIC: "override {}",
    LayerName.RANK: "override {}",
    LayerName.GROUP: "group {}",
    LayerName.MEMBER: "exception",
}
_MOST_KEPT: Final = 200_000
"""How much is kept of what was worked out, so that it stays small however long the log."""


class Rest(NamedTuple):
    """What something that was done rests on: capabilities, as bits, at a place."""

    place: int
    mask: int


class Use(NamedTuple):
    """A capability that was used, and through what.

    ``through`` is a rank's key, ``owner``, ``override RANK in PLACE``, ``group KEY in PLACE``, ``exception in PLACE``.
    """

    through: str
    capability: str


def rests_of(decider: Decider, asked: Asked, capability: str, place: int) -> list[Rest]:
    """Return what it takes to use a capability: itself, what it implies and needs, and to see the place (rule 5.6)."""
    compiled = decider.compiled
    return [Rest(place, compiled.rests(capability, place))] if asked.profile else []


def rests_of_act(decider: Decider, asked: Asked, act: ActAsked, at: Instant) -> list[Rest]:
    """Return what it took to do an act: each capability with which alone it was allowed, and what it handed on."""
    compiled, place = decider.compiled, decider.compiled.place_at[act.place]
    if asked.profile is None:
        return []
    rule = compiled.charter.rules.act({Act.UNASSIGN: Act.ASSIGN}.get(act.name, act.name))
    able = decider.reckoner.usable(asked.profile, place)
    rests = []
    for key in [act.using] if act.using else rule.using:
        if able & compiled.catalogue.bit[key] and (
            act.name != Act.MODERATE or act._replace(using=key).put(decider, asked, at)
        ):
            rests += rests_of(decider, asked, key, place)
    target = act.acted_on(decider, at)
    if act.name in (Act.ASSIGN, Act.UNASSIGN) and rule.hand_on != "any":
        handing = Handing(decider.reckoner, place, asked.profile)
        rank = compiled.charter.ranks[act.rank or ""]
        if act.name == Act.ASSIGN:
            rests += [Rest(gain.place, gain.mask) for gain in handing.brought(rank, target)]
        elif target is not None:
            rests += [Rest(gain.place, gain.mask) for gain in handing.lost(rank, target)]
    return rests


def uses(compiled: CompiledCharter, profile: Profile, rest: Rest) -> Iterator[Use]:
    """Yield through what each of some capabilities was held at a place, the highest rank first.

    A rank's grant or a word suffices where it alone, without all else that gives, would still bring the capability:
    what denies and bars stays (rule 5.4). What an unbounded rank holds nothing takes.
    """
    ranks = ranks_at(compiled, profile, rest.place)
    gated = closed_gate(compiled, profile, rest.place) is not None
    given, taken = ([], 0) if gated else _said(compiled, profile, rest.place)
    for rank in ranks:
        mask = rest.mask if rank in compiled.unbounded else 0 if gated else compiled.carried[rank] & rest.mask & ~taken
        yield from (Use(compiled.ranks[rank].key, key) for key in compiled.catalogue.names(mask))
    for label, mask in given:
        yield from (Use(label, key) for key in compiled.catalogue.names(mask & rest.mask))


def _said(compiled: CompiledCharter, profile: Profile, place: int) -> tuple[list[tuple[str, int]], int]:
    """Return the words that give somebody something at a place, with what is not taken again; and all that is taken."""
    holders = holders_at(compiled, profile, place)
    given: list[tuple[str, int]] = []
    taken = bars = 0
    for here in compiled.chains[place]:
        sayings = compiled.sayings_at(here)
        turns = sayings.of(holders)
        own = compiled.own_saying(here, profile.exceptions)
        for saying in turns if own is None else [*turns, own]:
            denied = saying.deny
            given = [(label, mask & ~denied) for label, mask in given]
            if not profile.pending or saying.layer not in (LayerName.GROUP, LayerName.MEMBER):
                given.append(
                    (f"{_LABEL[saying.layer].format(saying.holder)} in {compiled.places[here].key}", saying.allow)
                )
            taken |= denied
        for key, bar in sayings.bars.items():
            bars |= bar if key in holders else 0
        entry = compiled.exception(here, profile.exceptions)
        bars |= compiled.word_of(entry).bar if entry else 0
    return [(label, mask & ~bars) for label, mask in given], taken | bars


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

    ``uses`` are the capabilities that it rested on, and through what each was held; empty for what was not allowed.
    """

    deed: Deed
    times: int
    first: Instant
    last: Instant
    state: int
    allowed: bool | None
    now: bool | None
    unknown: tuple[str, str] | None = None
    uses: frozenset[Use] = frozenset()


class Turn(NamedTuple):
    """Where an answer turned from yes to no: the change, the assignment that was over then, or the one that began."""

    change: int | None = None
    ended: Assignment | None = None
    began: Assignment | None = None
    at: Instant = 0


class Judge:
    """Answers about deeds at moments; who somebody was then is worked out once."""

    def __init__(self, states: States, now: Instant) -> None:
        self.states, self.now = states, now
        self._asked: dict[tuple[int, str, Instant], Asked] = {}
        self._now: dict[Deed, bool | None] = {}
        self._turns: dict[tuple[Deed, Instant], Turn | None] = {}
        self._uses: dict[tuple[int, object, Rest], frozenset[Use]] = {}

    def judged(self, tallied: pd.DataFrame) -> Iterator[Judged]:
        """Yield every deed of a tally."""
        columns = [tallied[name].tolist() for name in (*TEXTS, "times", "first", "last")]
        for *texts, times, first, last in zip(*columns, strict=True):
            deed = Deed(*texts)
            yield self._judged(Judged(deed, times, first, last, self.states.position(first), None, None))

    def _judged(self, row: Judged) -> Judged:
        try:
            answer = self.answer(row.deed, row.state, row.first)
        except (UnknownNameError, AmbiguousNameError) as error:
            return row._replace(now=self._allowed_now(row.deed), unknown=(error.what, error.name))
        except AskAboveError as error:
            return row._replace(unknown=("action", f"{row.deed.action}: {error}"))
        uses = self.uses(row.deed, row.state, row.first) if answer else frozenset()
        return row._replace(allowed=bool(answer), now=self._allowed_now(row.deed), uses=uses)

    def answer(self, deed: Deed, state: int, at: Instant) -> Answer:
        """Answer whether a deed is allowed in a state at a moment; raises for a name that nothing has there."""
        names, asked = self.states.states[state].names, self._who(state, deed.member, at)
        if deed.action in ACT_WORDS:
            for person in [deed.target] if deed.action == Act.MODERATE else [deed.to, deed.of]:
                if not names.directory.find(person.removeprefix(MEMBER_MARK), NameKind.MEMBER):
                    self._known(state, person)
            return _act(names, deed).put(names.decider, asked, at)
        author = deed.author or None
        if author is not None:
            self._known(state, author)
        return names.decider.may(asked, names.capability(deed.action, asked, author), names.place_number(deed.place))

    def _who(self, state: int, member: str, at: Instant) -> Asked:
        known = self._asked.get((state, member, at))
        if known is None:
            if len(self._asked) > _MOST_KEPT:
                self._asked.clear()
            self._known(state, member)
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

    def _known(self, state: int, member: str) -> None:
        """Raise where there was no such member: names are keys here, and nobody looks for the nearest of them."""
        nobody = not member or member == VISITOR or member.startswith(RANK_MARK)
        if not nobody and member not in self.states.states[state].names.register.members:
            raise UnknownNameError("member", member)

    def uses(self, deed: Deed, state: int, at: Instant) -> frozenset[Use]:
        """Return what a deed that was allowed rested on, and through what (rule 11.2)."""
        names, asked = self.states.states[state].names, self._who(state, deed.member, at)
        decider, owner = names.decider, frozenset[Use]()
        if deed.action in ACT_WORDS:
            rests = rests_of_act(decider, asked, _act(names, deed), at)
        else:
            capability = names.capability(deed.action, asked, deed.author or None)
            rests = rests_of(decider, asked, capability, names.place_number(deed.place))
            by = among_keys("owner", decider.compiled.rank_at)
            owner = frozenset([Use(by, capability)]) if asked.owner else owner
        found = [self._used(state, decider.compiled, asked, rest) for rest in rests]
        # most deeds rest on one place alone: what is kept is then the same for all that are alike
        return found[0] if len(found) == 1 and not owner else owner.union(*found)

    def _used(self, state: int, compiled: CompiledCharter, asked: Asked, rest: Rest) -> frozenset[Use]:
        key = state, asked.profile, rest
        known = self._uses.get(key)
        if known is None:
            if len(self._uses) > _MOST_KEPT:
                self._uses.clear()
            known = self._uses[key] = frozenset(uses(compiled, asked.profile, rest) if asked.profile else ())
        return known

    def turn(self, deed: Deed, at: Instant) -> Turn | None:
        """Return where the answer last turned to the no that it is at a moment; ``None`` where it was never a yes.

        It is asked just before each edge: of the community's changes, and of the periods of those the deed is about.
        """
        if len(self._turns) > _MOST_KEPT:
            self._turns.clear()
        way: list[Instant] = []
        last: Turn | None = None
        edge = self._edge(deed, at)
        while edge is not None:
            if (deed, edge) in self._turns:
                last = self._turns[deed, edge]
                break
            way.append(edge)
            if self._yes(deed, self.states.position(edge - 1), edge - 1):
                last = self._turn_at(deed, edge)
                break
            edge = self._edge(deed, edge - 1)
        self._turns.update(dict.fromkeys(((deed, each) for each in way), last))
        return last

    def _edge(self, deed: Deed, at: Instant) -> Instant | None:
        """Return the last moment not after another at which the answer may have turned."""
        state = self.states.position(at)
        edges = [self.states.states[state].since] if state else []
        edges += [asked.since for asked in self.parties(deed, state, at) if asked.since is not None]
        return max(edges, default=None)

    def parties(self, deed: Deed, state: int, at: Instant) -> Iterator[Asked]:
        """Yield whom an answer hangs on, as they stood: who did it, and to whom it was done."""
        names = self.states.states[state].names
        with suppress(AskAboveError):
            yield self._who(state, deed.member, at)
        with suppress(AskAboveError):
            target = _act(names, deed).acted_on(names.decider, at) if deed.action in ACT_WORDS else None
            if target is not None:
                yield target

    def _yes(self, deed: Deed, state: int, at: Instant) -> bool:
        try:
            return bool(self.answer(deed, state, at))
        except AskAboveError:
            return False

    def _turn_at(self, deed: Deed, edge: Instant) -> Turn:

        state = self.states.position(edge)
        before = self.states.position(edge - 1)
        if state != before and self._yes(deed, before, edge):
            return Turn(self.states.states[state].number, at=edge)
        names = self.states.states[before].names
        for asked in self.parties(deed, before, edge - 1):
            given = names.register.of(asked.key) if asked.key else ()
            for assignment in given:
                if assignment.period.end == edge:
                    return Turn(ended=assignment, at=edge)
            for assignment in given:
                if assignment.period.start == edge:
                    return Turn(began=assignment, at=edge)
        return Turn(self.states.states[state].number if state != before else None, at=edge)


def _act(names: Names, deed: Deed) -> ActAsked:
    # a log has its columns for every row: what another act would need is passed over
    said = {"to": deed.to, "of": deed.of, "using": deed.using}
    more = {word: value for word, value in said.items() if value and GOES_WITH[word] == deed.action}
    return act_of(names, deed.action, deed.target or None, at=deed.place, **more)
