"""A rank, a member or a place in sentences, as one would tell them to someone who is new (rules 3 to 6)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence
from functools import cached_property
from typing import NamedTuple

from ask_above.ask.describe.claims import Claim, claims, of_holder
from ask_above.ask.describe.inside import Inside, inside
from ask_above.ask.describe.sentences import doing, under_headings
from ask_above.ask.perks import beyond_default, brought
from ask_above.ask.tables import Holder, allowed_powers, holders, on_record, reached
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, few, how_many, listed, nearest
from ask_above.charter.places import Group, Place
from ask_above.charter.rules import ACTS, Act
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.explain import gate_asks
from ask_above.decide.looks import perks
from ask_above.decide.names import Names
from ask_above.decide.profile import Asked, Holding, How, ask_anybody, ask_rank
from ask_above.decide.walk import held, usable
from ask_above.decide.words import HELD_BY, VERBS, day, ending, in_place, in_places, period, upper
from ask_above.errors import QuestionError, UnknownNameError
from ask_above.people.directory import NameKind
from ask_above.people.register import Member, reached_groups
from ask_above.printing import in_notebook

_FEW = 6
_MISSING = 3


class Described(NamedTuple):
    """Something in sentences; ``str`` joins them into a paragraph."""

    kind: str
    key: str
    title: str
    sentences: tuple[str, ...]

    def __str__(self) -> str:
        return " ".join(self.sentences)

    def _repr_html_(self) -> str:
        return in_notebook(self)


class Describer:
    """Describes ranks, members and places of one community at a moment; without ``members`` nobody is named."""

    def __init__(self, decider: Decider, at: Instant, *, members: bool = True) -> None:
        self.decider, self.compiled, self.at, self.members = decider, decider.compiled, at, members

    @cached_property
    def holders(self) -> dict[str, list[Holder]]:
        """Who holds each rank, where and until when."""
        return holders(self.decider, self.at)

    @cached_property
    def on_record(self) -> dict[str, int]:
        """For how many each rank is recorded without counting."""
        return on_record(self.decider, self.at)

    @cached_property
    def powers(self) -> dict[Act, list[tuple[str, str]]]:
        """For each act, on the whole site, the ranks that act and those acted on."""
        return {act: list(allowed_powers(self.decider, act, 0, self.at)) for act in ACTS}

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
        """Describe a rank: where it stands, who holds it, what one may do with it that others may not, on whom."""
        found = [_on_the_ladder(self.compiled, rank), *_about(rank.about), *self._held(rank)]
        found += [*_conditions(self.compiled, rank), *_rights(self.compiled, rank), *self._perks(rank)]
        found += self._powers(rank)
        return Described("rank", rank.key, rank.title, (*found, *_elsewhere(self.compiled, rank.key)))

    def _perks(self, rank: Rank) -> Iterator[str]:
        if rank.perks:
            yield f"It brings: {'; '.join(brought(self.compiled.charter.perks, rank.perks))}."

    def card(self, rank: Rank) -> tuple[str, ...]:
        """Describe a rank in three short paragraphs: what it is, who holds it, on whom it acts and who gives it."""
        what = [*_about(rank.about)] or [_on_the_ladder(self.compiled, rank)]
        if rank.unbounded:
            what += _rights(self.compiled, rank)
        acts = [*_conditions(self.compiled, rank), *self._perks(rank), *self._powers(rank)]
        return tuple(" ".join(part) for part in (what, [*self._held(rank)], acts) if part)

    def elsewhere(self, rank: Rank) -> list[str]:
        """Say what places change for a rank."""
        return [*_elsewhere(self.compiled, rank.key)]

    def group(self, group: Group) -> Described:
        """Describe a group: who is in it, what it includes and brings, which places speak of it."""
        charter, title = self.compiled.charter, group.title or group.key
        found = [f"{title} is a group.", *_about(group.about)]
        inside = [m for m in self.decider.people.register.members.values() if group.key in reached_groups(charter, m)]
        many = "Nobody is" if not inside else f"{len(inside)} member{' is' if len(inside) == 1 else 's are'}"
        named = f": {few((m.called for m in inside), _FEW)}" if inside and self.members else ""
        found.append(f"{many} in it{named}.")
        if group.includes:
            included = listed(charter.groups[key].title or key for key in group.includes)
            found.append(f"Whoever is in {included} is in it as well.")
        for conferred in group.confers:
            where = in_place(charter.places[conferred.place].title, site=conferred.place == SITE)
            found.append(f"Whoever is in it is {charter.ranks[conferred.rank].title} {where}.")
        gates = [
            place.title
            for place in self.compiled.places
            if place.gate and any(term.key == group.key for term in (*place.gate.any, *place.gate.all))
        ]
        if gates:
            found.append(f"It opens the gate of {listed(gates)}.")
        found += _elsewhere(self.compiled, group.key)
        return Described("group", group.key, title, tuple(found))

    def member(self, member: Member) -> Described:
        """Describe a member: who they are, what they hold from whom until when, what they may that others may not."""
        asked, found = self.decider.people.ask(member.key, self.at), self.standing(member)
        if asked.profile is not None and not asked.owner:
            found += self._beyond_others(asked)
            found += self._powers_of(asked)
            known = self.compiled.charter.perks
            mine = beyond_default(known, perks(self.compiled, asked))
            found += [f"Their ranks bring: {'; '.join(brought(known, mine))}."] if mine else []
        return Described("member", member.key, member.called, tuple(found))

    def standing(self, member: Member) -> list[str]:
        """Say who a member is, and which ranks they hold from whom until when."""
        asked = self.decider.people.ask(member.key, self.at)
        since = f", here since {day(member.joined)}" if member.joined else ""
        what = "a bot" if member.kind == "bot" else "a member"
        found = [f"{member.called} is {what}{since}; the account is {member.status}."]
        if asked.owner:
            found.append(f"{member.called} is the owner and may do everything everywhere.")
        found += self._ranks_of(asked)
        if member.groups:
            groups = self.compiled.charter.groups
            found.append(f"Groups: {listed(groups[key].title or key for key in member.groups if key in groups)}.")
        return found

    def place(self, place: Place) -> Described:
        """Describe a place: what it is, who enters, what differs from the one above it, who looks after it."""
        n, title = self.compiled.place_at[place.key], self.compiled.named[place.key].title
        inside = self.compiled.named[place.parent] if place.parent else None
        where = f" in {inside.title or inside.key}" if inside is not None and inside.key != SITE else ""
        found = [f"{title} is a {place.kind}{where}." if n else f"{title} is the whole site.", *_about(place.about)]
        if place.gate is not None:
            known = " Others may know that it is there." if place.gate.teaser else ""
            found.append(f"It has a gate: {gate_asks(self.compiled, place.gate)}.{known}")
        found += [*self._differences(place), *self._appointed(n), *self._people_in(n)]
        return Described("place", place.key, title, tuple(found))

    def _appointed(self, place: int) -> Iterator[str]:
        """Say who holds which rank for this place and what is below it."""
        for rank in self.compiled.ranks if place and self.members else ():
            here = [
                f"{holder.asked.label}{ending(holding.assignment.period) if holding.assignment else ''}"
                for holder in self.holders[rank.key]
                for holding in holder.holdings
                if holding.place == place
            ]
            if here:
                yield f"{rank.title} here: {few(dict.fromkeys(here), _FEW)}."

    # -- who holds and who acts

    def _held(self, rank: Rank) -> Iterator[str]:
        if rank.held_by is not None:
            yield f"{upper(HELD_BY[rank.held_by])} holds it without being given it."
            return
        if rank.paused:
            yield "It is paused: nobody holds it, whoever has it on record, until the pause is lifted."
            return
        if rank.entry:
            yield "Whoever has signed up and waits to be let in holds it."
        people = self.holders[rank.key]
        names = few((f"{who.asked.label} {who.where(self.compiled)}".strip() for who in people), _FEW)
        count = (
            "Nobody holds" if not people else "One member holds" if len(people) == 1 else f"{len(people)} members hold"
        )
        yield f"{count} it{f': {names}' if self.members and people else ' now' if not people else ''}."
        idle = self.on_record[rank.key]
        if idle:
            have = how_many(idle, "member more has", "members more have")
            yield f"{have} it on record, for whom it does not count."
        if rank.open:
            yield "Members may join it."
        if rank.on_joining:
            yield "Everyone who joins the site gets it."
        if rank.kept_by:
            yield f"It is kept by {rank.kept_by}; nobody here gives, takes or changes it."

    def _powers(self, rank: Rank) -> Iterator[str]:
        """Say whom it acts on, and who gives it, on the whole site."""
        titles, acts = self.compiled.charter.ranks, self.acts(rank)
        if acts:
            yield f"It may {acts}."
        elif not rank.automatic:
            yield "It has no power over other ranks."
        if not rank.automatic and not rank.kept_by:
            givers = [titles[actor].title for actor, target in self.powers[Act.ASSIGN] if target == rank.key]
            yield f"{few(givers, _FEW)} may give it." if givers else "Only the owner may give it."

    def acts(self, rank: Rank) -> str:
        """Say on whom a rank acts, on the whole site: ``moderate Volunteer and give Volunteer``; nothing for none."""
        return self._said_of_acts(
            {act: [target for actor, target in self.powers[act] if actor == rank.key] for act in ACTS}
        )

    def acts_of(self, asked: Asked, place: int) -> str:
        """Say on whom somebody acts at a place, as :meth:`acts` does."""
        return self._said_of_acts({act: reached(self.decider, asked, act, place, self.at) for act in ACTS})

    def _said_of_acts(self, on: Mapping[Act, Sequence[str]]) -> str:
        titles = self.compiled.charter.ranks
        ways = [f"{VERBS[act]} {few((titles[key].title for key in keys), _FEW)}" for act, keys in on.items() if keys]
        return listed(ways)

    # -- a member

    def _ranks_of(self, asked: Asked) -> Iterator[str]:
        for holding in asked.recorded:
            if holding.how != How.AUTOMATIC:
                place = self.compiled.places[holding.place]
                where = in_place(place.title, site=holding.place == 0)
                title, since = self.compiled.ranks[holding.rank].title, self._from(holding)
                if holding in asked.holdings:
                    yield f"They are {title} {where}{since}."
                else:  # it stays on record, and counts when they are acted on (rule 6.5)
                    yield f"On record they are {title} {where}{since}; it does not count while they are {asked.status}."
        for later in asked.later:
            yield f"They will be {self.compiled.charter.ranks[later.rank].title}{period(later.period)}."

    def _from(self, holding: Holding) -> str:
        """Say since when, from whom and why someone has a rank."""
        given = holding.assignment
        if given is None:
            group = self.compiled.charter.groups.get(holding.group or "")
            return f", by the group {group.title or group.key}" if group else ""
        members = self.decider.people.register.members
        by = members[given.by].called if given.by in members else given.by
        return f"{period(given.period)}{f', given by {by}' if by else ''}{f' ({given.why})' if given.why else ''}"

    def _powers_of(self, asked: Asked) -> Iterator[str]:
        """Say on whom somebody acts on the whole site, and where they hold a rank of its own where that differs."""
        everywhere = self.acts_of(asked, 0)
        if everywhere:
            yield f"They may {everywhere}."
        for place in sorted({holding.place for holding in asked.recorded} - {0}):
            here = self.acts_of(asked, place)
            if here and here != everywhere:
                yield f"In {self.compiled.places[place].title} they may {here}."

    def _beyond_others(self, asked: Asked) -> Iterator[str]:
        """Say what somebody may do that a member without other ranks may not, and the other way round."""
        plain, places, said = ask_anybody(self.compiled), range(len(self.compiled.places)), False
        own = [self.decider.usable(asked, n) for n in places]
        other = [self.decider.usable(plain, n) for n in places]
        for one, two, words in ((own, other, "may, beyond others,"), (other, own, "may not, unlike others,")):
            masks = [mine & ~theirs for mine, theirs in zip(one, two, strict=True)]
            for where, mask in _by_places(self.compiled, masks):
                said = True
                yield f"{upper(where)} they {words} {_doing(self.compiled, mask)}."
        if not said:
            yield "They may do what every member may."

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
            alike.setdefault(_claimed(self.compiled, made), []).append(entry.title or holder)
        vain = alike.pop("", [])
        for what, titles in alike.items():
            yield f"Here {listed(titles)} {what}."
        if vain:
            yield f"What is said here of {listed(vain)} changes nothing for them."
        if place.exceptions:
            yield from self._exceptions(place)
        if not words and not place.exceptions and not place.gate and place.parent:
            yield "Nothing differs here from the place it is in."

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
        if not self.members or len(alike) > _FEW:
            who = f": {few((name for names in alike.values() for name in names), _FEW)}" if self.members else ""
            yield f"There are exceptions for single members{who}."
            return
        for what, names in alike.items():
            if what:
                yield f"By an exception {few(names, _FEW)} {what}."
            else:
                yield f"There is an exception for {few(names, _FEW)} that changes nothing now."

    def _people_in(self, place: int) -> Iterator[str]:
        """Say how many find the place, and who may change who does what there."""
        known = self.decider.people.register.members
        active = sum(member.is_active for member in known.values())
        if not active:
            return
        here = self.inside[place]
        yield f"{'All' if here.members == active else here.members} of {active} active members can do something here."
        if here.keepers and self.members:
            yield f"{few((known[key].called for key in here.keepers), _FEW)} may change who does what here."


def _about(text: str) -> Iterator[str]:
    if text:
        yield text if text.endswith((".", "!", "?")) else f"{text}."


def _on_the_ladder(compiled: CompiledCharter, rank: Rank) -> str:
    n, total = rank.position, len(compiled.ranks)
    where = "highest" if n == 0 else "lowest" if n == total - 1 else f"{_ordinal(n + 1)}"
    above = f", directly below {compiled.ranks[n - 1].title}" if n else ""
    return f"{rank.title} is the {where} of {total} ranks{above}."


def _ordinal(n: int) -> str:
    suffix = "th" if 10 <= n % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")  # noqa: PLR2004 (11th, 12th, 13th)
    return f"{n}{suffix}"


def _conditions(compiled: CompiledCharter, rank: Rank) -> Iterator[str]:
    titles = compiled.charter.ranks
    if rank.after:
        yield f"Only who is {listed(titles[key].title for key in rank.after)} can be given it."
    if rank.apart_from:
        yield f"Nobody may hold it beside {listed((titles[key].title for key in rank.apart_from), 'or')}."
    if rank.limit is not None:
        yield f"At most {rank.limit} may hold it."


def _rights(compiled: CompiledCharter, rank: Rank) -> Iterator[str]:
    if rank.unbounded:
        yield "It may do everything everywhere; no place stops it."
        return
    common = 0
    if not rank.automatic:
        for holding in ask_anybody(compiled).holdings:
            common |= compiled.carried[holding.rank]
    new = compiled.carried[rank.position] & ~common
    profile, able = ask_rank(compiled, rank.position).profile, 0
    for n in range(len(compiled.places)) if new else ():
        able |= usable(compiled, held(compiled, profile, n).mask, n) if profile else 0
    alone, new = new & ~able, new & able
    if not compiled.carried[rank.position]:
        yield "It carries nothing of its own."
    elif not new and not alone:
        yield "It carries nothing that not every member has."
    elif new:
        beyond = "" if rank.automatic else ", beyond what every member may"
        yield f"With it one may{beyond}: {_doing(compiled, new)}."
    if alone:
        yield f"It carries more, which it cannot use alone: {_doing(compiled, alone)}."
    if rank.builds_on:
        yield f"It takes over all that {listed(compiled.charter.ranks[key].title for key in rank.builds_on)} carries."


def _doing(compiled: CompiledCharter, mask: int) -> str:
    """Say capabilities in sentences, without their headings."""
    return "; ".join(
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
            yield f"{upper(in_place(place.title, site=n == 0))} it {what}."


def _claimed(compiled: CompiledCharter, made: Iterable[Claim]) -> str:
    """Say what somebody may and may not."""
    return ", and ".join(
        f"{claim.verb}{f', {claim.provided},' if claim.provided else ''} {_doing(compiled, claim.mask)}"
        for claim in made
    )


def _by_places(compiled: CompiledCharter, masks: list[int]) -> Iterator[tuple[str, int]]:
    """Yield sets of capabilities that concern the same places, with those places in words."""
    spots: dict[int, list[int]] = {}
    for n, mask in enumerate(masks):
        for name in compiled.catalogue.names(mask):
            spots.setdefault(compiled.catalogue.bit[name], []).append(n)
    folded: dict[str, int] = {}
    for bit, found in spots.items():
        meant = [n for n in range(len(masks)) if compiled.has_meaning(n) & bit]
        where = _over(compiled, found, [n for n in meant if n not in found])
        folded[where] = folded.get(where, 0) | bit
    yield from folded.items()


def _over(compiled: CompiledCharter, found: list[int], missing: list[int]) -> str:
    """Say places in words; of nearly all where something has a meaning, those that are missing."""
    if not missing:
        return "everywhere it can be done"
    nearly = len(missing) <= _MISSING and len(found) > _FEW
    keys = [compiled.places[n].key for n in (missing if nearly else found)]
    return f"{'everywhere it can be done but ' if nearly else ''}{in_places(compiled.named, keys, _FEW)}"


def meant(names: Names, name: str) -> Rank | Member | Place | Group:
    """Return the member, rank, place or group that a name means; ``rank:KEY`` and its like leave no doubt."""
    form, colon, key = name.partition(":")
    known = [NameKind.MEMBER, NameKind.RANK, NameKind.PLACE, NameKind.GROUP]
    if colon and form not in known:
        hint = f"Write {listed(known, 'or')} before :{key}."
        raise UnknownNameError("kind of thing", form, nearest(form, known), hint)
    kinds = [NameKind(form)] if colon else known
    name = key if colon else name
    found = names.directory.find(name, *kinds)
    if found is None:
        known_as = "rank, member, place or group" if len(kinds) > 1 else kinds[0]
        raise UnknownNameError(known_as, name, names.directory.nearest(name, *kinds))
    others = [each.kind for each in names.directory.also(found, name, *kinds)]
    if others:
        said = " and a ".join([found.kind, *others])
        raise QuestionError(f"'{name}' is a {said}; write {found.kind}:{found.key} or {others[0]}:{name}.")
    if found.kind is NameKind.MEMBER:
        return names.member(found.key)
    if found.kind is NameKind.GROUP:
        return names.group(found.key)
    return names.rank(found.key) if found.kind is NameKind.RANK else names.place(found.key)
