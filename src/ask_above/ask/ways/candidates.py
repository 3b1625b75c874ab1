"""Single changes that may change the answer on a capability: tried one by one in :mod:`ask_above.ask.ways.search`."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple, TypeAlias

from ask_above.change.people import Assign, MemberSet, MemberStatus, Unassign
from ask_above.change.places import Say, SetGate, SetLike
from ask_above.change.ranks import Grant, RankMove, Withhold
from ask_above.change.typed import typed
from ask_above.change.whole import CharterRemove
from ask_above.charter import changes
from ask_above.charter.catalogue import Words
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import ALWAYS, Instant
from ask_above.charter.names import SITE, listed
from ask_above.charter.places import Gate, GateTerm, Override, Place
from ask_above.charter.where import Where
from ask_above.decide.authority import conditions
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked
from ask_above.decide.walk import held, passes, ranks_at
from ask_above.decide.words import in_place
from ask_above.people.register import OUT, Assignment, Member, Register, Status

Files: TypeAlias = tuple[Charter, Register]


class Candidate(NamedTuple):
    """One change: what it does in words, where it is written, how many lines it takes, and the change itself.

    ``kind`` is grant, withhold, override, exception, set, assignment, group, gate, status, order, list, rule or limit.
    ``command`` makes it. ``unless`` names a milder change; where that is enough, this one is left out.
    """

    kind: str
    what: str
    where: Where
    lines: int
    apply: Callable[[Charter, Register], Files]
    command: str
    unless: str = ""


class CapabilityCandidates:
    """What may change the answer whether someone may use a capability, by its full name, at a place."""

    def __init__(self, decider: Decider, asked: Asked, capability: str, place: int, at: Instant) -> None:
        self.decider, self.asked, self.capability, self.place, self.at = decider, asked, capability, place, at
        self.compiled: CompiledCharter = decider.compiled
        self.charter = self.compiled.charter
        self.chain = [self.charter.places[self.compiled.places[n].key] for n in reversed(self.compiled.chains[place])]
        self.ranks = (
            [self.compiled.ranks[n] for n in ranks_at(self.compiled, asked.profile, place)] if asked.profile else []
        )
        self.groups = [key for key in self.charter.groups if key in asked.groups]

    def giving(self) -> Iterator[Candidate]:
        """Yield changes that might give it to someone who may not use it."""
        yield from status(self.asked)
        missing = self._missing()
        for rank in self._granting():
            if missing:
                yield self._rank("grant", f"grant {listed(missing)} to {rank.called}", rank.key, missing)
        for place in self.chain:
            yield from self._words(place, "allow", missing)
            yield from self._cleared(place, ("deny", "bar"), self.compiled.rests(self.capability, self.place))
            yield from self._denied_only(place)
            yield from self._gate_opened(place)
        yield from self._assignments()
        yield from self._unassigned()
        yield from self._groups()
        yield from self._ranges()
        yield from self._unseen()

    def taking(self) -> Iterator[Candidate]:
        """Yield changes that might take it from someone who may use it."""
        names = (self.capability,)
        bit = self.compiled.catalogue.bit[self.capability]
        for rank in self._granting():
            if self.compiled.granted(rank) & bit:
                yield self._rank("withhold", f"withhold {self.capability} from {rank.called}", rank.key, names)
        for place in self.chain:
            yield from self._words(place, "deny", names)
            yield from self._cleared(place, ("allow",), bit)
            yield from self._words(place, "bar", names)
            yield from self._gate_closed(place)
        yield from self._unassigned()
        yield from self._assignments()
        yield from self._groups()
        yield from self._ranges()
        yield from locked(self.asked)

    def _granting(self) -> list[Rank]:
        """Return the ranks that may be edited of those held; in place of one kept outside, those that it builds on."""
        # a rank that something outside keeps may not be edited here; what it builds on may
        beyond = (key for rank in self.ranks if rank.kept_by for key in self._built_on(rank))
        keys = dict.fromkeys(rank.key for rank in self.ranks if not rank.kept_by and not rank.unbounded)
        keys |= dict.fromkeys(key for key in beyond if not self.charter.ranks[key].kept_by)
        return [self.charter.ranks[key] for key in keys]

    def _built_on(self, rank: Rank) -> Iterator[str]:
        for key in rank.builds_on:
            yield key
            yield from self._built_on(self.charter.ranks[key])

    def _missing(self) -> tuple[str, ...]:
        """Return what is not held of all that the capability rests on, less what the rest of it implies."""
        profile, catalogue = self.asked.profile, self.compiled.catalogue
        if profile is None:
            return ()
        mask = (
            self.compiled.rests(self.capability, self.place)
            & ~held(self.compiled, profile, self.place, gated=False).mask
        )
        names = catalogue.names(mask)
        return tuple(
            name
            for name in names
            if not any(other != name and catalogue.close(catalogue.bit[other]) & catalogue.bit[name] for other in names)
        )

    # -- the member (rules 4.2 to 4.4)

    def _assignments(self) -> Iterator[Candidate]:
        member = self.asked.member
        if member is None:
            return
        for place in self.chain:
            for rank in self.compiled.ranks:
                if rank.automatic or rank.kept_by or rank in self.ranks or not self._may_hold(rank, place):
                    continue
                given = Assignment(member.key, rank.key, place.key, ALWAYS)
                what = f"assign {rank.called} to {member.called} {self._at(place)}"
                yield Candidate("assignment", what, self._in_register(member), 1, assigning(given), _assign(given))

    @staticmethod
    def _in_register(member: Member) -> Where:
        """Return where an assignment of a member would be written: beside the file of members, or in the database."""
        return Where("assignments.csv" if member.where.file in ("", "members.csv") else member.where.file, 0, 0)

    def _may_hold(self, rank: Rank, place: Place) -> bool:
        """Whether the member meets the rank's own conditions, which bind everyone (rule 6.8)."""
        chain = self.compiled.chains[self.compiled.place_at[place.key]]
        met = conditions(self.decider.people, rank, self.asked, chain, self.at)
        return not any(step.holds is False for step in met)

    def _unassigned(self) -> Iterator[Candidate]:
        member = self.asked.member
        keys = {place.key for place in self.chain}
        for holding in self.asked.holdings if member else ():
            given = holding.assignment
            if given is not None and given.place in keys and member is not None:
                rank = self.charter.ranks[given.rank]
                what = f"unassign {rank.called} from {member.called} {self._at(self.charter.places[given.place])}"
                yield Candidate("assignment", what, given.where, 1, unassigning(given), _unassign(given))

    def _groups(self) -> Iterator[Candidate]:
        member = self.asked.member
        if member is None:
            return
        for key, group in self.charter.groups.items():
            title = group.called
            if key in member.groups:
                left = tuple(each for each in member.groups if each != key)
                what, changed = f"take {member.called} out of the group {title}", member._replace(groups=left)
            elif key not in self.asked.groups:
                what = f"put {member.called} into the group {title}"
                changed = member._replace(groups=(*member.groups, key))
            else:
                continue
            yield Candidate("group", what, member.where, 1, with_member(changed), regrouping(changed))

    # -- ranks and places (rules 3 and 5)

    def _rank(self, kind: str, what: str, rank: str, names: Sequence[str]) -> Candidate:
        change = changes.granting if kind == "grant" else changes.withholding
        edit = Grant(rank, names) if kind == "grant" else Withhold(rank, names)
        where = self.charter.ranks[rank].where
        return Candidate(kind, what, where, 1, lambda c, r: (change(c, rank, tuple(names)), r), typed(edit))

    def _at(self, place: Place) -> str:
        return in_place(self._told(place), site=place.parent is None)

    def _words(self, place: Place, word: str, names: Sequence[str]) -> Iterator[Candidate]:
        """Yield entries, new or longer, that allow, deny or bar it for those whom a place may speak of."""
        if not names:
            return
        holders = [(rank.key, rank.called) for rank in self.ranks if not rank.unbounded]
        holders += [(key, self.charter.groups[key].called) for key in self.groups]
        for key, title in holders:
            yield self._entry(place, place.overrides, word, names, Override(key), title)
        if self.asked.member:
            own = Override(self.asked.member.key)
            title = f"{self.asked.label} alone"
            yield self._entry(place, place.exceptions, word, names, own, title, member=True)

    def _entry(
        self,
        place: Place,
        entries: tuple[Override, ...],
        word: str,
        names: Sequence[str],
        of: Override,
        title: str,
        *,
        member: bool = False,
    ) -> Candidate:
        old = next((entry for entry in entries if (entry.of, entry.above) == (of.of, of.above)), None)
        lines = 1 if old or entries else 2
        what = f"{word} {title} {'from ' if word == 'bar' else ''}{listed(names)} {self._at(place)}"
        # a bar holds further down too: where denying is enough it is not proposed
        milder = f"deny {title} {listed(names)} {self._at(place)}" if word == "bar" else ""

        def apply(charter: Charter, register: Register) -> Files:
            changed = changes.saying(charter, place.key, of.of, word, names, above=of.above, member=member)
            return changed, register

        command = typed(Say(place.key, of.label, word, names, member))
        return Candidate(
            "exception" if member else "override", what, (old or place).where, lines, apply, command, milder
        )

    def _denied_only(self, place: Place) -> Iterator[Candidate]:
        """Yield entries that deny what they bar, which a nearer place may allow."""
        rests = self.compiled.rests(self.capability, self.place)
        for entry in place.overrides:
            names = self.compiled.catalogue.names(self._named(entry, "bar") & rests) if self._speaks(entry) else ()
            if names:
                found = self._entry(place, place.overrides, "deny", names, entry, entry.label)
                yield found._replace(what=f"{found.what} instead of barring it")

    def _cleared(self, place: Place, words: Sequence[str], mask: int) -> Iterator[Candidate]:
        """Yield entries less what they say of it, and the places less a whole override set."""
        own = self.asked.member.key if self.asked.member else None
        entries = [(override, False) for override in place.overrides if self._speaks(override)]
        entries += [(exception, True) for exception in place.exceptions if exception.of == own]
        for entry, member in entries:
            said = 0
            for word in words:
                said |= self._named(entry, word)
            names = self.compiled.catalogue.names(said & mask)
            if names:
                what = f"remove {listed(names)} from what is said of {entry.label} {self._at(place)}"
                command = typed(Say(place.key, entry.label, "clear", names, member))
                apply = _clearing(place, entry, names, member)
                yield Candidate("exception" if member else "override", what, entry.where, 1, apply, command)
        for key in place.like:
            left = tuple(each for each in place.like if each != key)
            what = f"remove the override set {key} from {self._told(place)}"
            yield Candidate("set", what, place.where, 1, _unlike(place, left), typed(SetLike(place.key, left)))
            yield from self._in_set(key, words, mask)

    def _in_set(self, key: str, words: Sequence[str], mask: int) -> Iterator[Candidate]:
        """Yield one entry of an override set less what it says by name, wherever places are like the set."""
        for entry in self.charter.override_sets[key].overrides:
            for word in words if self._speaks(entry) else ():
                said: Words = getattr(entry, word)
                names = [name for name in said if self.compiled.catalogue.bit.get(name, 0) & mask]
                for name in names if not self.asked.member or entry.of != self.asked.key else ():
                    what = f"remove {name} from what the override set {key} says of {entry.label}"
                    command = typed(CharterRemove(f"override-sets.{key}.{entry.label}.{word}", name))
                    yield Candidate("set", what, entry.where, 1, _less_in_set(key, entry, word, name), command)

    # -- the ladder, for ranges such as warden+ (rule 5.4), and what everything rests on (rule 5.6)

    def _ranges(self) -> Iterator[Candidate]:
        """Yield moves of the asker's ranks into and out of the ranges that speak of what is asked about."""
        rests = self.compiled.rests(self.capability, self.place)
        seen: set[tuple[str, ...]] = {tuple(self.charter.ranks)}
        for place in self.chain:
            sets = (override for key in place.like for override in self.charter.override_sets[key].overrides)
            for entry in (*place.overrides, *sets):
                word = self.compiled.word_of(entry)
                if not entry.above or not (word.allow | word.deny | word.bar) & rests:
                    continue
                for rank in self.ranks:
                    start = self.compiled.rank_at[entry.of]
                    if rank.key == entry.of or rank.kept_by:
                        continue
                    above, below = (None, entry.of) if rank.position <= start else (entry.of, None)
                    moved = changes.moved(self.charter, rank.key, above=above, below=below)
                    order = tuple(moved.ranks)
                    # two moves may come to the same ladder
                    if order in seen:
                        continue
                    seen.add(order)
                    spoken = (
                        f"above {self.charter.ranks[entry.of].called}"
                        if above
                        else f"below {self.charter.ranks[entry.of].called}"
                    )
                    what = f"move {rank.called} directly {spoken} on the ladder"
                    command = typed(RankMove(rank.key, above, below))
                    yield Candidate("order", what, rank.where, 1, ordering(rank.key, above, below), command)

    def _unseen(self) -> Iterator[Candidate]:
        """Yield that nothing rests on seeing a place any more."""
        if self.charter.rules.seeing is not None and self.place:
            what = f"remove rules.seeing ({self.charter.rules.seeing})"

            def apply(charter: Charter, register: Register) -> Files:
                return charter._replace(rules=charter.rules._replace(seeing=None)), register

            where = Where(self.charter.site.where.file or self.chain[0].where.file, 0, 0)
            yield Candidate("rule", what, where, 1, apply, typed(CharterRemove("rules.seeing")))

    def _named(self, entry: Override, word: str) -> int:
        catalogue = self.compiled.catalogue
        if word == "allow":
            return self.compiled.word_of(entry).allow & catalogue.close(catalogue.expand_all(entry.allow))
        return catalogue.expand_all(entry.deny if word == "deny" else entry.bar)

    def _speaks(self, entry: Override) -> bool:
        """Whether an entry speaks of someone with these ranks and groups."""
        if entry.of in self.groups:
            return True
        at = self.compiled.rank_at.get(entry.of)
        return any(rank.position == at or (entry.above and rank.position <= (at or 0)) for rank in self.ranks)

    # -- gates (rule 5.3)

    def _terms(self) -> list[tuple[GateTerm, str]]:
        terms = [(GateTerm(rank.key), rank.called) for rank in self.ranks]
        return terms + [(GateTerm(key, group=True), self.charter.groups[key].called) for key in self.groups]

    def _told(self, place: Place) -> str:
        return self.compiled.named[place.key].called

    def _gate_opened(self, place: Place) -> Iterator[Candidate]:
        gate, profile = place.gate, self.asked.profile
        if gate is None or profile is None or passes(self.compiled, profile, self.compiled.place_at[place.key]):
            return
        yield _gating(place, None, f"remove the gate of {self._told(place)}")
        for term, title in self._terms():
            # to admit somebody for certain the other terms go as well; the trial shows whom else that lets in
            more = gate._replace(any=(*gate.any, term), all=(), none=())
            if term not in gate.any and not gate.all and not gate.none:
                yield _gating(place, more, f"admit {title} through the gate of {self._told(place)}")
            elif term not in gate.any and gate.any:
                yield _gating(
                    place, gate._replace(any=(*gate.any, term)), f"admit {title} to {self._told(place)} as well"
                )
        for term in gate.all:
            left = gate._replace(all=tuple(each for each in gate.all if each != term))
            yield _gating(place, _or_none(left), f"remove {term} from 'all' at the gate of {self._told(place)}")
        for term in gate.none:
            left = gate._replace(none=tuple(each for each in gate.none if each != term))
            yield _gating(place, _or_none(left), f"remove {term} from 'none' at the gate of {self._told(place)}")

    def _gate_closed(self, place: Place) -> Iterator[Candidate]:
        gate = place.gate or Gate()
        for term, title in self._terms():
            what = f"exclude {title} by the gate of {self._told(place)}"
            yield _gating(place, gate._replace(none=(*gate.none, term)), what, lines=1 if place.gate else 2)
            if term in gate.any:
                left = gate._replace(any=tuple(each for each in gate.any if each != term))
                if left.any:  # with nothing left of 'any' the gate would ask for less, not more
                    yield _gating(place, left, f"strike {term} from 'any' at the gate of {self._told(place)}")


def status(asked: Asked) -> Iterator[Candidate]:
    """Yield the change of a member's status that does not count, or counts for little (rule 4.4)."""
    member = asked.member
    if member is None or member.is_active:
        return
    said = {"pending": "vouch for {}", "invited": "let {} accept the invitation", "locked": "unlock {}"}
    what = said.get(member.status, "bring {} back").format(member.called)
    verb = {"pending": "vouch", "invited": "accept"}.get(member.status, "restore")
    apply = becoming_active(member)
    yield Candidate("status", what, member.where, 1, apply, f"ask-above member {verb} {member.key}")


def locked(asked: Asked) -> Iterator[Candidate]:
    """Yield that a member is locked out."""
    member = asked.member
    if member is not None and member.is_active and not asked.owner:
        changed = member._replace(status="locked", was=member.status)
        command = typed(MemberStatus(member.key, "locked"))
        yield Candidate("status", f"lock {member.called} out", member.where, 1, with_member(changed), command)


def becoming_active(member: Member) -> Callable[[Charter, Register], Files]:
    """Return the change by which somebody becomes active, or comes back as they were (rule 4.7)."""

    def apply(charter: Charter, register: Register) -> Files:
        status = member.restored if member.status in OUT else "active"
        # a date in the past: whoever has been active once is not given what comes on joining again
        changed = register.with_member(member._replace(status=status, was="", joined=member.joined or "2000-01-01"))
        if member.status in (Status.PENDING, Status.INVITED) and not member.joined:
            has = {assignment.rank for assignment in register.of(member.key) if assignment.place == SITE}
            for rank in charter.ranks.values():
                if rank.on_joining and rank.key not in has:
                    changed = changed.assigned(Assignment(member.key, rank.key, SITE, ALWAYS))
        return charter, changed

    return apply


def with_member(changed: Member) -> Callable[[Charter, Register], Files]:
    """Return the change of a member's record."""
    return lambda charter, register: (charter, register.with_member(changed))


def assigning(given: Assignment) -> Callable[[Charter, Register], Files]:
    """Return the change that gives a rank."""
    return lambda charter, register: (charter, register.assigned(given))


def unassigning(given: Assignment) -> Callable[[Charter, Register], Files]:
    """Return the change that takes a rank."""
    return lambda charter, register: (charter, register.unassigned(given))


def _assign(given: Assignment) -> str:
    return typed(Assign(given.member, given.rank, given.place))


def _unassign(given: Assignment) -> str:
    return typed(Unassign(given.member, given.rank, given.place))


def regrouping(changed: Member) -> str:
    """Return the command that puts a member into these groups."""
    return typed(MemberSet(changed.key, {"groups": ";".join(changed.groups)}))


def ordering(rank: str, above: str | None, below: str | None) -> Callable[[Charter, Register], Files]:
    """Return the change that moves a rank."""
    return lambda charter, register: (changes.moved(charter, rank, above=above, below=below), register)


def _less_in_set(key: str, entry: Override, word: str, name: str) -> Callable[[Charter, Register], Files]:
    def apply(charter: Charter, register: Register) -> Files:
        here = charter.override_sets[key]
        words: Words = getattr(entry, word)
        rest = Words(tuple(each for each in words if each != name), words.where)
        left = Override(
            entry.of,
            entry.above,
            rest if word == "allow" else entry.allow,
            rest if word == "deny" else entry.deny,
            rest if word == "bar" else entry.bar,
            entry.where,
        )
        kept = tuple(
            left if override is entry or override.label == entry.label else override for override in here.overrides
        )
        kept = tuple(each for each in kept if each.allow or each.deny or each.bar)
        return charter._replace(override_sets={**charter.override_sets, key: here._replace(overrides=kept)}), register

    return apply


def _clearing(
    place: Place, entry: Override, names: Sequence[str], member: bool
) -> Callable[[Charter, Register], Files]:
    def apply(charter: Charter, register: Register) -> Files:
        changed = changes.saying(charter, place.key, entry.of, "clear", names, above=entry.above, member=member)
        return changed, register

    return apply


def _unlike(place: Place, left: tuple[str, ...]) -> Callable[[Charter, Register], Files]:
    return lambda charter, register: (
        changes.with_place(charter, charter.places[place.key]._replace(like=left)),
        register,
    )


def _or_none(gate: Gate) -> Gate | None:
    """Return a gate that asks for something; an empty one is none."""
    return gate if gate.any or gate.all or gate.none else None


def _gating(place: Place, gate: Gate | None, what: str, *, lines: int = 1) -> Candidate:
    where = place.gate.where if place.gate else place.where
    terms: dict[str, object] = {}
    if gate is not None:
        terms = {word: [str(term) for term in getattr(gate, word)] for word in ("any", "all", "none")}
        terms["teaser"] = gate.teaser
    command = typed(SetGate(place.key, terms if gate is not None else {}))
    return Candidate("gate", what, where, lines, lambda c, r: (changes.with_gate(c, place.key, gate), r), command)
