"""A change, planned: what it does, to whom, whether it may be made; and then made, whole."""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from copy import copy
from functools import cached_property
from itertools import islice
from typing import TYPE_CHECKING, Any, NamedTuple

from yaml import YAMLError

from ask_above.ask.advice.accounts import Beside
from ask_above.ask.impact.whole import Impact, TurnedExpectation, effect_of
from ask_above.change.difference import Difference, record
from ask_above.change.draft import Done, Draft, Edit, EditError, RowChange, member_row
from ask_above.change.forgetting import MemberForget, check_forgotten
from ask_above.change.naming import meant
from ask_above.change.parts import IDENTITY, State
from ask_above.change.places import Say
from ask_above.change.reach import Reach
from ask_above.change.refusal import Refusal
from ask_above.change.registering import changed, folded
from ask_above.change.rights import Making
from ask_above.change.shape import of_plain_text, shaped
from ask_above.change.syncing import LetGo
from ask_above.change.telling import sentences
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant, written
from ask_above.charter.names import few, how_many, listed, upper
from ask_above.charter.renaming import Renaming
from ask_above.collecting import without_collecting
from ask_above.decide.decider import Decider
from ask_above.decide.names import Names
from ask_above.decide.words import in_places, span, with_risk
from ask_above.errors import AskAboveError, FaultyFilesError, UnknownNameError
from ask_above.files.splice import SourceText, edited
from ask_above.people.recognising import CALLED, Double, Identities, Recogniser
from ask_above.people.register import Assignment, Member, Register, Status, edges_of
from ask_above.printing import Printed
from ask_above.workspace.by_hand import entry_by_hand
from ask_above.workspace.journal import heirs_of
from ask_above.workspace.lasting import LastingHome
from ask_above.workspace.storage import (
    ChangedMeanwhileError,
    Planned,
    Snapshot,
    Storage,
    WentOn,
    as_last_left,
    keep_ready,
    now,
    opened,
)

if TYPE_CHECKING:
    from ask_above.ask.advice.piece import Piece
    from ask_above.ask.cover import Gap
    from ask_above.ask.perks import PerkTurned
    from ask_above.store.entries import Claims, Entry

_CALLED = {"name": "name", "email": "address"}
_MOST_TOLD = 30
_MOST_SAID = 5
_MOST_PLACES = 6
_MOST_TRIED = 10
_MOST_NAMED = 3


class Edges:
    """The instants at which assignments begin or end; of registers that follow one another those of them all."""

    def __init__(self, decider: Decider) -> None:
        self.register = decider.people.register
        self.edges = sorted(edges_of(self.register.assignments))

    def after(self, decider: Decider) -> Edges:
        """Return those of the register that follows, too."""
        register = decider.people.register
        more = {edge for key in register.differing(self.register) for edge in edges_of(register.of(key))}
        other = copy(self)
        other.register = register
        other.edges = sorted({*self.edges, *more}) if more else self.edges
        return other

    def any_between(self, since: Instant, until: Instant) -> bool:
        """Whether an assignment begins or ends after an instant, and not after another."""
        if bisect_right(self.edges, until) == bisect_right(self.edges, since):
            return False
        return any(since < edge <= until for edge in edges_of(self.register.assignments))


class RefusedError(AskAboveError, PermissionError):
    """A change that is out of the actor's reach, or that breaks what must stay true; ``reasons`` says all of it."""

    def __init__(self, message: str, reasons: Sequence[str] = ()) -> None:
        super().__init__(message)
        self.reasons = tuple(reasons)


class Plan(Printed):
    """A change that has been worked out and not been made.

    ``before`` and ``after`` are the community's names without and with it, which know its charter and register.
    ``what`` says it in sentences. ``refusals`` are the reasons why it may not be made, ``could`` the members who might;
    where nobody is named the change is the maintainer's, who is held to form and to what must be so of ranks.
    What may be forced, with a reason, is ``passable``.
    """

    def __init__(
        self, home: Storage, snapshot: Snapshot, done: Sequence[Done], *, by: str, why: str, at: Instant
    ) -> None:
        self.home, self.snapshot, self.by, self.why, self.at = home, snapshot, by, why, at
        self.done = list(done)
        self.before = opened(home, snapshot)
        self.texts: dict[str, str] = dict(snapshot.texts)
        self.splices: list[tuple[str, int, str, str]] = []
        self.rows = folded([row for each in done for row in each.rows])
        self.after = self.before
        self.edits: tuple[Edit, ...] = ()
        self.kind = "change"
        self.source = ""
        self.letters: Sequence[tuple[str, str]] = ()
        self.undoes: int | None = None
        self.undone: Entry | None = None

    def __repr__(self) -> str:
        return f"<Plan: {self.what}>"

    @property
    def what(self) -> str:
        """What it does, in a sentence; of many edits the first few."""
        changing = [done for done in self.done if done.steps or done.rows]
        said = _together(dict.fromkeys(done.what for done in changing or self.done))
        more = f"; and {len(said) - _MOST_SAID:,} more like these" if len(said) > _MOST_SAID + 1 else ""
        return "; ".join(said[:_MOST_SAID] if more else said) + more

    @property
    def is_empty(self) -> bool:
        """Whether nothing would change: whatever is written anew, it says the same (rule 9.1)."""
        return self.kind != "forget" and (not (self.splices or self.rows) or not self.difference)

    @property
    def rows_of_news(self) -> Sequence[RowChange]:
        """The rows that say something else than before; not those in which only a key is written anew."""
        renaming = self.difference.renaming
        if renaming is None:
            return self.rows
        return [
            row
            for row in self.rows
            if not (row.before and row.after) or _in_new_keys(renaming, row.before) != row.after
        ]

    @cached_property
    def effect(self) -> Impact:
        """Who gains and who loses what, where; what differs between ranks; which expectations turn."""
        return effect_of(self.difference, self.old, self.after.decider)

    @cached_property
    def gaps(self) -> list[Gap]:
        """What nobody can do any more by it, or one member alone, of all of medium and high risk."""
        from ask_above.ask.cover import lost

        return lost(self.old, self.after.decider, self.at, self.effect.shifts)

    @cached_property
    def perks(self) -> list[PerkTurned]:
        """What it makes of perks, for whom."""
        from ask_above.ask.perks import turned

        return turned(self.old, self.after.decider, self.at)

    @cached_property
    def brought(self) -> list[Piece]:
        """The advice that it brings and that was not there before."""
        from ask_above.ask.advice.whole import brought

        leaves = any(row.table == "members" and (row.after or {}).get("status") == Status.RETIRED for row in self.rows)
        heirs = heirs_of(self.home.entries(), self.before) if leaves else {}
        return brought(self.old, self.after.decider, self.at, Beside(heirs=heirs), self.effect.shifts)

    @cached_property
    def vain(self) -> list[str]:
        """What of it has no effect, and why, in sentences."""
        from ask_above.ask.vain import vain

        return vain(self.old, self.after.decider, self.difference, self.at)

    @property
    def broken(self) -> list[TurnedExpectation]:
        """The expectations that would no longer hold."""
        return [turned for turned in self.effect.turned if not turned.holds]

    @cached_property
    def difference(self) -> Difference:
        """What differs between the community before and after it; all that is said of the change follows from it."""
        return Difference(_state(self.before), _state(self.after), self.at)

    @cached_property
    def old(self) -> Decider:
        """What answers for the community before, in the keys of the one after."""
        return self.difference.in_new_keys(self.before.decider)

    @cached_property
    def _reach(self) -> Reach:
        return Reach(self.old, self.after.decider, self.difference, self.at, self._making(self.by))

    def _making(self, actor: str) -> Making:
        """Return how the change is made, if ``actor`` makes it; records bear the name of whoever does."""
        return Making(self.by, self.source, self.kind == "undo", self._taken_out(actor))

    def _taken_out(self, actor: str) -> frozenset[str]:
        """Return the members whom an actor added and now takes out again (rule 9.12)."""
        if not actor or self.undone is None or self.undone.who != actor:
            return frozenset()
        added = {row.key for row in self.undone.rows if row.table == "members" and row.before is None}
        return frozenset(added & {row.key for row in self.rows if row.table == "members" and row.after is None})

    @cached_property
    def refusals(self) -> list[Refusal]:
        """Why it may not be made, by whomever it is; nobody may pass these by."""
        if self.by:
            return self._refusals_for(self.by)
        return [
            *dict.fromkeys(self._held_outside("")),
            *(refusal for refusal in self._reach.conditions.refusals if not refusal.passable),
        ]

    def _refusals_for(self, actor: str) -> list[Refusal]:
        """Return why the change may not be made by a member, whoever planned it."""
        # what the change does is the same whoever makes it: only the maker is looked at anew
        reach = self._reach if actor == self.by else self._reach.made_by(self._making(actor))
        return [*dict.fromkeys(self._held_outside(actor)), *reach.refusals(actor)]

    def _held_outside(self, actor: str) -> Iterator[Refusal]:
        """Yield what a directory holds and this changes, where it is not the directory that does (rule 9.15).

        The owner and the maintainer of the files undo what one did.
        """
        yield from self._doubles
        keeps = not actor or actor == self.before.charter.owner
        if self.kind == "forget" and not keeps and not self.difference:
            yield Refusal("9.3", "Nothing but the key is left of this member, and keys are the owner's alone.")
        if self.kind == "forget" or (self.kind == "undo" and keeps):
            return
        if not keeps and any(isinstance(edit, LetGo) for edit in self.edits):
            yield Refusal("9.15", "What a directory holds is let go by the owner, or by the maintainer of the files.")
        yield from self._claimed()
        # by what differs and not by rows: what only has another key is taken from nobody (9.4)
        before, after = self.difference.before, self.difference.after.register
        for key in self.difference.members:
            theirs = [given for given in before.register.of(key) if given.source not in ("", self.source)]
            left = {(given.rank, given.place, *record(given)) for given in after.of(key)} if theirs else ()
            for given in theirs:
                if (given.rank, given.place, *record(given)) not in left:
                    what = f"{before.charter.ranks[given.rank].called} of {before.register.members[key].called}"
                    yield Refusal("9.15", f"{what} comes from {given.source}; take it there, and sync again.")

    @cached_property
    def _doubles(self) -> list[Refusal]:
        """What says who somebody is and would be that of two members, as it is not yet (rule 9.16)."""
        before, after = self.before.register, self.after.register
        keys = dict.fromkeys(row.key for row in self.rows if row.table == "members" and _says_who(row))
        if not keys:
            return []
        people = self.home.kept.setdefault("people", Recogniser())
        changed = [after.members[key] for key in keys if key in after.members]
        were = (before.members[key] for key in keys if key in before.members)
        shared = {
            (double.member.key, double.field, double.other)
            for double in (*people.doubles(before, changed), *Identities(changed).doubles())
        } - {(double.member.key, double.field, double.other) for double in people.doubles(before, were)}
        order = {key: n for n, key in enumerate(keys)} if shared else {}
        refusals: list[Refusal] = []
        for key, field, other in sorted(shared, key=lambda each: (order[each[0]], *each)):
            member, whose = after.members[key], after.members.get(other)
            if whose is not None and Double(member, field, other) in {*Identities([whose]).shared(member)}:
                said = f"{member.called} would have the {CALLED.get(field, field)} of {whose.called_by_key}"
                refusals.append(Refusal("9.16", f"{said}; each member has one of their own."))
        return refusals

    def _claimed(self) -> Iterator[Refusal]:
        """Yield names, addresses and groups of those who come from a directory that claims them."""
        for key in self.difference.members:
            one, two = (state.register.members.get(key) for state in (self.difference.before, self.difference.after))
            claims = self._claims.get(one.external_id.partition(":")[0]) if one and ":" in one.external_id else None
            if one is None or two is None or claims is None or claims.source == self.source:
                continue
            called, groups = one.called, {*one.groups} ^ {*two.groups}
            differing = [name for name in claims.fields if getattr(one, name) != getattr(two, name)]
            what = [f"The {_CALLED[name]} of {called} comes" for name in differing]
            what += [f"Whether {called} is in {group} comes" for group in claims.groups if group in groups]
            for each in what:
                yield Refusal("9.15", f"{each} from {claims.source}; change it there, and sync again.")

    @cached_property
    def _claims(self) -> dict[str, Claims]:
        """What each directory claims, by its name."""
        return {claim.source: claim for claim in self.home.claims()}

    @property
    def passable(self) -> list[str]:
        """What it breaks that may be forced with a reason.

        Expectations by the owner and the maintainer, conditions of ranks by the maintainer alone (rule 9.2).
        """
        conditions = [] if self.by else [refusal.why for refusal in self._reach.conditions.refusals if refusal.passable]
        return [
            *conditions,
            *(f"Expectation no longer met{self._from(turned)}: {turned.text}" for turned in self.broken),
        ]

    def _from(self, turned: TurnedExpectation) -> str:
        return span(self.effect.day(turned.since), "")

    @property
    def may_pass(self) -> bool:
        """Whether whoever makes it may force it: the owner or the maintainer of the files."""
        return not self.by or self.by == self.before.charter.owner

    @cached_property
    def could(self) -> list[str]:
        """Who could make it, by name."""
        if not (self.by and self.refusals):
            return []
        # a name or three help; trying everybody would take longer than the change
        tried = islice(self._reach.candidates(self.by), _MOST_TRIED)
        could = (key for key in tried if not self._refusals_for(key))
        return [self.before.member(key).called for key in islice(could, _MOST_NAMED)]

    @cached_property
    def lasting(self) -> list[str]:
        """Who may undo it, where its maker could not (rule 9.7b); empty where they could, or nobody is named."""
        if (
            not self.by
            or self.by == self.before.charter.owner
            or self.is_empty
            or self.kind == "forget"  # by nobody, which is said when it is made
            or self.by not in self.after.register.members
        ):
            return []
        back = Difference(_state(self.after), _state(self.before), self.at)
        touched, known = self.after.register.differing(self.before.register), self.before.register.members
        added = frozenset(key for key in touched if key not in known and key in self.after.register.members)
        reach = Reach(
            back.in_new_keys(self.after.decider),
            self.before.decider,
            back,
            self.at,
            Making(undoing=True, taken_out=added),
        )
        if not reach.refusals(self.by):
            return []
        reach = reach.made_by(Making(undoing=True))
        stay = (key for key in reach.candidates(self.by) if key in known)
        could = (key for key in islice(stay, _MOST_TRIED) if not reach.refusals(key))
        return [self.after.member(key).called for key in islice(could, _MOST_NAMED)] or ["nobody here"]

    def refuse(self, *, force: bool = False) -> None:
        """Raise :class:`RefusedError` where it may not be made; ``force`` forces what may be forced, for a reason."""
        if self.refusals:
            reasons_said = " ".join(refusal.why for refusal in self.refusals)
            reasons = [str(refusal) for refusal in self.refusals]
            if not self.by:
                raise RefusedError(f"Not possible ({self.what}): {reasons_said}", reasons)
            actor = self.before.member(self.by)
            names = f" {listed(self.could, 'or')} may do this." if self.could else ""
            ranks = self._ranks_of(self.by)
            raise RefusedError(f"{actor.called}{ranks} may not {self.what}: {reasons_said}{names}", reasons)
        broken = self.passable
        if broken and force and not self.may_pass:
            raise RefusedError(
                f"Only the owner or the maintainer of the files may force this. {' '.join(broken)}", broken
            )
        if broken and not force:
            hint = " To force it: --force --why TEXT" if self.may_pass else ""
            reasons_said = " ".join(_stopped(each) for each in broken)
            raise RefusedError(f"{reasons_said} Nothing was changed.{hint}", broken)
        if broken and not self.why:
            raise RefusedError("A forced change needs a reason: --why TEXT", broken)

    def is_overtaken(self, now: Instant) -> bool:
        """Whether anybody's assignment has begun or ended since: a plan holds for its moment alone."""
        if now <= self.at:
            return False
        return self.before.decider.keep(Edges).any_between(self.at, now)

    def _ranks_of(self, key: str) -> str:
        from ask_above.ask.tables import ranks_held

        asked = self.before.decider.people.ask(key, self.at)
        held = ranks_held(self.before.decider.compiled, asked, 0)[:1]
        return (
            f" ({self.before.charter.ranks[held[0]].called})" if held and held[0] in self.before.charter.ranks else ""
        )

    @without_collecting()
    def apply(self, *, force: bool = False, letters: Sequence[tuple[str, str]] = ()) -> Entry:
        """Make the change and return its entry in the journal.

        Raises :class:`RefusedError`, :class:`ChangedMeanwhileError` where the community is no longer as it was when the
        plan was made, and ``OSError`` where something cannot be written; then nothing has changed.
        """
        from ask_above.store.entries import Entry

        self.refuse(force=force)
        if self.is_empty:
            raise EditError("Nothing would change.")
        # who may do it was asked as of the plan's moment, and somebody's right may have ended since
        if self.is_overtaken(self.before.moment()):
            raise ChangedMeanwhileError("Somebody's time has begun or ended since this was planned. Look again.")
        effect = list(in_lines(self.effect))[:_MOST_TOLD]
        forced, name = bool(self.passable), self.before.member(self.by).called if self.by else ""
        with self.home.locked():
            entry = Entry(
                0, now(), self.by, self.kind, self.what, self.why, forced, effect, self.splices, self.rows, self.undoes,
                name=name,
            )  # fmt: skip
            planned = self.planned(entry, letters)
            made = self.home.change(planned)
            if self.home.went_on is not None:
                self._go_on(made, planned, self.home.went_on)
            return made

    def planned(self, entry: Entry | None, letters: Sequence[tuple[str, str]] = ()) -> Planned:
        """Return what a storage is to make of it, with the entry for the journal."""
        charter, register = self.after.charter, self.after.register
        return Planned(entry, self.snapshot, charter, register, self.texts, letters, self.by_hand_entry())

    def _go_on(self, made: Entry, planned: Planned, went_on: WentOn) -> None:
        """Let the home go on from what this has left: the next plan is made on that."""
        names = self.after
        if made.rows != self.rows:  # what was given has its number now
            register = changed(self.before.register, made.rows, self.after.charter.zone)
            names = self.before.after(charter=self.after.charter, register=register)
        left = went_on(made, planned._replace(register=names.register))
        if left is not None:
            keep_ready(self.home, left, names)

    def by_hand_entry(self) -> Entry | None:
        """Return the journal's entry for edits by hand since the last change: what differs, and its effect."""
        snapshot = self.snapshot
        if snapshot.loaded is None or not snapshot.is_edited:
            return None
        edited = by_hand(self.home, snapshot, self.before, self.at)
        if edited is None:
            return entry_by_hand(snapshot, (), ())
        left = len(edited.what) - _MOST_SAID
        what = [*edited.what[:_MOST_SAID], *([f"and {left:,} more"] if left > 0 else [])]
        return entry_by_hand(snapshot, what, list(in_lines(edited.effect))[:_MOST_TOLD])


class ByHand(NamedTuple):
    """What was edited by hand since the last change: in which files, what differs, and who gains and loses what."""

    files: list[str]
    what: list[str]
    effect: Impact


def by_hand(home: Storage, snapshot: Snapshot, now: Names, at: Instant) -> ByHand | None:
    """Return what was edited by hand since the last change; ``None`` where nothing was, or nothing was sound before."""
    if snapshot.loaded is None or not snapshot.is_edited:
        return None
    try:
        charter, register = as_last_left(home, snapshot)
    except FaultyFilesError:
        return None
    before = now.after(charter=charter, register=register)
    difference = Difference(_state(before), _state(now), at)
    what = [sentence[:1].lower() + sentence[1:] for sentence in sentences(difference)]
    files = snapshot.edited_files
    return ByHand(files, what, effect_of(difference, difference.in_new_keys(before.decider), now.decider))


_NAMING = {"member": "member", "by": "member", "rank": "rank", "place": "place", "groups": "group"}
"""Of what the columns of the register's rows hold keys."""


def _in_new_keys(renaming: Renaming, cells: Mapping[str, str]) -> dict[str, str]:
    """Return a row's cells in new keys."""
    return {
        name: ";".join(renaming.of(_NAMING.get(name, ""), key) for key in cell.split(";"))
        for name, cell in cells.items()
    }


def _says_who(row: RowChange) -> bool:
    """Whether a row changes what says who a member is."""
    before, after = row.before or {}, row.after or {}
    return not before or any(before.get(name, "") != after.get(name, "") for name in ("key", *IDENTITY, "email"))


def _state(names: Names) -> State:
    return State(names.charter, names.register)


def _stopped(text: str) -> str:
    return text if text.endswith(".") else f"{text}."


def in_lines(effect: Impact) -> Iterator[str]:
    """Yield the effect of a change in short lines."""
    sides = [effect.old.compiled, effect.new.compiled]
    places = {key: place for side in sides for key, place in side.named.items()}
    ranks = {key: rank.called for side in sides for key, rank in side.charter.ranks.items()}
    risks = {key: each.risk for side in sides for key, each in side.catalogue.capabilities.items()}
    for shift in effect.shifts:
        people, when = len(shift.members), span(effect.day(shift.since), effect.ends(shift.until))
        who = [how_many(people, "member")] if people else []
        who += [f"ranks: {', '.join(ranks[key] for key in shift.ranks)}"] if shift.ranks else []
        who += ["visitors"] if shift.visitor else []
        what = ", ".join(with_risk(key, risks[key]) for key in shift.capabilities)
        where = in_places(places, shift.places, _MOST_PLACES)
        yield f"{'+' if shift.gains else '-'} {what} {where}{f',{when}' if when else ''}: {'; '.join(who)}"


@without_collecting()
def plan(
    home: Storage,
    edits: Sequence[Edit],
    *,
    by: str | None = None,
    why: str = "",
    told: Callable[[int, int], None] | None = None,
) -> Plan:
    """Work edits out, one after another, on the community as its home holds it now.

    ``by`` is the member who makes it; ``None`` is the maintainer of the files. The moment is that of the clock.

    ``told`` hears how many are done, and of how many. Raises :class:`EditError`, :class:`UnknownNameError`, and
    :class:`FaultyFilesError` where the charter could not be meant afterwards.
    """
    snapshot = home.read()
    names = opened(home, snapshot)
    at = names.moment()
    by = named(names, by)
    today = written(at, snapshot.charter.zone)[:10]
    made = Plan(home, snapshot, (), by=by, why=why, at=at)
    working = _Working(home, snapshot, made)
    for n, edit in enumerate(edits, 1):
        working.take(edit, at, today, by)
        if told:
            told(n, len(edits))
    working.finish()
    made.edits = tuple(edits)
    if any(isinstance(each, MemberForget) for each in edits):
        made.kind = "forget"
        made.rows = made.rows or [*made.done[0].rows]  # whoever has nothing but a key is forgotten all the same
        if len(edits) > 1:
            raise EditError("Whoever is forgotten is forgotten alone: one member at a time, and nothing besides.")
        if not made.refusals:  # who may not do it is told nothing of what stands in the files
            _check_forgotten(made, made.rows[0].key)
    return made


def _check_forgotten(made: Plan, key: str) -> None:
    """Raise where the charter's files name somebody who is to be forgotten, as they are called now or once were."""
    from ask_above.store.strangers import Person

    members = made.snapshot.register.members
    person = Person.of(member_row(members[key]), made.home.entries(), members, "")
    check_forgotten(made.texts, made.snapshot.charter, key, person.words)


def go_on(home: LastingHome, snapshot: Snapshot, names: Names) -> Snapshot:
    """Let what is changed from a home go on from names that are in memory; returns the snapshot with their register."""
    known = home.go_on_from(snapshot, names.register)
    names.decider.keep(Edges)
    keep_ready(home, known, names)
    return known


def named(names: Names, by: str | None) -> str:
    """Return the key of who makes a change, empty for the maintainer, whom an empty name never means."""
    if by is None:
        return ""
    if not by.strip():
        raise EditError(
            "Nobody is named: say which member makes the change, or leave it out as the maintainer of the files."
        )
    return names.member(by).key


class _Working:
    """Edits being worked out, each on what those before it left."""

    def __init__(self, home: Storage, snapshot: Snapshot, made: Plan) -> None:
        self.home, self.made = home, made
        self.charter, self.register = snapshot.charter, snapshot.register
        self.source: SourceText | None = None
        self.said: dict[tuple[str, str, bool], list[tuple[Say, str]]] = {}

    def take(self, edit: Edit, at: Instant, day: str, by: str) -> None:
        made = self.made
        directory = self.made.before.directory.after(self.charter, self.register)
        edit = meant(shaped(edit), directory)
        try:
            done = of_plain_text(edit.on(Draft(self._plain, self.charter, self.register, at, day, by)))
        except UnknownNameError as unknown:
            raise directory.nearer(unknown) from unknown
        if done.steps:
            try:
                text, splices = edited(made.texts[self.home.name], list(done.steps), self.source)
            except YAMLError as fault:
                raise EditError(f"The charter could not be read after this ({done.what}): {fault}") from fault
            made.texts[self.home.name], self.source = text, None
            made.splices += [(self.home.name, *splice) for splice in splices]
            self.charter = read_charter(self.home, self.made.texts, done.what)
        if isinstance(edit, Say):
            self._check_beside(edit, done.what)
        self.register = changed(self.register, done.rows, self.charter.zone)
        made.done.append(done)
        made.rows += done.rows

    def _check_beside(self, edit: Say, what: str) -> None:
        """Raise where nothing is left of what was said of the same in this change: both cannot be meant."""
        before = self.said.setdefault((edit.place, edit.of, edit.member), [])
        for earlier, said in before:
            if not earlier.left(self.charter):
                why = "" if {*earlier.names} & {*edit.names} else " A capability brings what it implies."
                raise EditError(f"To {said} and to {what} cannot both stand.{why} Say one of the two.")
        before += [(edit, what)] if edit.word != "clear" else []

    def _plain(self) -> Any:
        # taken apart once for what an edit looks at and for what it changes
        self.source = self.source or SourceText(self.made.texts[self.home.name])
        return self.source.data

    def finish(self) -> None:
        made = self.made
        made.rows = folded(made.rows)
        if made.splices:
            check_register(self.charter, self.register, made.what, made.before)
            made.after = made.before.after(charter=self.charter, register=self.register)
        else:
            check_owner(self.charter, self.register)
            made.after = made.before.after(register=self.register)


_OF_MEMBERS = re.compile(
    r"(assign .+ to |unassign .+ from |put |take )(.+?)( (?:on the whole site|in .|into .|out of .).*|)"
)


def _together(said: Iterable[str]) -> list[str]:
    """Return what is done, the same for several members in one sentence."""
    alike: dict[tuple[str, str], list[str]] = {}
    for each in said:
        match = _OF_MEMBERS.fullmatch(each)
        alike.setdefault((match[1], match[3]) if match else (each, ""), []).append(match[2] if match else "")
    return [f"{first}{few(filter(None, names), _MOST_SAID)}{rest}" for (first, rest), names in alike.items()]


def read_charter(home: Storage, texts: Mapping[str, str], what: str) -> Charter:
    """Return the charter that texts would be; raises :class:`EditError` where they could not be meant."""
    try:
        return home.charter_of(texts)
    except FaultyFilesError as error:
        raise _faulty(what, error) from None


def _faulty(what: str, error: FaultyFilesError) -> EditError:
    first = error.faults[0]
    more = f", and {len(error.faults) - 1} more faults" if len(error.faults) > 1 else ""
    near = f" Nearest: {', '.join(first.nearest)}" if first.nearest else ""
    if first.code == "unknown-key":
        return EditError(
            f"Nothing was changed: {first.message}.{f'{near}.' if near else f' Expected: {first.expected}.'}"
        )
    return EditError(
        f"Nothing was changed ({what}): {first.message} (on line {first.line} of the new file{more}).{near}"
    )


def check_register(charter: Charter, register: Register, what: str, before: Names | None = None) -> None:
    """Hold the register to a changed charter: every name in it is still there, and the owner.

    Where it was held to the charter ``before``, what names something that is gone, or differs, is all there is to see.
    """
    check_owner(charter, register)
    given, members = _to_hold(charter, register, before)
    for assignment in given:
        rank, is_given = charter.ranks.get(assignment.rank), f"is given {assignment.rank} at {assignment.place}"
        if assignment.member not in register.members:
            raise EditError(f"{assignment.member} {is_given}, and would no longer be there ({what}).")
        if rank is not None and rank.automatic:
            called = register.members[assignment.member].called
            raise EditError(f"{rank.called} is assigned to {called}; unassign it before it is made automatic ({what}).")
        if rank is None or assignment.place not in charter.places:
            known = assignment.place in charter.places
            gone = f"the rank {assignment.rank}" if known else f"the place {assignment.place}"
            raise EditError(
                f"{assignment.member} {is_given}, and {gone} would no longer be there; unassign it first ({what})."
            )
    for member in members:
        for group in member.groups:
            if group not in charter.groups:
                gone = f"the group {group}, which would no longer be there"
                raise EditError(f"{member.key} is in {gone}; take them out first ({what}).")


def _to_hold(
    charter: Charter, register: Register, before: Names | None
) -> tuple[Iterable[Assignment], Iterable[Member]]:
    """Return the assignments and the members that may name what is not there."""
    if before is None:
        return register.assignments, register.members.values()
    old = before.charter
    ranks = {key for key in old.ranks if key not in charter.ranks or charter.ranks[key].automatic}
    differing = register.differing(before.register)
    given = [*register.naming("rank", ranks), *register.naming("place", old.places.keys() - charter.places.keys())]
    given += [assignment for key in differing for assignment in register.of(key)]
    if not old.groups.keys() <= charter.groups.keys():
        return given, register.members.values()
    return given, (register.members[key] for key in differing if key in register.members)


def check_owner(charter: Charter, register: Register) -> None:
    """Raise where the owner would not be in the register, active: whatever way a change comes (rule 9.10)."""
    from ask_above.people.reading import owner_fault

    wrong = owner_fault(charter.owner, register.members)
    if wrong:
        raise EditError(f"{upper(wrong)}. Hand over first: ask-above member hand-over MEMBER")
