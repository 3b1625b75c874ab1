"""What a name or a moment means in one community: here it is found, or refused in words, and nowhere else."""

from __future__ import annotations

from datetime import UTC, date, datetime
from typing import TypeAlias

from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant, instant, start_of
from ask_above.charter.names import RANK_MARK, nearest
from ask_above.charter.places import Place
from ask_above.decide.decider import VISITOR, Decider
from ask_above.decide.profile import Asked
from ask_above.errors import MomentError, QuestionError, UnknownNameError
from ask_above.people.register import Member, Register

Who: TypeAlias = str | Rank | Member
When: TypeAlias = datetime | date | None


class Names:
    """Finds what is meant in one community: members, ranks, places, capabilities and moments.

    Every method raises :class:`ask_above.UnknownNameError` with the nearest known names where nothing is meant. A place
    comes back as its number in the charter's order, a moment as an instant: microseconds since 1970 in UTC.

    >>> from ask_above import Community
    >>> names = Community.demo().names
    >>> names.rank("warden").title, names.capability("post.edit")
    ('River warden', 'post.edit.all')
    """

    def __init__(self, decider: Decider) -> None:
        self.decider = decider

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
        return Names(self.decider.after(charter or self.charter, register or self.register))

    # -- who

    def rank(self, rank: str | Rank) -> Rank:
        """Return the rank with this key, ``rank:`` before it or not."""
        key = rank.key if isinstance(rank, Rank) else rank.removeprefix(RANK_MARK)
        known = self.charter.ranks.get(key)
        if known is None:
            hint = f"'{key}' is a group." if key in self.charter.groups else ""
            raise UnknownNameError("rank", key, nearest(key, self.charter.ranks), hint)
        return known

    def member(self, who: str | Member) -> Member:
        """Return the member with this key."""
        key = who.key if isinstance(who, Member) else who
        known = self.register.members.get(key)
        if known is None:
            hint = "" if self.register.members else "There is no members.csv; ranks and visitors can be asked about."
            if key in self.charter.ranks:
                hint = f"To ask for the rank, say {RANK_MARK}{key}."
            raise UnknownNameError("member", key, nearest(key, self.register.members), hint)
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

    def asked(self, who: Who, now: Instant) -> Asked:
        """Return somebody as they stand at an instant."""
        return self.decider.asked(self.who(who), now)

    def asked_member(self, who: str | Member, now: Instant) -> Asked:
        """Return a member as they stand at an instant."""
        return self.decider.people.ask(self.member(who).key, now)

    # -- where and what

    def place(self, key: str) -> Place:
        """Return the place with this key."""
        known = self.charter.places.get(key)
        if known is None:
            raise UnknownNameError("place", key, nearest(key, self.charter.places))
        return known

    def place_number(self, key: str) -> int:
        """Return the number of the place with this key, in the charter's order."""
        return self.decider.compiled.place_at[self.place(key).key]

    def capability(self, name: str, asked: Asked | None = None, author: str | None = None) -> str:
        """Return a capability's full name.

        A bare name that is declared once for own and all stands for own where the asker is the author, else for all
        (rule 2.3).
        """
        catalogue = self.charter.catalogue
        if name in catalogue.bit:
            return name
        if name in catalogue.pairs:
            own, everybody = catalogue.pairs[name]
            oneself = author is not None and asked is not None and asked.form == "member" and asked.key == author
            return own if oneself else everybody
        hint = f"'{name}' is a bundle." if name in catalogue.bundles else ""
        raise UnknownNameError("capability", name, nearest(name, [*catalogue.keys, *catalogue.pairs]), hint)

    def using(self, using: str | None) -> str | None:
        """Return a capability that moderating takes, by its full name (rule 6.2)."""
        if using is None:
            return None
        name = self.capability(using)
        known = self.charter.rules.act("moderate").using
        if name not in known:
            said = f"It takes one of {', '.join(known)}." if known else "Moderating is the owner's alone."
            raise QuestionError(f"'{name}' is none of the capabilities that moderating takes here. {said}")
        return name

    # -- when

    def moment(self, when: When = None) -> Instant:
        """Return the instant of a datetime with a time zone, of a date's start in the charter's time zone, or of now.

        Raises :class:`ask_above.MomentError`.
        """
        if when is None:
            return instant(datetime.now(UTC))
        if isinstance(when, datetime):
            return instant(when)
        if isinstance(when, date):
            return start_of(when, self.charter.zone)
        raise MomentError(f"{when!r} is no moment; give a datetime with a time zone, or a date.")
