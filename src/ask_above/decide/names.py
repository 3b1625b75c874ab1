"""What a name or a moment means in one community: here it is found, or refused in words, and nowhere else."""

from __future__ import annotations

from collections.abc import Iterable
from datetime import UTC, date, datetime
from typing import NamedTuple, NoReturn, TypeAlias, TypeVar

from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import HOW_TO_WRITE, Instant, as_instant, instant, parse, start_of
from ask_above.charter.names import MEMBER_MARK, RANK_MARK, as_rank, few
from ask_above.charter.places import Group, Place
from ask_above.charter.rules import Act
from ask_above.decide.decider import VISITOR, Decider
from ask_above.decide.profile import Asked, Sort
from ask_above.errors import MomentError, QuestionError, UnknownNameError
from ask_above.people.directory import Directory, NameKind
from ask_above.people.register import Member, Register

Who: TypeAlias = str | Rank | Member
When: TypeAlias = datetime | date | str | None
T = TypeVar("T")


_MOST_BEGUN = 8
_EVERYONE = ("everyone", "everybody", "all members", "any member", "members")


class Meant(NamedTuple):
    """What a bare word means: ``who`` as a question has it, the kind of thing, its key, and what was not meant."""

    who: str
    kind: str
    key: str
    note: str = ""


class Names:
    """Finds what is meant in one community: members, ranks, places, capabilities and moments.

    Every method raises :class:`ask_above.UnknownNameError` with the nearest known names where nothing is meant. A place
    comes back as its number in the charter's order, a moment as an instant: microseconds since 1970 in UTC.

    >>> from ask_above import Community
    >>> names = Community.demo().names
    >>> names.rank("warden").called, names.capability("post.edit")
    ('River warden', 'post.edit.all')
    """

    def __init__(self, decider: Decider, directory: Directory | None = None) -> None:
        self.decider = decider
        self.directory = directory or Directory(decider.compiled.charter, decider.people.register)

    @property
    def charter(self) -> Charter:
        """The charter."""
        return self.decider.compiled.charter

    @property
    def register(self) -> Register:
        """The members and their assignments."""
        return self.decider.people.register

    def after(self, *, charter: Charter | None = None, register: Register | None = None) -> Names:
        """Return the names of the community after a change; what the change does not touch is shared."""
        charter, register = charter or self.charter, register or self.register
        return Names(self.decider.after(charter, register), self.directory.after(charter, register))

    # -- who

    def rank(self, rank: str | Rank) -> Rank:
        """Return the rank with this key or title, ``rank:`` before it or not."""
        key = rank.key if isinstance(rank, Rank) else in_text(rank, "rank").removeprefix(RANK_MARK)
        known = self.charter.ranks.get(key)
        if known is None:
            found = self.directory.find(key, NameKind.RANK)
            if found is not None:
                return self.charter.ranks[found.key]
            raise self.directory.nearer(UnknownNameError("rank", key, known=self.charter.ranks))
        return known

    def member(self, who: str | Member) -> Member:
        """Return the member with this key or full name."""
        key = who.key if isinstance(who, Member) else in_text(who, "member").removeprefix(MEMBER_MARK)
        known = self.register.members.get(key)
        if known is None:
            found = self.directory.find(key, NameKind.MEMBER)
            if found is not None:
                return self.register.members[found.key]
            hint = "" if self.register.members else "There is no members.csv; ranks and visitors can be asked about."
            hint = self.directory.other(key, NameKind.MEMBER) or hint
            near = () if hint else self.directory.nearest(key, NameKind.MEMBER)
            raise UnknownNameError("member", key, near, hint)
        return known

    def author(self, author: str | Member | None) -> str | None:
        """Return the key of the member whose thing it is; ``None`` where it is nobody's."""
        return None if author is None else self.member(author).key

    def who(self, who: Who) -> str:
        """Return somebody's name as a question has it: a member's key, ``rank:KEY``, ``visitor``."""
        if isinstance(who, Rank):
            return f"{RANK_MARK}{self.rank(who).key}"
        if isinstance(who, Member):
            return self.member(who).key
        if not isinstance(who, str):
            raise QuestionError(f"{who!r} is neither a member, a rank nor VISITOR.")
        if who.startswith(RANK_MARK):
            return f"{RANK_MARK}{self.rank(who).key}"
        return who if who == VISITOR else self.member(who).key

    def meant(self, word: str) -> Meant:
        """Return whom a bare word means where it may be anybody: a member, else a rank, else a place, else a group.

        ``rank:KEY``, ``member:KEY``, ``@KEY`` and ``place:KEY`` leave no doubt.
        """
        if in_text(word, "name") == VISITOR:
            return Meant(word, "visitor", word)
        if word.lower() in _EVERYONE and self.directory.find(word, *NameKind) is None:
            return self._everyone(word)
        mark, sign, rest = word.partition(":")
        mark = mark if sign else ""
        if word.startswith(MEMBER_MARK) or mark == NameKind.MEMBER:
            key = self.member(rest or word).key
            return Meant(key, NameKind.MEMBER, key)
        if mark == NameKind.RANK:
            return Meant(as_rank(self.rank(rest).key), NameKind.RANK, self.rank(rest).key)
        if mark == NameKind.PLACE:
            return Meant(self.place(rest).key, NameKind.PLACE, self.place(rest).key)
        if mark == NameKind.GROUP:
            return Meant(self.group(rest).key, NameKind.GROUP, self.group(rest).key)
        kinds = (NameKind.MEMBER, NameKind.RANK, NameKind.PLACE, NameKind.GROUP)
        # in the order of the kinds: of a member and a rank of one name the member is meant
        known = self.directory.find(word, *kinds)
        if known is None:
            raise UnknownNameError("member, rank, place or group", word, self.directory.nearest(word, *kinds))
        others = self.directory.also(known, word, *kinds)
        note = f"'{word}' is taken as the {known.kind} {known.key}" if others else ""
        for other in others:
            note += f"; for the {other.kind} say {other.kind}:{other.key}"
        return Meant(as_rank(known.key) if known.kind is NameKind.RANK else known.key, known.kind, known.key, note)

    def _everyone(self, word: str) -> Meant:
        """Return the rank that every member has, highest first where there are several."""
        for position in self.decider.compiled.automatic["members"]:
            key = self.decider.compiled.ranks[position].key
            return Meant(as_rank(key), NameKind.RANK, key, f"'{word}' is taken as the rank {key}, which is automatic")
        raise UnknownNameError("member, rank, place or group", word, hint="No rank is automatic for every member here.")

    def asked(self, who: Who, now: Instant) -> Asked:
        """Return somebody as they stand at an instant."""
        return self.decider.asked(self.who(who), now)

    # -- where and what

    def place(self, key: str | Place) -> Place:
        """Return the place with this key or title."""
        key = key.key if isinstance(key, Place) else in_text(key, "place")
        known = self.charter.places.get(key)
        return self.charter.places[self.directory.key(key, NameKind.PLACE)] if known is None else known

    def group(self, key: str) -> Group:
        """Return the group with this key or title."""
        return self.charter.groups[self.directory.key(in_text(key, "group"), NameKind.GROUP)]

    def place_number(self, key: str) -> int:
        """Return the number of the place with this key, in the charter's order."""
        return self.decider.compiled.place_at[self.place(key).key]

    def capability(self, name: str, asked: Asked | None = None, author: str | None = None) -> str:
        """Return a capability's full name.

        A bare name that is declared once for own and all stands for own where the asker is the author, else for all
        (rule 2.3).
        """
        catalogue = self.charter.catalogue
        if in_text(name, "capability") in catalogue.bit:
            return name
        if name in catalogue.pairs:
            own, everybody = catalogue.pairs[name]
            oneself = author is not None and asked is not None and asked.sort is Sort.MEMBER and asked.key == author
            return own if oneself else everybody
        known = [*catalogue.keys, *catalogue.pairs]
        begins = tuple(pair for pair in (*catalogue.pairs, *catalogue.keys) if pair.startswith(f"{name}."))
        if begins and "." not in name:
            if len(begins) == 1:
                raise QuestionError(f"'{name}' is a part of a name; say {begins[0]}.")
            raise QuestionError(f"Which of them is meant by '{name}'? {few(begins, _MOST_BEGUN, 'or')}.")
        ends = [each for each in (*catalogue.pairs, *catalogue.keys) if each.removesuffix(".all").endswith(f".{name}")]
        # of a pair the bare name has stood in already
        ends = [each for each in ends if each.removesuffix(".all") not in catalogue.pairs]
        if len(ends) == 1:
            return self.capability(ends[0], asked, author)
        if ends:
            raise QuestionError(f"Which of them is meant by '{name}'? {few(ends, _MOST_BEGUN, 'or')}.")
        hint = f"'{name}' is a bundle." if name in catalogue.bundles else ""
        kind = self.directory.find(name, NameKind.PLACE, NameKind.RANK, NameKind.MEMBER, NameKind.GROUP)
        if kind is not None:
            more = {
                NameKind.PLACE: f", and where after it: in {kind.key}.",
                NameKind.RANK: f". Who holds it: ask-above describe rank:{kind.key}",
            }
            hint = f"'{name}' is a {kind.kind}; say a capability here{more.get(kind.kind, '.')}"
        raise UnknownNameError("capability", name, () if kind else catalogue.near(name, known), hint)

    def using(self, using: str | None) -> str | None:
        """Return a capability that moderating takes, by its full name (rule 6.2)."""
        if using is None:
            return None
        name = self.capability(using)
        known = self.charter.rules.act(Act.MODERATE).using
        if name not in known:
            said = f"It takes one of {', '.join(known)}." if known else "Moderating is the owner's alone."
            raise QuestionError(f"'{name}' is none of the capabilities that moderating takes here. {said}")
        return name

    def unknown(self, kind: NameKind, key: str) -> NoReturn:
        """Raise for a key that nothing has, where nothing but keys will do."""
        raise UnknownNameError(kind, key, self.directory.nearest(key, kind))

    # -- when

    def moment(self, when: When = None) -> Instant:
        """Return the instant of a datetime with a time zone, of a date's start in the charter's time zone, or of now.

        Text is read as ISO 8601; without an offset in the charter's time zone. Raises :class:`ask_above.MomentError`.
        """
        if when is None:
            return instant(datetime.now(UTC))
        if isinstance(when, datetime):
            return instant(when)
        if isinstance(when, date):
            return start_of(when, self.charter.zone)
        if isinstance(when, str):
            try:
                return as_instant(parse(when), self.charter.zone)
            except ValueError:
                raise MomentError(f"'{when}' is no moment; write {HOW_TO_WRITE}.") from None
        raise MomentError(f"{when!r} is no moment; give a datetime with a time zone, or a date.")


def in_text(name: str, what: str) -> str:
    """Return a name; raises where it is anything but text, which nothing here is called."""
    if not isinstance(name, str):
        raise QuestionError(f"{name!r} is no {what}; give its key or its name, as text.")
    return name


def several(names: Iterable[T], what: str) -> Iterable[T]:
    """Return names; raises where they are no list: one name by itself would be taken letter by letter."""
    if isinstance(names, str | bytes) or not isinstance(names, Iterable):
        raise QuestionError(f"{names!r} is no list of {what}; put even one into a list.")
    return names
