"""Advice about members and their assignments: too many, too few, ended, contradictory."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence

from ask_above.ask import cover
from ask_above.ask.advice.piece import Piece, Sight, to_entry
from ask_above.ask.anywhere import able_among, count_anywhere
from ask_above.change.people import Unassign
from ask_above.change.typed import typed
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, few, how_many, listed
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Profile
from ask_above.decide.walk import closed_gate, ranks_at
from ask_above.decide.words import day
from ask_above.people.recognising import CALLED, Identities
from ask_above.people.register import Assignment, Status


def too_many(sight: Sight) -> Iterator[Piece]:
    """Find more members with unbounded ranks than ``rules.advice`` says."""
    advice = sight.charter.rules.advice
    free = sight.compiled.unbounded
    able = (keys for a, keys in sight.alike if a.is_active and any(holding.rank in free for holding in a.holdings))
    among = {key for keys in able for key in keys}
    unbounded = sight.decider.in_order(among)
    if len(unbounded) > advice.most_unbounded:
        rank = sight.compiled.ranks[min(sight.compiled.unbounded)]
        names = listed(sight.title(key) for key in unbounded[:6])
        have = how_many(len(unbounded), "member has", "members have")
        what = f"{have} an unbounded rank, more than {advice.most_unbounded}: {names}"
        mend = f"see who: ask-above who {sight.compiled.catalogue.keys[0]} --through"
        yield Piece("too-many-unbounded", rank.where, what, mend, tuple(f"@{key}" for key in unbounded))


def duties(sight: Sight) -> Iterator[Piece]:
    """Find what too many may use, and what nobody or one member alone may use (rule 5)."""
    if sight.active < 2:  # noqa: PLR2004
        return
    compiled, wanted = sight.compiled, cover.default_duties(sight.compiled)
    if not wanted:
        return
    covered = cover.cover(sight.decider, wanted, sight.at)
    yield from _too_able(sight, covered.able)
    by_duty: dict[tuple[str, str | None], list[str]] = {}
    for gap in covered.gaps:
        by_duty.setdefault((gap.capability, gap.only), []).append(gap.place)
    for (key, only), places in by_duty.items():
        where, spots = compiled.catalogue.capabilities[key].where, _places(sight, places)
        if only is None:
            yield Piece(
                "uncovered", where, f"no active member may use {key} {spots}", f"see where: ask-above cover {key}"
            )
        else:
            what = f"only {sight.title(only)} may use {key} {spots}"
            yield Piece(
                "only-one",
                where,
                what,
                f"see what depends on them: ask-above cover {key} --without {only}",
                (f"@{only}",),
            )


def newly_able(sight: Sight, before: Decider, members: Sequence[str], capabilities: Collection[str]) -> Iterator[Piece]:
    """Find which of some capabilities too many may use, and more or fewer than ``before`` some members changed."""
    wanted = [key for key in cover.default_duties(sight.compiled) if key in capabilities]
    there = [key for key in members if key in before.people.register.members]
    here = [key for key in members if key in sight.register.members]
    was, now = able_among(before, there, wanted, sight.at), able_among(sight.decider, here, wanted, sight.at)
    # everybody is counted only where the number is another
    if was != now and sight.active > 1:
        differing = [key for key in wanted if was[key] != now[key]]
        yield from _too_able(sight, count_anywhere(sight.decider, differing, sight.at))


def _too_able(sight: Sight, able: Mapping[str, int]) -> Iterator[Piece]:
    most, known = sight.charter.rules.advice.most_high_risk, sight.compiled.catalogue.capabilities
    for key, count in able.items():
        if known[key].risk == "high" and count > most:
            what = f"{how_many(count, 'member')} may use {key} (high risk), more than {most}"
            yield Piece("too-many-high-risk", known[key].where, what, f"see who: ask-above who {key} --through")


def _places(sight: Sight, keys: list[str]) -> str:
    if "site" in keys:
        rest = len(keys) - 1
        return "on the whole site" + (f" and in {rest} places" if rest > 1 else " and in one place" if rest else "")
    return f"in {few((sight.compiled.named[key].called for key in keys), 4)}"


def over_limit(sight: Sight) -> Iterator[Piece]:
    """Find ranks that more members have than their limit allows (rule 6.8)."""
    for rank in sight.compiled.ranks:
        count = sight.holders[rank.position]
        if rank.limit is not None and count > rank.limit:
            holding = sight.holding(rank)
            names = listed(sight.title(key) for key in holding[:6])
            have = how_many(count, "member has", "members have")
            what = f"{have} {rank.called}; its limit is {rank.limit}: {names}"
            concerned = (rank.key, *(f"@{key}" for key in holding))
            commands = (f"ask-above rank set {rank.key} limit={count}",)
            mend = "unassign it from some of them, or raise the limit"
            yield Piece("over-limit", rank.where, what, mend, concerned, commands)


def assignments(sight: Sight) -> Iterator[Piece]:
    """Find assignments that have ended, never start, or contradict each other (rules 4.2 and 6.8)."""
    apart = {each for r in sight.compiled.ranks if r.apart_from for each in (r.key, *r.apart_from)}
    over: list[tuple[str, int]] = []
    several: list[str] = []
    for _, keys in sight.alike:
        # those who are alike have the same assignments, in the same order
        given = sight.register.of(keys[0])
        over += [(key, n) for n, each in enumerate(given) if _is_over(each, sight.at) for key in keys]
        ranks = {assignment.rank for assignment in given}
        if len(ranks) < len(given) or (len(given) > 1 and not apart.isdisjoint(ranks)):
            several += keys
    # each is told by themselves
    sight.register.read([*(key for key, _ in over), *several])
    yield from (_told_over(sight, sight.register.of(key)[n]) for key, n in over)
    for key in several:
        yield from _contradictory(sight, key, sight.register.of(key))


def _is_over(given: Assignment, at: Instant) -> bool:
    start, end = given.period.start, given.period.end
    return end is not None and (end <= at or (start is not None and start >= end))


def _told_over(sight: Sight, given: Assignment) -> Piece:
    title, key, concerned = sight.title(given.rank), given.member, (f"@{given.member}", given.rank)
    start, end = given.period.start, given.period.end
    if start is not None and end is not None and start >= end:
        what = f"{sight.title(key)}'s assignment of {title} ends before it starts"
        return Piece("never-starts", given.where, what, "correct its dates", concerned)
    word = "until" if "T" in given.period.said_until else "through"
    what = f"{sight.title(key)}'s assignment of {title} has ended ({word} {day(given.period.said_until)})"
    return Piece("ended", given.where, what, "remove the line when nobody needs it", concerned)


def _contradictory(sight: Sight, key: str, given: list[Assignment]) -> Iterator[Piece]:
    for n, assignment in enumerate(given):
        rank = sight.charter.ranks[assignment.rank]
        for other in given[:n]:
            second = sight.charter.ranks[other.rank]
            if not _overlap(assignment, other):
                continue
            commands: tuple[str, ...] = ()
            if rank is second and assignment.place == other.place:
                what = f"{sight.title(key)} is assigned {rank.called} twice for the same time"
                mend = f"remove one of the two lines; the other is {other.where}"
            elif _apart(rank, second):
                what = f"{sight.title(key)} has {rank.called} and {second.called}; nobody may have both"
                mend = "unassign one of the two"
                where = "" if other.place == SITE else f" --at {other.place}"
                commands = (f"ask-above unassign {second.key} {key}{where}",)
            else:
                continue
            yield Piece("contradictory", assignment.where, what, mend, (f"@{key}", rank.key), commands)


def _apart(rank: Rank, other: Rank) -> bool:
    return other.key in rank.apart_from or rank.key in other.apart_from


def _overlap(one: Assignment, other: Assignment) -> bool:
    """Whether two periods have a moment in common."""
    first, second = one.period, other.period
    starts = max(first.start or -(1 << 62), second.start or -(1 << 62))
    ends = min(period.end if period.end is not None else 1 << 62 for period in (first, second))
    return starts < ends


def joined_without(sight: Sight) -> Iterator[Piece]:
    """Find active members who never joined by a change, and lack what everybody gets on joining (rule 4.7)."""
    missing = [rank for rank in sight.compiled.ranks if rank.on_joining]
    dated = sum(bool(member.joined) for member in sight.register.members.values()) if missing else 0
    if 2 * dated <= len(sight.register.members):
        return  # dates of joining are not kept here
    for _, keys in sight.alike if missing else ():
        for key in keys:
            member = sight.register.members[key]
            if not member.is_active or member.joined or member.kind == "bot":
                continue
            has = {assignment.rank for assignment in sight.register.of(key)}
            for rank in (each for each in missing if each.key not in has):
                what = f"{member.called} is active, has no date of joining and does not have {rank.called}"
                commands = (f"ask-above assign {rank.key} {key}",)
                yield Piece("joined-by-hand", member.where, what, f"assign {rank.called}", (f"@{key}",), commands)


def doubles(sight: Sight) -> Iterator[Piece]:
    """Find what says who somebody is and is that of two members (rule 9.16)."""
    for member, field, other in Identities(sight.register.members.values()).doubles():
        if field != "key" and (other < member.key or field == "user_name"):
            what = f"{member.called} (@{member.key}) has the {CALLED[field]} of @{other}"
            mend = f"give one of them a {CALLED[field]} of their own"
            yield Piece("identity-twice", member.where, what, mend, (f"@{member.key}", f"@{other}"))


def behind_gates(sight: Sight) -> Iterator[Piece]:
    """Find assignments for a place whose gate, or one above it, does not admit the member (rule 5.3)."""
    compiled = sight.compiled
    for folded, keys in sight.alike if compiled.gated else ():
        if not folded.is_active or folded.profile is None or folded.owner:
            continue
        for key in keys:
            asked = sight.decider.people.ask(key, sight.at)
            for holding in asked.holdings:
                given, title = holding.assignment, compiled.ranks[holding.rank].called
                shut = closed_gate(compiled, folded.profile, holding.place) if given and holding.place else None
                free = shut is not None and not compiled.unbounded.isdisjoint(
                    ranks_at(compiled, folded.profile, holding.place)
                )
                if given is None or shut is None or free:
                    continue
                gate = compiled.places[shut]
                what = f"{asked.label} has {title} {sight.at_place(compiled.places[holding.place])}, "
                what += f"but the gate of {gate.called} does not admit them"
                mend = f"admit them at {gate.called}, or unassign {title}"
                commands = (typed(Unassign(key, given.rank, given.place)),)
                yield Piece("held-behind-gate", given.where, what, mend, (f"@{key}",), commands)


def pending_worse(sight: Sight) -> Iterator[Piece]:
    """Find what visitors may use and pending members may not (rule 4.4)."""
    compiled, entry = sight.compiled, sight.compiled.entry
    if entry is None and not any(each.status == Status.PENDING for each, _ in sight.alike):
        return
    placed = frozenset() if entry is None else frozenset({(entry, 0)})
    waiting = Profile(tuple(compiled.automatic["anyone"]), placed, pending=True)
    stranger = Profile(tuple(sorted((*compiled.automatic["anyone"], *compiled.automatic["visitors"]))))
    reckoner = sight.decider.reckoner
    for n, place in enumerate(compiled.places):
        less = reckoner.usable(stranger, n) & ~reckoner.usable(waiting, n)
        if n:
            above = compiled.chains[n][-2]
            less &= ~(reckoner.usable(stranger, above) & ~reckoner.usable(waiting, above))
        if less:
            names = listed(compiled.catalogue.names(less))
            what = f"visitors may use {names} {sight.at_place(place)}, but pending members may not"
            where = place.where if entry is None or place.overrides else compiled.ranks[entry].where
            yield Piece("pending-worse", where, what, "grant it to the entry rank, or remove the deny there")


def exceptions_gone(sight: Sight) -> Iterator[Piece]:
    """Find exceptions for people who left, or who are not in the register."""
    members = sight.register.members
    for place in sight.compiled.places if members else ():
        for entry in place.exceptions:
            member = members.get(entry.of)
            if member is None or member.is_retired:
                said = "who is not in the register" if member is None else "who has left"
                what = f"there is an exception {sight.at_place(place)} for {sight.title(entry.of)}, {said}"
                commands = (to_entry(place, entry, "--clear"),) if member else ()
                yield Piece("exception-gone", entry.where, what, "remove the exception", (f"@{entry.of}",), commands)
