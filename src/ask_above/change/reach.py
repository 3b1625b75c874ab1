"""Whether a change is within somebody's reach: what each part takes, and its effect (rules 9.1 to 9.3)."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

from ask_above.change.draft import Need
from ask_above.charter.moments import Instant
from ask_above.charter.names import listed
from ask_above.charter.rules import ActRule
from ask_above.decide.answer import Step
from ask_above.decide.frame import Frame
from ask_above.decide.gains import as_active
from ask_above.decide.may import Decider
from ask_above.decide.profile import Asked, Profile, ask_anybody, ask_member, ask_rank
from ask_above.decide.walk import standing
from ask_above.decide.words import in_place

_MOST_NAMED = 3


class Refusal(NamedTuple):
    """Why a part of a change is out of somebody's reach; ``rule`` is the one that says so."""

    rule: str
    why: str

    def __str__(self) -> str:
        return f"{self.why} [{self.rule}]"


_FEW = 3_000
"""Up to how many subjects times places are looked at one by one."""


class _Subject(NamedTuple):
    """Someone whom a change may touch, what they come down to before and after, and the places to look at.

    ``form`` is the same for all who are alike before and after.
    """

    asked: Asked
    before: Profile
    after: Profile
    places: Sequence[int]
    form: object = None


class _Touch(NamedTuple):
    """What speaks against touching somebody, after their name."""

    rule: str
    why: str


class Reach:
    """Holds one change to what one member may do; ``old`` and ``new`` are the community before and after."""

    def __init__(self, old: Decider, new: Decider, needs: Sequence[Need], at: Instant) -> None:
        self.old, self.new, self.needs, self.at = old, new, needs, at

    def refusals(self, actor: str) -> list[Refusal]:
        """Return every reason why the change is out of a member's reach; none where it is within."""
        return list(dict.fromkeys(self._all(self.old.people.ask(actor, self.at))))

    def _all(self, asked: Asked) -> Iterator[Refusal]:
        if asked.rules_all:
            yield from self._binding_the_owner(asked)
            return
        if not asked.acts:
            yield Refusal("6.1", f"{asked.label} is {asked.status}; only an active member may change anything.")
            return
        yield from self._direct(asked)
        rule = self._rule()
        if rule is not None and not any(need.kind == "owner" for need in self.needs):
            yield from self._effect(asked, rule, self._subjects)
        elif rule is None and any(need.kind == "people" for need in self.needs):
            yield from self._effect(asked, self.old.frame.charter.rules.act("assign"), self._regrouped())

    def who_could(self, but: str) -> list[str]:
        """Return members who could make the change, the owner first, a few at most; ``but`` is left out."""
        owner = self.old.frame.charter.owner
        keys = [key for key in ([owner] if owner else []) if key in self.old.people.register.members]
        keys += [key for key in self.old.people.register.members if key not in (owner, but)]
        named = {need.member for need in self.needs}
        found: list[str] = []
        failing: set[object] = set()  # whoever is like these, and is not named in the change, could not make it either
        for key in keys:
            form = self.old.ready.fold(key)
            if key == but or (form in failing and key not in named):
                continue
            asked = self.old.people.ask(key, self.at)
            if asked.acts and next(self._all(asked), None) is None:
                found.append(key)
                if len(found) == _MOST_NAMED:
                    break
            elif key not in named:
                failing.add(form)
        return found

    # -- what each part takes (rule 9.2)

    def _binding_the_owner(self, asked: Asked) -> Iterator[Refusal]:
        """Yield what binds the owner too: conditions of ranks, and what something outside keeps."""
        for need in self.needs:
            yield from _failing(self._steps(asked, need))

    def _direct(self, asked: Asked) -> Iterator[Refusal]:
        for need in self.needs:
            if need.kind == "owner":
                owner = self.old.frame.charter.owner
                said = f"{need.what[:1].upper()}{need.what[1:]}: that is the owner's alone."
                yield Refusal("9.2", said if owner else f"{said} No owner is set.")
            else:
                yield from _failing(self._steps(asked, need))

    def _steps(self, asked: Asked, need: Need) -> list[Step]:
        """Return the steps of what one part takes."""
        frame, people = self.old.frame, self.old.people
        place = frame.place_at.get(need.place, 0)
        if need.kind == "manage":
            return self._manage(asked, need)
        if need.kind == "place":
            return [] if asked.rules_all else self._using(asked, "overrides", place)
        if need.kind == "people":
            return [] if asked.rules_all else self._using(asked, "assign", 0)
        target = people.ask(need.member, self.at) if need.member in people.register.members else None
        if need.kind == "account" and target is not None:
            using = frame.charter.rules.act("accounts").using
            return [] if asked.rules_all else self.old.case(asked, 0, self.at).moderate(target, using)
        if need.kind == "everybody":
            return self._everybody(asked, need)
        rank = frame.charter.ranks.get(need.rank)
        if rank is None:
            return []
        if need.kind == "assign":
            return self.old.case(asked, place, self.at).assign(rank, target)
        steps = self.old.case(asked, place, self.at).unassign(rank, target) if target is not None else []
        return [step for step in steps if need.kind == "unassign" or step.code != "no-assignment"]

    def _manage(self, asked: Asked, need: Need) -> list[Step]:
        """Note whether a rank is within reach, before the change and after it."""
        steps: list[Step] = []
        for decider in (self.old, self.new):
            rank = decider.frame.charter.ranks.get(need.rank)
            if rank is not None:
                actor = decider.people.ask(asked.key or "", self.at)
                steps += decider.case(actor, 0, self.at).manage(rank)
        return steps

    def _everybody(self, asked: Asked, need: Need) -> list[Step]:
        """Note whether a rank may be given to everybody, as it is afterwards and, where it was there, before."""
        steps: list[Step] = []
        for decider in (self.old, self.new):
            rank = decider.frame.charter.ranks.get(need.rank)
            if rank is not None:
                actor = decider.people.ask(asked.key or "", self.at)
                steps += decider.case(actor, 0, self.at).assign(rank, None)
        return steps

    def _using(self, asked: Asked, act: str, place: int) -> list[Step]:
        """Note whether somebody can use what an edit takes, at a place."""
        frame = self.old.frame
        using = frame.charter.rules.act(act).using
        can = self.old.usable(asked, place) & frame.catalogue.mask(using)
        words = {
            "who": asked.label,
            "what": listed(using, "or"),
            "place": in_place(frame.places[place].title, site=place == 0),
        }
        if can:
            return [Step("6.2", "capability", words, holds=True)]
        if not using:
            return [Step("6.2", "no-using", {"default": act, "what": "what it takes"}, holds=False)]
        why = self.old.may(asked, using[0], place).reason
        return [Step("6.2", "no-capability", {**words, "why": why}, holds=False)]

    # -- the effect (rule 9.3)

    def _rule(self) -> ActRule | None:
        """Return the act whose order the effect is held to; ``None`` where each part is held to its own."""
        kinds = {need.kind for need in self.needs}
        for kind, act in (("manage", "manage"), ("place", "overrides"), ("unconfer", "assign")):
            if kind in kinds:
                return self.old.frame.charter.rules.act(act)
        return None

    def _effect(self, actor: Asked, rule: ActRule, subjects: Iterable[_Subject]) -> Iterator[Refusal]:
        """Yield where somebody out of reach is touched, or gains what the actor does not hold."""
        told: set[tuple[str, str]] = set()
        known: dict[object, _Touch | None] = {}
        for subject in subjects:
            if subject.form is None or subject.asked.key == actor.key:
                touch = self._touched(actor, rule, subject)
            else:
                if subject.form not in known:
                    known[subject.form] = self._touched(actor, rule, subject)
                touch = known[subject.form]
            if touch is not None and (subject.asked.label, touch.rule) not in told:
                told.add((subject.asked.label, touch.rule))
                yield Refusal(touch.rule, f"{subject.asked.label} {touch.why}")
        yield from self._standing(actor)
        yield from self._power(actor)

    @cached_property
    def _subjects(self) -> list[_Subject]:
        """Return every member not retired, as if active, and everyone asked as a rank, where anything may differ.

        A rank that is made is compared with the automatic ranks of members alone.
        """
        pairs: dict[tuple[Profile, Profile], int] = {}
        everyone: list[tuple[Asked, int, object]] = []
        for asked, before, after, form in self._members():
            everyone.append((asked, pairs.setdefault((before, after), len(pairs)), form))
        was = self._earlier_names()
        for key, position in self.new.frame.rank_at.items():
            earlier = self.old.frame.rank_at.get(was.get(key, key))
            later = ask_rank(self.new.frame, position)
            asked = later if earlier is None else ask_rank(self.old.frame, earlier)
            held = ask_anybody(self.old.frame) if earlier is None else asked
            if held.profile and later.profile:
                everyone.append((asked, pairs.setdefault((held.profile, later.profile), len(pairs)), None))
        both = list(pairs)
        where = self._where(both)
        return [_Subject(asked, *both[n], where[n], form) for asked, n, form in everyone if where[n]]

    def _members(self) -> Iterator[tuple[Asked, Profile, Profile, object]]:
        """Yield every member not retired, and what they come down to; those who are alike have that in common."""
        members = self.new.people.register.members
        known: dict[object, tuple[Profile, Profile]] = {}
        for key, member in self.old.people.register.members.items():
            if member.status == "retired" or key not in members:
                continue
            form = self.old.ready.fold(key), self.new.ready.fold(key)
            asked = self.old.people.ask(key, self.at)
            if form not in known:
                known[form] = as_active(asked), as_active(self.new.people.ask(key, self.at))
            yield asked, *known[form], form

    def _where(self, pairs: list[tuple[Profile, Profile]]) -> list[Sequence[int]]:
        """Return for each pair the places where what is held may differ."""
        old, new = self.old.frame, self.new.frame
        every = range(len(new.places))
        if len(pairs) * len(every) <= _FEW or old.catalogue.keys != new.catalogue.keys:
            return [every for _ in pairs]
        from ask_above.decide.held import held_otherwise

        # who comes to be unbounded, or is that no more, may hold the same as before
        free = [_unbounded(before, old) or _unbounded(after, new) for before, after in pairs]
        asked = [n for n, (before, after) in enumerate(pairs) if not free[n] and (before != after or old is not new)]
        found = held_otherwise(self.old.plan, self.new.plan, [pairs[n] for n in asked], self._beside)
        where: list[Sequence[int]] = [every if each else () for each in free]
        for n, places in zip(asked, found, strict=True):
            where[n] = places
        return where

    def _earlier_names(self) -> dict[str, str]:
        """Return the key that a rank had before, where one was given another key and nothing else came or went."""
        old, new = self.old.frame.rank_at, self.new.frame.rank_at
        gone, come = [key for key in old if key not in new], [key for key in new if key not in old]
        same = len(gone) == len(come) == 1 and old[gone[0]] == new[come[0]]
        return {come[0]: gone[0]} if same else {}

    def _regrouped(self) -> Iterator[_Subject]:
        """Yield whoever is put into a group or out of it, by their groups alone.

        What they come to have besides counts as an assignment of its own, or comes with becoming active (rule 4.7).
        """
        members = self.old.people.register.members
        frame, register = self.new.frame, self.new.people.register
        for key, member in register.members.items():
            known = members.get(key)
            if member.groups != (known.groups if known else ()):
                given = self.old.people.register.of(key) if known else []
                excepted = key in frame.exceptional
                asked = ask_member(frame, known or member._replace(groups=()), given, self.at, excepted=excepted)
                after = as_active(ask_member(frame, member, given, self.at, excepted=excepted))
                yield _Subject(asked, as_active(asked), after, range(len(frame.places)))

    def _touched(self, actor: Asked, rule: ActRule, subject: _Subject) -> _Touch | None:
        """Return the first thing that speaks against what somebody gains or loses."""
        old, new, (_, before, after, places, _) = self.old, self.new, subject
        for here in () if before == after and old.frame is new.frame else places:
            there = self._beside[here]
            for gated in (True, False):
                held, then = old.reckoner.held(before, there, gated=gated), new.reckoner.held(after, here, gated=gated)
                gained, lost = then.mask & ~held.mask, held.mask & ~then.mask
                freed = then.unbounded and not held.unbounded
                if not (gained or lost or freed):
                    continue
                where = in_place(new.frame.places[here].title, site=here == 0)
                if not self._is_over(actor, rule, subject.asked, there):
                    what = self._some(gained or lost) if not freed else "everything"
                    verb = "gain" if gained or freed else "lose"
                    return _Touch("9.3", f"would {verb} {what} {where}, and does not stand below {actor.label} there.")
                own = old.reckoner.held(actor.profile, there, gated=gated) if actor.profile else None
                beyond = gained & ~(own.mask if own else 0)
                if rule.hand_on == "held" and (beyond or (freed and not (own and own.unbounded))):
                    what = self._some(beyond) if beyond else "everything"
                    return _Touch("6.6", f"would gain {what} {where}, which {actor.label} does not hold there.")
        return None

    @cached_property
    def _beside(self) -> list[int]:
        """Return for each place the one that it is compared with: itself, or where it is new the nearest there was."""
        return [self._before(here) for here in range(len(self.new.frame.places))]

    def _before(self, here: int) -> int:
        frame = self.new.frame
        for n in reversed(frame.chains[here]):
            known = self.old.frame.place_at.get(frame.places[n].key)
            if known is not None:
                return known
        return 0

    def _is_over(self, actor: Asked, rule: ActRule, subject: Asked, place: int) -> bool:
        if subject.form == "member" and subject.key == actor.key:
            return False
        if rule.over == "anyone":
            return not subject.owner
        reached = self.old.case(actor, place, self.at).reached(subject)
        own = standing(self.old.frame, actor.profile, place)
        return reached >= own if rule.over == "level" else reached > own

    def _some(self, mask: int) -> str:
        names = self.old.frame.catalogue.names(mask)
        return (
            listed(names)
            if len(names) <= _MOST_NAMED
            else f"{', '.join(names[:_MOST_NAMED])} and {len(names) - _MOST_NAMED} more"
        )

    def _standing(self, actor: Asked) -> Iterator[Refusal]:
        """Yield where the actor would come to stand above a rank that stood above them or level with them."""
        later = self.new.people.ask(actor.key or "", self.at)
        for here, there in enumerate(self._beside):
            before = _below(self.old, actor, there)
            risen = [k for k in _below(self.new, later, here) if k not in before and k in self.old.frame.rank_at]
            if risen:
                title = self.new.frame.charter.ranks[risen[0]].title
                yield Refusal("9.3", f"{actor.label} would come to stand above {title}.")
                return

    def _power(self, actor: Asked) -> Iterator[Refusal]:
        """Yield where the actor would gain power over anyone."""
        later = self.new.people.ask(actor.key or "", self.at)
        known: dict[object, bool] = {}
        for key in self.old.people.register.members:
            if key in self.new.people.register.members and key != actor.key:
                form = self.old.ready.fold(key), self.new.ready.fold(key)
                if form not in known:
                    before, after = (
                        self._moderates(decider, asked, decider.people.ask(key, self.at))
                        for decider, asked in ((self.old, actor), (self.new, later))
                    )
                    known[form] = after and not before
                if known[form]:
                    label = self.old.people.ask(key, self.at).label
                    yield Refusal("9.3", f"{actor.label} would come to have power over {label}.")
                    return

    def _moderates(self, decider: Decider, actor: Asked, target: Asked) -> bool:
        steps = decider.case(actor, 0, self.at).moderate(target, decider.frame.charter.rules.act("moderate").using)
        return not any(step.holds is False for step in steps)


def _unbounded(profile: Profile, frame: Frame) -> bool:
    return not frame.unbounded.isdisjoint((*profile.automatic, *(rank for rank, _ in profile.placed)))


def _below(decider: Decider, asked: Asked, place: int) -> list[str]:
    own = standing(decider.frame, asked.profile, place)
    return [rank.key for rank in decider.frame.ranks[own + 1 :]]


def _failing(steps: Iterable[Step]) -> Iterator[Refusal]:
    return (Refusal(step.rule, step.text) for step in steps if step.holds is False)
