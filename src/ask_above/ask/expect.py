"""Hold a charter to its expectations (rules 8.1 to 8.4)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from typing import NamedTuple

from ask_above.change.parts import END, Coverage
from ask_above.charter.expectations import Expectation
from ask_above.charter.moments import Instant, as_instant, parse
from ask_above.charter.names import few, upper
from ask_above.charter.rules import Act
from ask_above.charter.where import NOWHERE
from ask_above.decide.acts import ActAsked
from ask_above.decide.answer import Answer
from ask_above.decide.classes import MemberClass
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked, Sort, ask_rank, ask_visitor
from ask_above.decide.walk import ranks_at
from ask_above.decide.words import in_place
from ask_above.escalation.ground import Ground
from ask_above.people.register import edges_of

Folds = dict[MemberClass, list[str]]
"""Members who are alike, by what they are."""


class Unmet(NamedTuple):
    """An expectation that does not hold.

    ``because`` says so in a sentence; ``answers`` are the explained answers that went the other way.
    """

    expectation: Expectation
    because: str
    answers: tuple[Answer, ...] = ()

    def __str__(self) -> str:
        lines = [f"Not so: {self.expectation.text}", f"  {self.because}"]
        for answer in self.answers:
            lines += [f"  {line}".rstrip() for line in str(answer).splitlines()]
        return "\n".join(lines)


class Broken(NamedTuple):
    """An expectation that a change breaks, or mends where ``breaks`` is false.

    ``since`` is the instant from which it is so, ``None`` for from now on. ``unmet`` tells why it does not hold.
    """

    unmet: Unmet
    breaks: bool
    since: Instant | None = None


def broken(old: Decider, new: Decider, now: Instant) -> list[Broken]:
    """Return the expectations that held at a moment before and do not at that moment after, and those that are mended.

    They are paired by what they say. One that is new is broken where it does not hold (rule 9.11).
    """
    # by what they say: a line that moved in the file is the same expectation
    known = {_says(expectation): expectation for expectation in old.compiled.charter.expectations}
    same = old.compiled is new.compiled
    members = set(new.people.register.differing(old.people.register)) if same else set[str]()
    folds = [(decider, _folds(decider, members)) for decider in (old, new)]
    turned = []
    for expectation in new.compiled.charter.expectations:
        was = known.get(_says(expectation))
        # a change of one member is planned while somebody waits: what cannot turn is not worked out
        if same and was is not None and not _concerns(folds, expectation, members, now):
            continue
        fails, why = failing(new, expectation, now)
        failed, why_before = failing(old, was, now) if was is not None else (Coverage(), None)
        more = fails - failed
        if more and why is not None:
            since = None if more.first <= now else more.first
            turned.append(Broken(unmet_one(new, expectation, more.first) or why, breaks=True, since=since))
        elif not fails and failed and why_before is not None:
            since = None if failed.first <= now else failed.first
            turned.append(Broken(why_before, breaks=False, since=since))
    return turned


def unmet_later(decider: Decider, now: Instant) -> list[tuple[Instant, Unmet]]:
    """Return the expectations that hold now and will not, each with the instant from which, and why."""
    unmet = []
    for expectation in decider.compiled.charter.expectations:
        fails, why = failing(decider, expectation, now)
        if fails and why is not None and fails.first > now:
            unmet.append((fails.first, why))
    return unmet


def _concerns(
    folds: Sequence[tuple[Decider, Folds]], expectation: Expectation, members: set[str], now: Instant
) -> bool:
    """Whether an expectation may turn where these members alone differ, and nothing of the charter."""
    subject = expectation.subject
    if expectation.never or not members:
        return False
    if expectation.act is not None:
        return True  # a limit counts everybody
    if subject.form in ("every", "no"):
        # those who differ alone can make it fail or mend it, so it is enough that none of them does on either side
        return any(_failing_of_many(decider, expectation, now, fold)[0] for decider, fold in folds)
    return (
        bool({subject.key, expectation.author} & members) if subject.form == "member" else expectation.author in members
    )


def _says(expectation: Expectation) -> object:
    return expectation._replace(text="", where=NOWHERE)


def failing(decider: Decider, expectation: Expectation, now: Instant) -> tuple[Coverage, Unmet | None]:
    """Return when from now on an expectation does not hold, and why the first time (rule 8.6)."""
    if expectation.act is None and expectation.subject.form in ("every", "no") and expectation.on is None:
        return _failing_of_many(decider, expectation, now, decider.ready.alike())
    starts = [now, *sorted(_moments(decider, expectation, now))]
    spans: list[tuple[Instant, Instant]] = []
    why: Unmet | None = None
    for since, until in zip(starts, [*starts[1:], END], strict=True):
        wrong = unmet_one(decider, expectation, since)
        if wrong is not None:
            why = why or wrong
            spans.append((since, until))
    return _joined(spans), why


def _joined(spans: Iterable[tuple[Instant, Instant]]) -> Coverage:
    """Return stretches of time as one coverage, those that meet or overlap joined."""
    merged: list[tuple[Instant, Instant]] = []
    for since, until in sorted(spans):
        if merged and since <= merged[-1][1]:
            merged[-1] = (merged[-1][0], max(until, merged[-1][1]))
        else:
            merged.append((since, until))
    return Coverage(tuple(merged))


def _moments(decider: Decider, expectation: Expectation, now: Instant) -> set[Instant]:
    """Return the later moments at which the answer to an expectation may be another one."""
    if expectation.on is not None or expectation.never:
        return set()
    register, subject = decider.people.register, expectation.subject
    keys = {subject.key} if subject.form == "member" else set[str]()
    if expectation.act is not None:
        keys |= {expectation.member} if expectation.member else set()
        rank = decider.compiled.charter.ranks.get(expectation.target or "")
        if subject.form in ("every", "no"):
            keys |= register.members.keys()
        # when somebody's time ends there is room for another
        elif rank is not None and rank.limit is not None:
            keys |= {assignment.member for assignment in register.naming("rank", {rank.key})}
    edges: set[Instant] = set()
    for key in filter(register.members.__contains__, keys):
        edges |= edges_of(register.of(key), now)
    return edges


def _failing_of_many(
    decider: Decider, expectation: Expectation, now: Instant, folds: Folds
) -> tuple[Coverage, Unmet | None]:
    """Return when an expectation of all or none of some who hold a rank fails: those who are alike once a stretch."""
    compiled, subject = decider.compiled, expectation.subject
    missing = unmet_one(decider, expectation, now) if expectation.author else None
    if missing is not None and not missing.answers:
        return Coverage(((now, END),)), missing
    position, place = compiled.rank_at[subject.key], compiled.place_at[expectation.place]
    wanted = subject.form == "every"
    spans: list[tuple[Instant, Instant]] = []
    for member_class, keys in folds.items():
        starts = [now, *(edge for edge in member_class.edges if edge > now)]
        for since, until in zip(starts, [*starts[1:], END], strict=True):
            state = decider.ready.at(member_class, since)
            if not state.owner and not (state.profile and position in ranks_at(compiled, state.profile, place)):
                continue
            # those who are alike answer alike, but the author has own things
            for key in keys if expectation.author in keys else keys[:1]:
                asked = decider.people.ask(key, since)
                if not asked.is_active or not asked.profile:
                    continue
                held = position in ranks_at(compiled, asked.profile, place)
                if held and _put(decider, expectation, asked, since).allowed is not wanted:
                    spans.append((since, until))
    fails = _joined(spans)
    return fails, unmet_one(decider, expectation, fails.first) if fails else None


def _folds(decider: Decider, members: Iterable[str]) -> Folds:
    folds: Folds = {}
    for key in filter(decider.people.register.members.__contains__, members):
        folds.setdefault(decider.ready.class_of(key), []).append(key)
    return folds


def unmet(decider: Decider, now: Instant) -> list[Unmet]:
    """Return the expectations that do not hold, in the order of the charter."""
    found = (unmet_one(decider, expectation, now) for expectation in decider.compiled.charter.expectations)
    return [each for each in found if each is not None]


def unmet_one(decider: Decider, expectation: Expectation, now: Instant) -> Unmet | None:
    """Return why an expectation does not hold, ``None`` where it does."""
    if expectation.never:
        return _reached(decider, expectation)
    at = now if expectation.on is None else as_instant(parse(expectation.on), decider.compiled.charter.zone)
    known = decider.people.register.members
    form = expectation.subject.form
    named = [expectation.subject.key if form == "member" else None, expectation.author, expectation.member]
    missing = sorted({key for key in named if key is not None and key not in known})
    if missing:
        who = ", ".join(f"@{key}" for key in missing)
        return Unmet(expectation, f"There is no member {who} in the register.")
    wanted = expectation.allowed if form != "no" else False
    answers = [(asked, _put(decider, expectation, asked, at)) for asked in _subjects(decider, expectation, at)]
    wrong = [(asked, answer) for asked, answer in answers if answer.allowed is not wanted]
    if not wrong:
        return None
    names = few((asked.label for asked, _ in wrong), 6)
    said = "may not" if wanted else "may"
    return Unmet(expectation, f"{upper(names)} {said}.", tuple(answer for _, answer in wrong[:1]))


def wrong_answers(decider: Decider, expectation: Expectation, at: Instant) -> Iterator[Asked]:
    """Yield those of whom an expectation speaks and for whom it does not hold; all it names must be there."""
    known = decider.people.register.members
    subject = expectation.subject
    named = [subject.key if subject.form == "member" else None, expectation.author, expectation.member]
    if any(key is not None and key not in known for key in named):
        return
    wanted = expectation.allowed if subject.form != "no" else False
    for asked in _subjects(decider, expectation, at):
        if _put(decider, expectation, asked, at).allowed is not wanted:
            yield asked


def _reached(decider: Decider, expectation: Expectation) -> Unmet | None:
    """Return where a rank that can never reach something could reach it after all, alone (rule 8.5)."""
    from ask_above.escalation.climb import climb
    from ask_above.escalation.moves import sentence

    compiled, subject = decider.compiled, expectation.subject
    capability = full_name(decider, expectation.capability or "", ask_rank(compiled, compiled.ranks[0]), None)
    # ``above`` takes in the rank itself and all that stand over it
    bit, last = compiled.catalogue.bit[capability], compiled.rank_at[subject.key]
    places = range(len(compiled.places)) if not expectation.place else [compiled.place_at[expectation.place]]
    for position in range(0 if subject.form == "above" else last, last + 1):
        climbed = climb(decider.compiled.keep(Ground), decider.reckoner, compiled.ranks[position])
        for place in places:
            if climbed.reach[place] & bit:
                title = compiled.ranks[position].called
                where = in_place(compiled.places[place].called, site=place == 0)
                if climbed.start[place] & bit:
                    return Unmet(expectation, f"{title} may use {capability} {where} as it is.")
                # the first are the fewest
                moves = next(g.moves for g in climbed.gains(bit) if g.place == place)
                how = sentence(compiled.charter, moves)
                return Unmet(expectation, f"{title} could reach {capability} {where}: {how}.")
    return None


def _subjects(decider: Decider, expectation: Expectation, at: Instant) -> Iterator[Asked]:
    """Yield everyone that the expectation speaks of (rule 8.2)."""
    compiled, subject = decider.compiled, expectation.subject
    if subject.form == "visitor":
        yield ask_visitor(compiled)
    elif subject.form == "member":
        yield decider.people.ask(subject.key, at)
    elif subject.form in ("rank", "above"):
        last = compiled.rank_at[subject.key]
        for position in range(0 if subject.form == "above" else last, last + 1):
            yield ask_rank(compiled, compiled.ranks[position])
    else:
        position, place = compiled.rank_at[subject.key], compiled.place_at[expectation.place]
        for member_class, keys in decider.ready.alike().items():
            state = member_class.only or decider.ready.at(member_class, at)
            if state.owner or (state.profile and position in ranks_at(compiled, state.profile, place)):
                found = (decider.people.ask(key, at) for key in keys)
                yield from (
                    a for a in found if a.is_active and a.profile and position in ranks_at(compiled, a.profile, place)
                )


def _put(decider: Decider, expectation: Expectation, asked: Asked, at: Instant) -> Answer:
    """Put the expectation's question about one of those it speaks of."""
    if expectation.act is None:
        capability = full_name(decider, expectation.capability or "", asked, expectation.author)
        return decider.may(asked, capability, decider.compiled.place_at[expectation.place])
    using = full_name(decider, expectation.capability, asked, None) if expectation.capability else None
    rank, target = expectation.target, expectation.member
    if expectation.act == Act.MODERATE and target is None:
        rank, target = None, f"rank:{rank}"
    return ActAsked(expectation.act, rank, target, expectation.place, using).put(decider, asked, at)


def full_name(decider: Decider, capability: str, asked: Asked, author: str | None) -> str:
    """Return the full name that a bare one stands for: own for the author, else all (rule 2.3)."""
    pair = decider.compiled.catalogue.pairs.get(capability)
    if pair is None:
        return capability
    return pair[0] if author is not None and asked.sort is Sort.MEMBER and asked.key == author else pair[1]
