"""A rank, a member, a place or a group, described under headings for someone who is new (rules 3 to 6)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from ask_above.ask.describe.claims import Claim, Inside, claims, doing, inside, of_holder, under_headings
from ask_above.ask.perks import beyond_default, brought
from ask_above.ask.tables import Holders
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, few, how_many, listed, nearest, titled, upper
from ask_above.charter.places import Group, Place
from ask_above.charter.rules import ACTS, Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.explain import gate_asks
from ask_above.decide.looks import perks
from ask_above.decide.names import Names, in_text
from ask_above.decide.planes import Planes
from ask_above.decide.profile import Asked, Holding, How, ask_anybody, ask_rank
from ask_above.decide.walk import held, usable
from ask_above.decide.words import HELD_BY, day, ending, in_place, period, span
from ask_above.errors import QuestionError, UnknownNameError
from ask_above.people.directory import NameKind
from ask_above.people.register import Member, reached_groups
from ask_above.printing import prints

FEW = 6
_MISSING = 3


class Section(NamedTuple):
    """A part of a description: a heading, and its lines; a line of several cells is a row of a table."""

    heading: str
    lines: tuple[tuple[str, ...], ...]


@prints
class Described(NamedTuple):
    """A rank, a member, a place or a group: ``head`` says what it is, ``sections`` tell the rest."""

    kind: str
    key: str
    title: str
    head: str
    sections: tuple[Section, ...]

    @property
    def sentences(self) -> tuple[str, ...]:
        """The description as sentences: the head, and one for each line of a section."""
        lines = [f"{self.head}."]
        for section in self.sections:
            for line in section.lines:
                text = " ".join(cell for cell in line if cell)
                lines.append(f"{section.heading}: {text}." if section.heading else text)
        return tuple(lines)

    @property
    def text(self) -> str:
        """The description in lines, as data have it: without folding, and without columns."""
        parts = [self.head]
        for section in self.sections:
            parts += [section.heading] if section.heading else []
            parts += [f"{'- ' if section.heading else ''}{'  '.join(filter(None, line))}" for line in section.lines]
        return "\n".join(parts)

    def __repr__(self) -> str:
        return f"<Described: {self.head}>"


def _sections(*parts: tuple[str, Iterable[str | tuple[str, ...]]]) -> tuple[Section, ...]:
    """Return the parts that have lines."""
    made = (
        Section(heading, tuple((line,) if isinstance(line, str) else line for line in lines))
        for heading, lines in parts
    )
    return tuple(section for section in made if section.lines)


class Describer:
    """Describes ranks, members and places of one community at a moment; without ``members`` nobody is named.

    Of many things of one sort the first ``most`` are named.
    """

    def __init__(self, decider: Decider, at: Instant, *, members: bool = True, most: int = FEW) -> None:
        self.decider, self.compiled, self.at, self.members, self.most = decider, decider.compiled, at, members, most

    @cached_property
    def _local(self) -> dict[int, set[str]]:
        """Who holds a rank for a place and not for the whole site, by the place."""
        local: dict[int, set[str]] = {}
        for asked, keys in self.decider.alike(self.at):
            for place in {holding.place for holding in asked.holdings} - {0}:
                local.setdefault(place, set()).update(keys)
        return local

    @cached_property
    def holders(self) -> Holders:
        """Who holds each rank, where and until when."""
        return Holders(self.decider, self.at)

    @cached_property
    def powers(self) -> dict[Act, list[tuple[Rank, Rank]]]:
        """For each act, on the whole site, the ranks that act and those acted on."""
        return {act: list(self.decider.keep(Planes).pairs(act, 0)) for act in ACTS}

    @cached_property
    def inside(self) -> list[Inside]:
        """How many find each place, and who looks after it."""
        return inside(self.decider, self.at)

    def describe(self, what: Rank | Member | Place | Group) -> Described:
        """Describe a rank, a member, a place or a group."""
        if isinstance(what, Rank):
            return self.rank(what)
        if isinstance(what, Group):
            return self.group(what)
        return self.member(what) if isinstance(what, Member) else self.place(what)

    def rank(self, rank: Rank) -> Described:
        """Describe a rank: where it stands, who has it, what it grants, what places change, power over whom."""
        sections = _sections(
            ("", _about(rank.about)),
            ("Members", self._held(rank)),
            ("Settings", self._settings(rank)),
            ("Grants" if rank.automatic else "Grants, beyond what every member may do", _rights(self.compiled, rank)),
            ("Overrides", _elsewhere(self.compiled, rank.key)),
            ("Power over ranks", self._powers(rank)),
            ("Perks", brought(self.compiled.charter.perks, rank.perks)),
        )
        return Described("rank", rank.key, rank.called, _on_the_ladder(self.compiled, rank), sections)

    def card(self, rank: Rank) -> tuple[str, ...]:
        """Describe a rank in three short paragraphs: what it is, who has it, its power and who assigns it."""
        what = [*_about(rank.about)] or [f"{_on_the_ladder(self.compiled, rank)}."]
        if rank.unbounded:
            what += [f"{upper(each)}." for each in _rights(self.compiled, rank)]
        perks = "; ".join(brought(self.compiled.charter.perks, rank.perks))
        powers = [f"may {each}" if each == self.acts(rank) else each for each in self._powers(rank)]
        rest = [*self._settings(rank), *([f"Perks: {perks}"] if perks else []), *powers]
        members = [f"Members: {each}" for each in self._held(rank)]
        return tuple(" ".join(f"{upper(each).rstrip('.')}." for each in part) for part in (what, members, rest) if part)

    def elsewhere(self, rank: Rank) -> list[str]:
        """Say what places change for a rank."""
        return [*_elsewhere(self.compiled, rank.key)]

    def group(self, group: Group) -> Described:
        """Describe a group: who is in it, what it includes and confers, which places speak of it."""
        charter, title = self.compiled.charter, group.called
        inside = [m for m in self.decider.people.register.members.values() if group.key in reached_groups(charter, m)]
        gates = (
            place.called
            for place in self.compiled.places
            if place.gate and any(term.key == group.key for term in (*place.gate.any, *place.gate.all))
        )
        named = [few((member.called for member in inside), self.most)] if inside and self.members else []
        sections = _sections(
            ("", _about(group.about)),
            ("Members", named),
            ("Includes", (charter.groups[key].called for key in group.includes)),
            ("Confers", (f"{charter.ranks[c.rank].called} {self._in(c.place)}" for c in group.confers)),
            ("Opens the gate of", gates),
            ("Overrides", _elsewhere(self.compiled, group.key)),
        )
        many = how_many(len(inside), "member")
        return Described(
            "group", group.key, title, f"{titled(group.title, group.key, group.key)}: group of {many}", sections
        )

    def _in(self, place: str) -> str:
        return in_place(self.compiled.named[place].called, site=place == SITE)

    def member(self, member: Member) -> Described:
        """Describe a member: who they are, which ranks they have, what they may beyond others, power over whom."""
        asked = self.decider.people.ask(member.key, self.at)
        known = self.compiled.charter.perks
        counts = asked.profile is not None and not asked.owner
        sections = _sections(
            ("Ranks", self._ranks_of(asked)),
            ("May, beyond other members", self._beyond(asked) if counts else ()),
            ("May not, unlike other members", self._beyond(asked, less=True) if counts else ()),
            ("Power over ranks", self._powers_of(asked) if counts else ()),
            ("Perks", brought(known, beyond_default(known, perks(self.compiled, asked))) if counts else ()),
        )
        return Described("member", member.key, member.called, self.standing(member), sections)

    def standing(self, member: Member) -> str:
        """Say who a member is: their status, since when, the owner, their groups."""
        since = f" since {day(member.joined)}" if member.joined else ""
        groups = self.compiled.charter.groups
        named = [groups[key].called for key in member.groups if key in groups]
        kind = "bot" if member.kind == "bot" else "member"
        status = f"{titled(member.name, member.key, member.key)}: {member.status} {kind}{since}"
        if self.compiled.charter.owner == member.key:
            status += "; owner, may do everything"
        return status + (f"; {'groups' if named[1:] else 'group'} {', '.join(named)}" if named else "")

    def place(self, place: Place) -> Described:
        """Describe a place: what it is, who enters, what differs from the place above, who looks after it."""
        n, title = self.compiled.place_at[place.key], self.compiled.named[place.key].called
        inside = self.compiled.named[place.parent] if place.parent else None
        where = f" in {inside.called}" if inside is not None and inside.key != SITE else ""
        head = f"{titled(place.title, place.key, place.key)}: {f'{place.kind}{where}' if n else 'the whole site'}"
        sections = _sections(
            ("", _about(place.about)),
            ("Gate", self._gate(place)),
            ("Overrides", self._differences(place)),
            ("Exceptions", self._exceptions(place)),
            ("Members", [*self._appointed(n), *self._people_in(n)]),
        )
        return Described("place", place.key, title, head, sections)

    @staticmethod
    def _nothing(place: Place) -> bool:
        return not (place.overrides or place.exceptions or place.gate or place.like)

    def _gate(self, place: Place) -> Iterator[str]:
        if place.gate is not None:
            yield gate_asks(self.compiled, place.gate).removeprefix("it ")
            if place.gate.teaser:
                yield "others may know of the place"

    def _appointed(self, place: int) -> Iterator[str]:
        """Say who has which rank for this place and all in it."""
        local: dict[int, list[tuple[str, Holding]]] = {}
        for asked in self.decider.each(self._local.get(place, set()), self.at) if place and self.members else ():
            for holding in asked.holdings:
                if holding.place == place:
                    local.setdefault(holding.rank, []).append((asked.label, holding))
        for rank in self.compiled.ranks if local else ():
            here = [
                f"{label}{ending(holding.assignment.period) if holding.assignment else ''}"
                for label, holding in local.get(rank.position, ())
            ]
            if here:
                yield f"{rank.called}: {few(dict.fromkeys(here), self.most)}"

    # -- who holds and who acts

    def _held(self, rank: Rank) -> Iterator[str]:
        """Say who has a rank."""
        if rank.held_by is not None:
            yield f"automatic for {HELD_BY[rank.held_by]}"
            return
        if rank.paused:
            yield "nobody while the rank is paused"
            return
        count = len(self.holders.keys(rank.key))
        people = self.holders.first(rank.key, self.most + 1) if self.members else ()
        names = few((f"{who.asked.label} {who.where(self.compiled)}".strip() for who in people), self.most, count=count)
        yield names if people else (how_many(count, "member") if count else "nobody")
        idle = self.holders.idle[rank.key]
        if idle:
            yield f"{how_many(idle, 'member', 'members')} more whose status does not count"
        later = self.holders.later(rank.key)
        if later:
            coming = self.decider.each(later[: self.most + 1], self.at) if self.members else ()
            spells = [spell for asked in coming for spell in self._comes(asked, rank)]
            yield f"later: {few(spells, self.most, count=len(later)) if spells else how_many(len(later), 'member')}"

    def _comes(self, asked: Asked, rank: Rank) -> Iterator[str]:
        """Say who comes to have a rank, where and from when until when."""
        for given in asked.later:
            if given.rank == rank.key:
                where = "" if given.place == SITE else f" in {self.compiled.named[given.place].called}"
                yield f"{asked.label}{where}{span(given.period.said_from, given.period.said_until)}"

    def _settings(self, rank: Rank) -> Iterator[str]:
        """Say what is set of a rank, and the conditions for having it."""
        titles = self.compiled.charter.ranks
        if rank.entry:
            yield "the entry rank of pending members"
        if rank.open:
            yield "open: members may join it"
        if rank.on_joining:
            yield "assigned to everyone who joins"
        if rank.kept_by:
            yield f"kept by {rank.kept_by}: nobody here may edit, assign or unassign it"
        if rank.builds_on:
            yield f"builds on {listed(titles[key].called for key in rank.builds_on)}"
        if rank.after:
            yield f"requires {listed(titles[key].called for key in rank.after)}"
        if rank.apart_from:
            yield f"nobody may have it with {listed((titles[key].called for key in rank.apart_from), 'or')}"
        if rank.limit is not None:
            yield f"at most {how_many(rank.limit, 'member')}"

    def _powers(self, rank: Rank) -> Iterator[str]:
        """Say on whom it acts, and who assigns it, on the whole site."""
        acts = self.acts(rank)
        if acts:
            yield acts
        if not rank.automatic and not rank.kept_by:
            givers = [actor.called for actor, target in self.powers[Act.ASSIGN] if target.key == rank.key]
            yield f"assigned by {few(givers, self.most)}" if givers else "assigned by the owner only"

    def acts(self, rank: Rank) -> str:
        """Say on whom a rank acts, on the whole site: ``moderate Volunteer; assign Volunteer``; nothing for none."""
        on = {act: [target.called for actor, target in self.powers[act] if actor.key == rank.key] for act in ACTS}
        return said_of_acts(on, self.most)

    def acts_of(self, asked: Asked, place: int) -> str:
        """Say on whom somebody acts at a place, as :meth:`acts` does."""
        planes, titles = self.decider.keep(Planes), self.compiled.charter.ranks
        return said_of_acts(
            {act: [titles[key].called for key in planes.named(asked, act, place)] for act in ACTS}, self.most
        )

    # -- a member

    def _ranks_of(self, asked: Asked) -> Iterator[tuple[str, ...]]:
        """Say which ranks a member has, or will have: title, where, since when and by whom."""
        site = "whole site"
        for holding in asked.recorded:
            if holding.how != How.AUTOMATIC:
                place = self.compiled.named[self.compiled.places[holding.place].key]
                # it stays on record, and counts when they are acted on (rule 6.5)
                kept_from = "paused" if asked.is_active else asked.status
                idle = "" if holding in asked.holdings else f" (does not count: {kept_from})"
                where = place.called if holding.place else site
                yield (self.compiled.ranks[holding.rank].called, where, f"{self._from(holding)}{idle}".strip())
        for later in asked.later:
            where = self.compiled.named[later.place].called if later.place != SITE else site
            spell = span(later.period.said_from, later.period.said_until).strip()
            yield (self.compiled.charter.ranks[later.rank].called, where, spell)

    def _from(self, holding: Holding) -> str:
        """Say since when, from whom and why someone has a rank."""
        given = holding.assignment
        if given is None:
            group = self.compiled.charter.groups.get(holding.group or "")
            return f"conferred by the group {group.called}" if group else ""
        members = self.decider.people.register.members
        by = members[given.by].called if given.by in members else given.by
        said = [period(given.period).strip(), f"assigned by {by}" if by else "", given.why]
        return ", ".join(filter(None, said))

    def _powers_of(self, asked: Asked) -> Iterator[str]:
        """Say on whom somebody acts on the whole site, and where they have a rank of its own where that differs."""
        everywhere = self.acts_of(asked, 0)
        if everywhere:
            yield f"Whole site: {everywhere}"
        for place in sorted({holding.place for holding in asked.recorded} - {0}):
            here = self.acts_of(asked, place)
            if here and here != everywhere:
                yield f"{self.compiled.named[self.compiled.places[place].key].called}: {here}"

    def _beyond(self, asked: Asked, *, less: bool = False) -> Iterator[str]:
        """Say what somebody may that a member without other ranks may not; with ``less`` the other way round."""
        plain, places = ask_anybody(self.compiled), range(len(self.compiled.places))
        one, other = (plain, asked) if less else (asked, plain)
        masks = [self.decider.usable(one, n) & ~self.decider.usable(other, n) for n in places]
        for where, mask in _by_places(self.compiled, masks, self.most):
            yield f"{where}: {_doing(self.compiled, mask)}"

    # -- a place

    def _differences(self, place: Place) -> Iterator[str]:
        charter, words = self.compiled.charter, self.compiled.words_at(self.compiled.place_at[place.key])
        alike: dict[str, list[str]] = {}
        position = self.compiled.rank_at
        for holder in sorted(words, key=lambda each: (position.get(each, len(position)), each)):
            rank = charter.ranks.get(holder)
            if rank is not None and rank.unbounded:
                continue
            made = claims(
                self.compiled, of_holder(self.compiled, holder), self.compiled.place_at[place.key], words[holder]
            )
            entry = rank or charter.groups[holder]
            alike.setdefault(_claimed(self.compiled, made), []).append(entry.called)
        vain = alike.pop("", [])
        for what, titles in alike.items():
            yield f"{listed(titles)}: {what}"
        if vain:
            yield f"{listed(vain)}: no effect"
        if place.parent and self._nothing(place):
            yield "none: as the place above"

    def _exceptions(self, place: Place) -> Iterator[str]:
        """Say for whom alone something else holds here, and what."""
        known, people = self.decider.people.register.members, self.decider.people
        alike: dict[str, list[str]] = {}
        for exception in place.exceptions:
            if exception.of not in known:
                continue
            asked, word = people.ask(exception.of, self.at), self.compiled.word_of(exception)
            made = claims(self.compiled, asked, self.compiled.place_at[place.key], word)
            alike.setdefault("" if asked.rules_all else _claimed(self.compiled, made), []).append(asked.label)
        if alike and (not self.members or len(alike) > self.most):
            yield (
                few((name for names in alike.values() for name in names), self.most)
                if self.members
                else "for single members"
            )
            return
        for what, names in alike.items():
            yield f"{few(names, self.most)}: {what or 'no effect'}"

    @cached_property
    def _active(self) -> int:
        """How many members are active."""
        return sum(len(keys) for asked, keys in self.decider.alike(self.at) if asked.is_active)

    def _people_in(self, place: int) -> Iterator[str]:
        """Say how many find the place, and who may change who does what there."""
        known, active = self.decider.people.register.members, self._active
        if not active:
            return
        here = self.inside[place]
        many = f"all {active:,}" if here.members == active else f"{here.members:,} of {active:,}"
        yield f"{many} active members may do something here"
        if here.keepers and self.members:
            first = (known[key].called for key in here.keepers[: self.most + 1])
            yield f"managed by {few(first, self.most, count=len(here.keepers))}"


def said_of_acts(on: Mapping[Act, Sequence[str]], most: int = FEW) -> str:
    """Say acts by the titles of the ranks that each is possible on; nothing for none."""
    ways: dict[tuple[str, ...], list[str]] = {}
    for act, titles in on.items():
        if titles:
            ways.setdefault(tuple(titles), []).append(act)
    return "; ".join(f"{listed(acts)} {few(titles, most)}" for titles, acts in ways.items())


def _about(text: str) -> Iterator[str]:
    if text:
        yield text if text.endswith((".", "!", "?")) else f"{text}."


def _on_the_ladder(compiled: CompiledCharter, rank: Rank) -> str:
    n, total = rank.position, len(compiled.ranks)
    if total == 1:
        return f"{titled(rank.title, rank.key, rank.key)}: the only rank"
    where = "highest" if n == 0 else "lowest" if n == total - 1 else f"{_ordinal(n + 1)}"
    above = f", below {compiled.ranks[n - 1].called}" if n else ""
    return f"{titled(rank.title, rank.key, rank.key)}: {where} of {total} ranks{above}"


def _ordinal(n: int) -> str:
    suffix = "th" if 10 <= n % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")  # noqa: PLR2004 (11th, 12th, 13th)
    return f"{n}{suffix}"


def _rights(compiled: CompiledCharter, rank: Rank) -> Iterator[str]:
    if rank.unbounded:
        yield "everything, everywhere (unbounded)"
        return
    common = 0
    if not rank.automatic:
        for holding in ask_anybody(compiled).holdings:
            common |= compiled.carried[holding.rank]
    new = compiled.granted(rank) & ~common
    profile, able = ask_rank(compiled, rank).profile, 0
    for n in range(len(compiled.places)) if new else ():
        able |= usable(compiled, held(compiled, profile, n).mask, n) if profile else 0
    alone, new = new & ~able, new & able
    if not new and not alone:
        yield "nothing"
    if new:
        yield _doing(compiled, new)
    if alone:
        yield f"not usable with this rank alone: {_doing(compiled, alone)}"


def _doing(compiled: CompiledCharter, mask: int) -> str:
    """Say capabilities in sentences, without their headings."""
    return ", ".join(
        doing(compiled, key)
        for keys in under_headings(compiled, compiled.catalogue.names(mask)).values()
        for key in keys
    )


def _elsewhere(compiled: CompiledCharter, holder: str) -> Iterator[str]:
    """Say what places change for a rank or group, as far as it is so for someone who has nothing besides."""
    rank = compiled.charter.ranks.get(holder)
    if rank is not None and rank.unbounded:
        return
    asked = of_holder(compiled, holder)
    for n, place in enumerate(compiled.places):
        word = compiled.words_at(n).get(holder)
        if word is not None and (what := _claimed(compiled, claims(compiled, asked, n, word))):
            yield f"{compiled.named[place.key].called if n else 'Whole site'}: {what}"


def _claimed(compiled: CompiledCharter, made: Iterable[Claim]) -> str:
    """Say what somebody may and may not."""
    return "; ".join(
        f"{claim.verb}{f', {claim.provided},' if claim.provided else ''} {_doing(compiled, claim.mask)}"
        for claim in made
    )


def _by_places(compiled: CompiledCharter, masks: list[int], most: int) -> Iterator[tuple[str, int]]:
    """Yield sets of capabilities that concern the same places, with those places in words."""
    spots: dict[int, list[int]] = {}
    for n, mask in enumerate(masks):
        for name in compiled.catalogue.names(mask):
            spots.setdefault(compiled.catalogue.bit[name], []).append(n)
    folded: dict[str, int] = {}
    for bit, found in spots.items():
        meant = [n for n in range(len(masks)) if compiled.has_meaning(n) & bit]
        where = _over(compiled, found, [n for n in meant if n not in found], most)
        folded[where] = folded.get(where, 0) | bit
    yield from folded.items()


def _over(compiled: CompiledCharter, found: list[int], missing: list[int], most: int) -> str:
    """Say places in words; of nearly all where something has a meaning, those that are missing."""
    if not missing:
        return "everywhere they apply"
    nearly = len(missing) <= _MISSING and len(found) > most
    keys = [compiled.places[n].key for n in (missing if nearly else found)]
    titles = few((compiled.named[key].called if key != SITE else "Whole site" for key in keys), most)
    return f"{'everywhere they apply, except ' if nearly else ''}{titles}"


def meant(names: Names, name: str) -> Rank | Member | Place | Group:
    """Return the member, rank, place or group that a name means; ``rank:KEY`` and its like leave no doubt."""
    form, colon, key = in_text(name, "name").partition(":")
    known = [NameKind.MEMBER, NameKind.RANK, NameKind.PLACE, NameKind.GROUP]
    if colon and form not in known:
        hint = f"Write {listed(known, 'or')} before :{key}."
        raise UnknownNameError("kind of thing", form, nearest(form, known), hint)
    kinds = [NameKind(form)] if colon else known
    name = key if colon else name
    named = names.directory.find(name, *kinds)
    if named is None:
        known_as = "rank, member, place or group" if len(kinds) > 1 else kinds[0]
        raise UnknownNameError(known_as, name, names.directory.nearest(name, *kinds))
    others = [each.kind for each in names.directory.also(named, name, *kinds)]
    if others:
        said = " and a ".join([named.kind, *others])
        raise QuestionError(f"'{name}' is a {said}; write {named.kind}:{named.key} or {others[0]}:{name}.")
    if named.kind is NameKind.MEMBER:
        return names.member(named.key)
    if named.kind is NameKind.GROUP:
        return names.group(named.key)
    return names.rank(named.key) if named.kind is NameKind.RANK else names.place(named.key)
