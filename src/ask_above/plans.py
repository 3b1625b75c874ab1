"""A change, planned: what it does, to whom, whether it may be made; and then made, whole."""

from __future__ import annotations

import json
from collections.abc import Callable, Iterator, Mapping, Sequence
from datetime import UTC, datetime, timedelta
from functools import cached_property
from typing import TYPE_CHECKING, Any

from ask_above.ask.impact import Impact, Turned, impact
from ask_above.change.draft import Done, Draft, Edit, EditError, Need
from ask_above.change.reach import Reach, Refusal
from ask_above.change.registering import changed
from ask_above.charter.charter import Charter
from ask_above.charter.moments import Instant
from ask_above.charter.names import listed
from ask_above.community import Community
from ask_above.errors import AskAboveError, FaultyFilesError
from ask_above.files.splice import edited
from ask_above.files.uncollected import uncollected
from ask_above.files.yaml_text import compose, plain
from ask_above.home import ChangedMeanwhileError, Home, Snapshot, now
from ask_above.people.register import Register

if TYPE_CHECKING:
    from ask_above.store.database import Entry

_MOST_TOLD = 30
_MOST_SAID = 5


class RefusedError(AskAboveError, PermissionError):
    """A change that is out of the actor's reach, or that breaks what must stay true; ``reasons`` says all of it."""

    def __init__(self, message: str, reasons: Sequence[str] = ()) -> None:
        super().__init__(message)
        self.reasons = tuple(reasons)

    def __str__(self) -> str:
        return str(self.args[0])


class Plan:
    """A change that has been worked out and not been made.

    ``before`` and ``after`` are the community without and with it. ``what`` says it in sentences. ``refusals`` are the
    reasons why the actor may not make it, ``could`` the members who might; both are empty where nobody is named, as
    the change is then the keeper's of the files.
    """

    def __init__(self, home: Home, snapshot: Snapshot, done: Sequence[Done], *, by: str, why: str, at: Instant) -> None:
        self.home, self.snapshot, self.by, self.why, self.at = home, snapshot, by, why, at
        self.done = list(done)
        self.before = Community(snapshot.charter, snapshot.register)
        self.texts: dict[str, str] = dict(snapshot.texts)
        self.splices: list[tuple[str, int, str, str]] = []
        self.rows = [row for each in done for row in each.rows]
        self.after = self.before
        self.edits: tuple[Edit, ...] = ()
        self.kind = "change"
        self.letters: Sequence[tuple[str, str]] = ()
        self.undoes: int | None = None

    @property
    def what(self) -> str:
        """What it does, in a sentence; of many edits the first few."""
        said = list(dict.fromkeys(each.what for each in self.done))
        more = f"; and {len(said) - _MOST_SAID} more like these" if len(said) > _MOST_SAID + 1 else ""
        return "; ".join(said[:_MOST_SAID] if more else said) + more

    @property
    def needs(self) -> list[Need]:
        """What its parts take."""
        return [need for each in self.done for need in each.needs]

    @property
    def is_empty(self) -> bool:
        """Whether nothing would change."""
        return not self.splices and not self.rows

    @cached_property
    def effect(self) -> Impact:
        """Who gains and who loses what, where; what differs between ranks; which expectations turn."""
        with uncollected():
            return impact(self.before.decider, self.after.decider, self.at)

    @property
    def broken(self) -> list[Turned]:
        """The expectations that would no longer hold."""
        return [each for each in self.effect.turned if not each.holds]

    @cached_property
    def _reach(self) -> Reach:
        return Reach(self.before.decider, self.after.decider, self.needs, self.at)

    @cached_property
    def refusals(self) -> list[Refusal]:
        """Why the actor may not make it."""
        return self._reach.refusals(self.by) if self.by else []

    @cached_property
    def could(self) -> list[str]:
        """Who could make it, by name."""
        return [self.before.member(key).called for key in self._reach.who_could(self.by)] if self.refusals else []

    def refuse(self, *, force: bool = False) -> None:
        """Raise :class:`RefusedError` where it may not be made; ``force`` lets expectations break, for a reason."""
        if self.refusals:
            actor = self.before.member(self.by)
            names = f" {listed(self.could, 'or')} could." if self.could else ""
            said = " ".join(each.why for each in self.refusals)
            ranks = self._ranks_of(self.by)
            raise RefusedError(
                f"{actor.called}{ranks} may not {self.what}: {said}{names}", [str(each) for each in self.refusals]
            )
        if self.broken and not force:
            texts = [each.text for each in self.broken]
            raise RefusedError(
                f"Then it would no longer be so: {listed(texts)}. Nothing was done; --force does it, with a reason.",
                texts,
            )
        if self.broken and force and not self.why:
            raise RefusedError("What breaks an expectation is forced with a reason: --why TEXT.")

    def _ranks_of(self, key: str) -> str:
        from ask_above.ask.tables import ranks_held

        asked = self.before.decider.people.ask(key, self.at)
        held = ranks_held(self.before.decider.frame, asked, 0)[:1]
        return f" ({self.before.charter.ranks[held[0]].title})" if held and held[0] in self.before.charter.ranks else ""

    def apply(self, *, force: bool = False, letters: Sequence[tuple[str, str]] = ()) -> Entry:
        """Make the change and return its entry in the journal.

        Raises :class:`RefusedError`, :class:`ChangedMeanwhileError` where the community is no longer as it was when the
        plan was made, and ``OSError`` where something cannot be written; then nothing has changed.
        """
        from ask_above.store.database import Entry

        self.refuse(force=force)
        if self.is_empty:
            raise EditError("Nothing would change.")
        if not self.home.holds_register():
            with self.home.locked():
                if not self.home.holds_register():
                    self.home.adopt()
            again = plan(self.home, self.edits, by=self.by, why=self.why)
            return again.apply(force=force, letters=letters)
        entry = Entry(
            0,
            now(),
            self.by,
            self.kind,
            self.what,
            self.why,
            bool(self.broken),
            list(in_lines(self.effect))[:_MOST_TOLD],
            self.splices,
            self.rows,
            self.needs,
            self.undoes,
        )
        with self.home.locked(), uncollected():
            self.home.finish()
            return self.home.change(entry, self.snapshot, self.texts, letters)


def in_lines(effect: Impact) -> Iterator[str]:
    """Yield the effect of a change in short lines."""
    for shift in effect.shifts:
        sign, people = "+" if shift.gains else "-", len(shift.members)
        ranks = f"; ranks: {', '.join(shift.ranks)}" if shift.ranks else ""
        risk = "" if shift.risk == "low" else f" ({shift.risk} risk)"
        many = f"{people} member{'' if people == 1 else 's'}"
        yield f"{sign} {', '.join(shift.capabilities)}{risk} in {', '.join(shift.places[:6])}: {many}{ranks}"


def plan(
    home: Home,
    edits: Sequence[Edit],
    *,
    by: str = "",
    why: str = "",
    when: datetime | None = None,
    told: Callable[[int, int], None] | None = None,
) -> Plan:
    """Work edits out, one after another, on the community as its home holds it now.

    ``told`` hears how many are done, and of how many. Raises :class:`EditError`, :class:`UnknownNameError`, and
    :class:`FaultyFilesError` where the charter could not be meant afterwards.
    """
    snapshot = home.read()
    moment = when or datetime.now(UTC)
    community = Community(snapshot.charter, snapshot.register)
    at = community._moment(moment)
    if by:
        community.member(by)
    day = (
        (datetime(1970, 1, 1, tzinfo=UTC) + timedelta(microseconds=at))
        .astimezone(snapshot.charter.zone)
        .date()
        .isoformat()
    )
    made = Plan(home, snapshot, (), by=by, why=why, at=at)
    working = _Working(home, snapshot, made)
    with uncollected():
        for n, edit in enumerate(edits, 1):
            working.take(edit, at, day, by)
            if told:
                told(n, len(edits))
        working.finish()
    made.edits = tuple(edits)
    return made


class _Working:
    """Edits being worked out, each on what those before it left."""

    def __init__(self, home: Home, snapshot: Snapshot, made: Plan) -> None:
        self.home, self.made = home, made
        self.charter, self.register = snapshot.charter, snapshot.register
        self.data: Any = plain(compose(snapshot.texts[home.name]))

    def take(self, edit: Edit, at: Instant, day: str, by: str) -> None:
        made = self.made
        done = edit.on(Draft(self.data, self.charter, self.register, at, day, by))
        if done.steps:
            text, splices = edited(made.texts[self.home.name], list(done.steps))
            made.texts[self.home.name] = text
            made.splices += [(self.home.name, *splice) for splice in splices]
            self.data = plain(compose(text))
            self.charter = read_charter(self.home, self.made.texts, done.what)
        self.register = changed(self.register, done.rows, self.charter.zone)
        made.done.append(done)
        made.rows += done.rows

    def finish(self) -> None:
        made = self.made
        if made.splices:
            check_register(self.charter, self.register, made.what)
            made.after = made.before.after(charter=self.charter, register=self.register)
        else:
            made.after = made.before.after(register=self.register)


def read_charter(home: Home, texts: Mapping[str, str], what: str) -> Charter:
    """Return the charter that texts would be; raises :class:`EditError` where they could not be meant."""
    try:
        return home.charter_of(texts)
    except FaultyFilesError as error:
        raise _faulty(what, error) from None


def _faulty(what: str, error: FaultyFilesError) -> EditError:
    first = error.faults[0]
    more = f", and {len(error.faults) - 1} more faults" if len(error.faults) > 1 else ""
    near = f" Nearest: {', '.join(first.nearest)}" if first.nearest else ""
    said = f"{first.message[:1].upper()}{first.message[1:]} (it would stand on line {first.line}{more})."
    return EditError(f"The charter could not be meant after this ({what}). {said}{near}")


def check_register(charter: Charter, register: Register, what: str) -> None:
    """Hold the register to a changed charter: every name in it is still there."""
    for each in register.assignments:
        rank = charter.ranks.get(each.rank)
        if rank is None or rank.automatic or each.place not in charter.places:
            gone = f"the place {each.place}" if each.place not in charter.places else f"the rank {each.rank}"
            raise EditError(
                f"{each.member} is given {each.rank} at {each.place}, and {gone} would not be there for that ({what})."
            )
    for member in register.members.values():
        for group in member.groups:
            if group not in charter.groups:
                raise EditError(f"{member.key} is in the group {group}, which would no longer be there ({what}).")


def change(home: Home, edits: Sequence[Edit], *, by: str = "", why: str = "", force: bool = False) -> Entry:
    """Plan and make a change; where somebody else was faster, plan anew on what they left, and keep others waiting."""
    try:
        return plan(home, edits, by=by, why=why).apply(force=force)
    except ChangedMeanwhileError:
        with home.locked():
            return plan(home, edits, by=by, why=why).apply(force=force)


def as_json(entry: Entry) -> str:
    """Return an entry of the journal as JSON."""
    return json.dumps({**entry._asdict(), "rows": [row._asdict() for row in entry.rows]}, ensure_ascii=False)
