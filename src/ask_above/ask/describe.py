"""A rank, a member or a place in sentences, as one would tell them to someone who is new (rules 3 to 6)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from typing import NamedTuple

from ask_above.ask.sentences import doing, under_headings
from ask_above.ask.tables import holders, power_cells
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, listed
from ask_above.charter.places import Gate, Place
from ask_above.decide.frame import Frame
from ask_above.decide.may import Decider
from ask_above.decide.profile import Asked, ask_anybody
from ask_above.decide.words import day, in_place
from ask_above.people.register import Member

_FEW = 6
_MISSING = 3
_ACTS = (("moderate", "moderate"), ("assign", "give"), ("manage", "change"))
_HELD_BY = {
    "anyone": "Everyone holds it, visitors too,",
    "visitors": "Whoever is not signed in holds it",
    "members": "Every member holds it",
    "bots": "Every bot holds it",
}


class Described(NamedTuple):
    """Something in sentences; ``str`` joins them into a paragraph."""

    kind: str
    key: str
    title: str
    sentences: tuple[str, ...]

    def __str__(self) -> str:
        return " ".join(self.sentences)


def describe(decider: Decider, what: Rank | Member | Place, at: Instant) -> Described:
    """Describe a rank, a member or a place at a moment."""
    if isinstance(what, Rank):
        return describe_rank(decider, what, at)
    return describe_member(decider, what, at) if isinstance(what, Member) else describe_place(decider, what, at)


def describe_rank(decider: Decider, rank: Rank, at: Instant) -> Described:
    """Describe a rank: where it stands, who holds it, what one may do with it that others may not, on whom it acts."""
    found = [_on_the_ladder(decider.frame, rank), *_about(rank.about), *_held(decider, rank, at)]
    found += _conditions(decider.frame, rank)
    found += _rights(decider, rank)
    found += _powers(decider, rank, at)
    found += _elsewhere(decider, rank)
    return Described("rank", rank.key, rank.title, tuple(found))


def _about(text: str) -> Iterator[str]:
    if text:
        yield text if text.endswith((".", "!", "?")) else f"{text}."


def _on_the_ladder(frame: Frame, rank: Rank) -> str:
    n, total = rank.position, len(frame.ranks)
    where = "highest" if n == 0 else "lowest" if n == total - 1 else f"{_ordinal(n + 1)}"
    above = f", directly below {frame.ranks[n - 1].title}" if n else ""
    return f"{rank.title} is the {where} of {total} ranks{above}."


def _ordinal(n: int) -> str:
    suffix = "th" if 10 <= n % 100 <= 20 else {1: "st", 2: "nd", 3: "rd"}.get(n % 10, "th")  # noqa: PLR2004 (11th, 12th, 13th)
    return f"{n}{suffix}"


def _few(names: Iterable[str]) -> str:
    """List names, a few of many."""
    known = list(names)
    return listed(known) if len(known) <= _FEW else f"{', '.join(known[:_FEW])} and {len(known) - _FEW} more"


def _held(decider: Decider, rank: Rank, at: Instant) -> Iterator[str]:
    if rank.held_by is not None:
        yield f"{_HELD_BY[rank.held_by]} without being given it."
        return
    if rank.entry:
        yield "Whoever has signed up and waits to be let in holds it."
    people = holders(decider, at)[rank.key]
    if not people:
        yield "Nobody holds it now."
    else:
        count = "One member holds" if len(people) == 1 else f"{len(people)} members hold"
        yield f"{count} it: {_few(asked.label + ('' if root else ' in a part of the site') for asked, root in people)}."
    ways = [
        said for said, so in (("members may join it", rank.open), ("everyone who joins gets it", rank.on_joining)) if so
    ]
    if ways:
        yield f"{listed(ways).capitalize()}."
    if rank.kept_by:
        yield f"It is kept by {rank.kept_by}; nobody here gives, takes or changes it."


def _conditions(frame: Frame, rank: Rank) -> Iterator[str]:
    titles = frame.charter.ranks
    if rank.after:
        yield f"Only who is {listed(titles[key].title for key in rank.after)} can be given it."
    if rank.apart_from:
        yield f"Nobody may hold it beside {listed((titles[key].title for key in rank.apart_from), 'or')}."
    if rank.limit is not None:
        yield f"At most {rank.limit} may hold it."


def _rights(decider: Decider, rank: Rank) -> Iterator[str]:
    frame = decider.frame
    if rank.unbounded:
        yield "It may do everything everywhere; no place stops it."
        return
    common = 0
    if not rank.automatic:
        for each in ask_anybody(frame).holdings:
            common |= frame.carried[each.rank]
    new = frame.carried[rank.position] & ~common
    if not frame.carried[rank.position]:
        yield "It carries nothing of its own."
    elif not new:
        yield "It carries nothing that not every member has."
    else:
        beyond = "" if rank.automatic else ", beyond what every member may"
        yield f"With it one may{beyond}: {_doing(frame, new)}."
    if rank.builds_on:
        yield f"It takes over all that {listed(frame.charter.ranks[key].title for key in rank.builds_on)} carries."


def _doing(frame: Frame, mask: int) -> str:
    """Say capabilities in sentences, without their headings."""
    return "; ".join(
        doing(frame, key) for keys in under_headings(frame, frame.catalogue.names(mask)).values() for key in keys
    )


def _powers(decider: Decider, rank: Rank, at: Instant) -> Iterator[str]:
    """Say whom it acts on, and who acts on it, on the whole site."""
    titles = decider.frame.charter.ranks
    ways, from_whom = [], []
    for act, verb in _ACTS:
        cells = list(power_cells(decider, act, 0, at))
        reached = [titles[cell.target].title for cell in cells if cell.actor == rank.key and cell.allowed]
        if reached:
            ways.append(f"{verb} {_few(reached)}")
        if act == "assign":
            from_whom = [titles[cell.actor].title for cell in cells if cell.target == rank.key and cell.allowed]
    if ways:
        yield f"It may {listed(ways)}."
    elif not rank.automatic:
        yield "It has no power over other ranks."
    if not rank.automatic and not rank.kept_by:
        yield f"{_few(from_whom)} may give it." if from_whom else "Only the owner may give it."


def _elsewhere(decider: Decider, rank: Rank) -> Iterator[str]:
    """Say what places change for it by its own name."""
    frame = decider.frame
    for n, place in enumerate(frame.places):
        word = frame.words_at(n).get(rank.key)
        if word is None or rank.unbounded:
            continue
        parts = []
        if word.allow:
            parts.append(f"it may {_doing(frame, word.allow)}")
        taken = word.deny | word.bar
        if taken:
            parts.append(f"it may not {_doing(frame, taken)}")
        where = in_place(place.title or place.key, site=n == 0)
        yield f"{where[:1].upper()}{where[1:]} {', and '.join(parts)}."


def describe_member(decider: Decider, member: Member, at: Instant) -> Described:
    """Describe a member: who they are, what they hold from whom until when, what they may do that others may not."""
    frame, asked = decider.frame, decider.people.ask(member.key, at)
    since = f", here since {day(member.joined)}" if member.joined else ""
    what = "a bot" if member.kind == "bot" else "a member"
    found = [f"{member.called} is {what}{since}; the account is {member.status}."]
    if asked.owner:
        found.append(f"{member.called} is the owner and may do everything everywhere.")
    found += _ranks_of(decider, asked)
    if member.groups:
        groups = (frame.charter.groups[key].title or key for key in member.groups if key in frame.charter.groups)
        found.append(f"Groups: {listed(groups)}.")
    if asked.profile is not None and not asked.owner:
        found += _beyond_others(decider, asked)
    return Described("member", member.key, member.called, tuple(found))


def _ranks_of(decider: Decider, asked: Asked) -> Iterator[str]:
    frame, members = decider.frame, decider.people.register.members
    for each in asked.recorded:
        rank = frame.ranks[each.rank]
        if each.how == "automatic":
            continue
        where = in_place(frame.places[each.place].title, site=each.place == 0)
        words = f"{rank.title} {where}"
        if each.assignment is not None:
            given = each.assignment
            start, end = given.period.said_from, given.period.said_until
            words += f" from {day(start)}" if start else ""
            words += f" until {day(end)}" if end else ""
            by = members[given.by].called if given.by in members else given.by
            words += f", given by {by}" if by else ""
            words += f" ({given.why})" if given.why else ""
        elif each.group is not None:
            words += f", by the group {frame.charter.groups[each.group].title or each.group}"
        yield f"They are {words}."
    for later in asked.later:
        rank = frame.charter.ranks[later.rank]
        yield f"They will be {rank.title} from {day(later.period.said_from)}."


def _beyond_others(decider: Decider, asked: Asked) -> Iterator[str]:
    """Say what somebody may do that a member without other ranks may not, and the other way round."""
    frame, plain = decider.frame, ask_anybody(decider.frame)
    places = range(len(frame.places))
    own, other = [decider.usable(asked, n) for n in places], [decider.usable(plain, n) for n in places]
    said = False
    for one, two, words in ((own, other, "may, beyond others,"), (other, own, "may not, unlike others,")):
        masks = [mine & ~theirs for mine, theirs in zip(one, two, strict=True)]
        for where, mask in _by_places(frame, masks):
            said = True
            yield f"{where[:1].upper()}{where[1:]} they {words} {_doing(frame, mask)}."
    if not said:
        yield "They may do what every member may."


def _by_places(frame: Frame, masks: list[int]) -> Iterator[tuple[str, int]]:
    """Yield sets of capabilities that concern the same places, with those places in words, the widest first."""
    spots: dict[int, list[int]] = {}
    for n, mask in enumerate(masks):
        for name in frame.catalogue.names(mask):
            spots.setdefault(frame.catalogue.bit[name], []).append(n)
    folded: dict[str, int] = {}
    for bit, found in spots.items():
        meant = [n for n in range(len(masks)) if frame.has_meaning(n) & bit]
        where = _over(frame, found, [n for n in meant if n not in found])
        folded[where] = folded.get(where, 0) | bit
    yield from folded.items()


def _over(frame: Frame, found: list[int], missing: list[int]) -> str:
    """Say places in words; of nearly all where something has a meaning, those that are missing."""
    if not missing:
        return "everywhere it can be done"
    if len(missing) <= _MISSING and len(found) > _FEW:
        return f"everywhere but {_where(frame, [frame.places[n].key for n in missing])}"
    return _where(frame, [frame.places[n].key for n in found])


def _where(frame: Frame, keys: list[str]) -> str:
    titles = [frame.charter.places[key].title or key for key in keys if key != SITE]
    if len(keys) == len(frame.places):
        return "everywhere"
    if SITE in keys:
        return "on the whole site" + (f" and in {_few(titles)}" if titles else "")
    return f"in {_few(titles)}"


def describe_place(decider: Decider, place: Place, at: Instant) -> Described:
    """Describe a place: what it is, who enters, what differs from the one above it, who looks after it."""
    frame = decider.frame
    n = frame.place_at[place.key]
    title = place.title or place.key
    inside = frame.charter.places[place.parent] if place.parent else None
    where = f" in {inside.title or inside.key}" if inside is not None and inside.key != SITE else ""
    found = [f"{title} is the whole site." if n == 0 else f"{title} is a {place.kind}{where}.", *_about(place.about)]
    if place.gate is not None:
        found.append(_gate(frame, place.gate))
    found += _differences(frame, n)
    found += _people_of(decider, n, at)
    return Described("place", place.key, title, tuple(found))


def _gate(frame: Frame, gate: Gate) -> str:
    charter = frame.charter

    def names(terms: Iterable[object], last: str) -> str:
        said = []
        for term in terms:
            key = str(term)
            plain = key.removesuffix("+")
            title = charter.groups[plain].title if plain in charter.groups else charter.ranks[plain].title
            said.append(f"{title or plain}{' or above' if key.endswith('+') else ''}")
        return listed(said, last)

    parts = []
    if gate.any:
        parts.append(f"who is {names(gate.any, 'or')}")
    if gate.all:
        parts.append(f"who is {names(gate.all, 'and')}")
    if gate.none:
        parts.append(f"who is not {names(gate.none, 'or')}")
    known = " Others may know that it is there." if gate.teaser else ""
    return f"One enters {listed(parts)}.{known}"


def _differences(frame: Frame, place: int) -> Iterator[str]:
    here = frame.places[place]
    charter, register = frame.charter, here.exceptions
    for holder, word in frame.words_at(place).items():
        entry = charter.ranks.get(holder) or charter.groups.get(holder)
        title = (entry.title if entry else "") or holder
        parts = []
        if word.allow:
            parts.append(f"may {_doing(frame, word.allow)}")
        if word.deny:
            parts.append(f"may not {_doing(frame, word.deny)}")
        if word.bar:
            parts.append(f"may never {_doing(frame, word.bar)}")
        yield f"Here {title} {', and '.join(parts)}."
    if register:
        yield f"Exceptions for single members: {_few(each.of for each in register)}."
    if not frame.words_at(place) and not register and place:
        yield "Nothing differs here from the place it is in."


def _people_of(decider: Decider, place: int, at: Instant) -> Iterator[str]:
    """Say how many find the place, and who may change who does what there."""
    frame = decider.frame
    active = [asked for asked in decider.people.all(at) if asked.status == "active"]
    if not active:
        return
    inside = sum(bool(decider.usable(asked, place)) for asked in active)
    everyone = "All" if inside == len(active) else str(inside)
    yield f"{everyone} of {len(active)} active members can do something here."
    using = frame.catalogue.mask(frame.charter.rules.act("overrides").using)
    keepers = [asked.label for asked in active if decider.usable(asked, place) & using]
    if keepers:
        yield f"{_few(keepers)} may change who does what here."
