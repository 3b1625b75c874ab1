"""What an edit is made of: steps on the charter, and rows of the register; no edit says what it takes (rule 9.1)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from functools import cached_property
from operator import attrgetter
from shlex import quote
from typing import Any, NamedTuple, Protocol

from ask_above.change.steps import Path, Put, Step, there
from ask_above.charter.charter import Charter
from ask_above.charter.expectations import Expectation
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE, listed, nearest
from ask_above.charter.places import Place
from ask_above.errors import AskAboveError, UnknownNameError
from ask_above.people.reading import MEMBER_COLUMNS
from ask_above.people.register import Assignment, Member, Register

_CELLS = attrgetter(*MEMBER_COLUMNS)


class EditError(AskAboveError, ValueError):
    """A change that cannot be made, and why."""


class NamedByExpectationError(EditError):
    """What is to be removed is named by expectations, which the owner or the maintainer may remove as well."""

    def __init__(self, title: str, expectations: Sequence[Expectation]) -> None:
        self.expectations = [str(expectation) for expectation in expectations]
        said = listed(f"'{expectation}'" for expectation in self.expectations)
        verb = "The expectation {} names" if len(self.expectations) == 1 else "The expectations {} name"
        commands = "; ".join(f"ask-above charter remove expectations {quote(each)}" for each in self.expectations)
        self.said = f"{verb.format(said)} {title}."
        super().__init__(f"{self.said} To remove {'it' if len(self.expectations) == 1 else 'them'} as well: {commands}")


class RowChange(NamedTuple):
    """One row of the register that is made, changed or taken out.

    ``table`` is members or assignments. ``key`` is a member's key; for an assignment its number, 0 for one that has yet
    to be given one. ``before`` and ``after`` are the row's cells by column, ``None`` where there is none.
    """

    table: str
    key: str
    before: Mapping[str, str] | None
    after: Mapping[str, str] | None

    @property
    def back(self) -> RowChange:
        """The change that takes this one back."""
        return self._replace(before=self.after, after=self.before)


class Done(NamedTuple):
    """One edit, worked out: what it does in a sentence, its steps and its rows."""

    what: str
    steps: tuple[Step, ...] = ()
    rows: tuple[RowChange, ...] = ()


class Draft:
    """What an edit is made on: the charter as plain data and as it is meant, the register, the moment, the actor.

    ``read`` gives the plain data, and is called when an edit first looks at it: few edits of the register do.
    """

    def __init__(
        self, read: Callable[[], Any], charter: Charter, register: Register, at: Instant, day: str, by: str = ""
    ) -> None:
        self._read, self.charter, self.register, self.at, self.day, self.by = read, charter, register, at, day, by

    @cached_property
    def data(self) -> Any:
        """The charter as plain data."""
        return self._read()

    def rank_path(self, key: str) -> Path:
        """Return where a rank stands; raises :class:`UnknownNameError`."""
        for n, each in enumerate(self.data["ranks"]):
            if each["key"] == key:
                return "ranks", n
        raise UnknownNameError("rank", key, nearest(key, self.charter.ranks), known=self.charter.ranks)

    def place_path(self, key: str) -> Path:
        """Return where a place stands; raises :class:`UnknownNameError`."""
        if key == SITE:
            return ("site",)
        found = _find(self.data.get("places") or [], key, ("places",))
        if found is None:
            raise UnknownNameError("place", key, nearest(key, self.charter.places))
        return found

    def member(self, key: str) -> Member:
        """Return a member; raises :class:`UnknownNameError`."""
        known = self.register.members.get(key)
        if known is None:
            raise UnknownNameError("member", key, nearest(key, self.register.members))
        return known

    def rank(self, key: str) -> Rank:
        """Return a rank; raises :class:`UnknownNameError`, and says so where it is a member that is named."""
        if key not in self.charter.ranks and key in self.register.members:
            raise EditError(f"There is no rank '{key}'; that is a member, and the rank comes first.")
        if key not in self.charter.ranks:
            raise UnknownNameError("rank", key, nearest(key, self.charter.ranks), known=self.charter.ranks)
        return self.charter.ranks[key]

    def place(self, key: str) -> Place:
        """Return a place as it is told; raises :class:`UnknownNameError`."""
        if key not in self.charter.places:
            raise UnknownNameError("place", key, nearest(key, self.charter.places))
        return self.charter.places[key]

    def said(self, path: Path) -> Any:
        """Return what is written somewhere, ``None`` where nothing is."""
        data = self.data
        for each in path if there(self.data, path) else ():
            data = data[each]
        return data if there(self.data, path) else None


class Edit(Protocol):
    """One edit: works itself out on a draft."""

    def on(self, draft: Draft) -> Done:
        """Return what it comes to; raises :class:`EditError` and :class:`UnknownNameError`."""


def _find(places: list[Any], key: str, path: Path) -> Path | None:
    for n, place in enumerate(places):
        here: Path = (*path, n)
        if place["key"] == key:
            return here
        inner = _find(place.get("places") or [], key, (*here, "places"))
        if inner is not None:
            return inner
    return None


def words_at(draft: Draft, path: Path) -> list[str]:
    """Return the words of a list in the charter, none where there is no list."""
    return list(draft.said(path) or [])


def put_words(draft: Draft, path: Path, words: Iterable[str]) -> list[Step]:
    """Return the steps that let a list have these words; one with none goes."""
    from ask_above.change.steps import Drop

    new, old = list(words), words_at(draft, path)
    if new == old:
        return []
    if new:
        return [Put(path, new)]
    return [Drop(path)] if there(draft.data, path) else []


def member_row(member: Member) -> dict[str, str]:
    """Return a member as a row of cells."""
    row = dict(zip(MEMBER_COLUMNS, _CELLS(member), strict=True))
    row["groups"] = ";".join(member.groups)
    return row


def assignment_row(each: Assignment) -> dict[str, str]:
    """Return an assignment as a row of cells."""
    return {
        "member": each.member,
        "rank": each.rank,
        "place": "" if each.place == SITE else each.place,
        "from": each.period.said_from,
        "until": each.period.said_until,
        "by": each.by,
        "why": each.why,
        "source": each.source,
    }


def changed_member(member: Member, cells: Mapping[str, str]) -> RowChange:
    """Return the change of a member's row that gives it other cells."""
    row = member_row(member)
    return RowChange("members", member.key, row, {**row, **cells})


def given(assignment: Assignment) -> RowChange:
    """Return the change that makes an assignment; it has yet to be given its number."""
    return RowChange("assignments", "0", None, assignment_row(assignment))


def ended(assignment: Assignment, instead: Mapping[str, str] | None = None) -> RowChange:
    """Return the change that takes an assignment out, or gives it other cells ``instead``."""
    row = assignment_row(assignment)
    return RowChange("assignments", str(assignment.number), row, None if instead is None else {**row, **instead})
