"""The community: what a user opens and asks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, date, datetime
from pathlib import Path
from time import time_ns
from typing import TYPE_CHECKING, TypeAlias

from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant, instant, start_of
from ask_above.charter.names import SITE, nearest
from ask_above.charter.places import Place
from ask_above.decide.answer import Answer
from ask_above.decide.may import VISITOR, Decider
from ask_above.decide.profile import Asked
from ask_above.errors import MomentError, QuestionError, UnknownNameError
from ask_above.files.opening import open_folder
from ask_above.people.register import Member, Register

if TYPE_CHECKING:
    import pandas as pd

    from ask_above.ask.expect import Unmet
    from ask_above.ask.many import LookUps
    from ask_above.decide.looks import Looks, PerkHeld
    from ask_above.decide.table import Table

Who: TypeAlias = str | Rank | Member
When: TypeAlias = datetime | date | None


class Community:
    """A charter and a register, ready for questions.

    Wherever a member is asked for, ``"petra"``, a :class:`Member`, ``"rank:warden"``, a :class:`Rank` or
    :data:`VISITOR` will do. ``at`` is the key of a place and defaults to the site. ``when`` is a datetime with a time
    zone or a date, which means its start in the charter's time zone; it defaults to now.

    >>> community = Community.demo()
    >>> bool(community.may("rank:surveyor", "reading.post", at="upper-gauges"))
    True
    """

    def __init__(self, charter: Charter, register: Register | None = None) -> None:
        self._use(Decider(charter, register or Register()))

    def _use(self, decider: Decider) -> None:
        """Keep at hand what every question needs."""
        self._decider = decider
        self._folds, self._renewed, self._usable = decider.ready.folds, decider.ready.renewed, decider.ready.usable
        self._members = decider.people.register.members
        self._look_ups: LookUps | None = None
        self._known, self._pairs = decider.frame.catalogue.bit, decider.frame.catalogue.pairs

    @classmethod
    def open(cls, path: str | Path, *, keep: bool = False) -> Community:
        """Open a community's folder, or its charter.

        ``keep`` keeps what large files say in the user's cache folder, for the next run; it is never used once a file
        has changed, and may be deleted at any time. Raises :class:`FaultyFilesError`, which lists every fault of every
        file, or :class:`MissingFileError`.
        """
        return cls(*open_folder(path, keep=keep))

    @classmethod
    def from_texts(cls, texts: Mapping[str, str]) -> Community:
        """Open a community from texts by file name, as if they stood in a folder: for tests and for other storage.

        >>> Community.from_texts({"charter.yaml": "charter: 1"})
        Traceback (most recent call last):
        ...
        ask_above.errors.FaultyFilesError: charter.yaml, line 1, column 1
        ...
        """
        from ask_above.files.folder import read_texts

        return cls(*read_texts(texts))

    @classmethod
    def demo(cls) -> Community:
        """Open the demo community, Wren Valley River Watch, as it ships with the package."""
        return cls.open(Path(__file__).parent / "demo" / "wren-valley")

    def after(self, *, charter: Charter | None = None, register: Register | None = None) -> Community:
        """Return the community after a change of its charter or register; this one stays as it is.

        Only what the change touches is made again where the charter differs in what its places say alone, or where the
        register was made from this one's by :meth:`Register.assigned` or :meth:`Register.unassigned`. A site's workers
        can go on asking this one until they are handed the other.
        """
        other = Community.__new__(Community)
        other._use(self._decider.after(charter or self.charter, register or self.register))
        return other

    # -- what it is made of

    @property
    def charter(self) -> Charter:
        """The charter."""
        return self._decider.frame.charter

    @property
    def register(self) -> Register:
        """The members and their assignments."""
        return self._decider.people.register

    @property
    def decider(self) -> Decider:
        """What answers the questions; for code that asks many."""
        return self._decider

    def rank(self, key: str) -> Rank:
        """Return the rank with this key; raises :class:`UnknownNameError`."""
        known = self.charter.ranks.get(key)
        if known is None:
            hint = f"'{key}' is a group." if key in self.charter.groups else ""
            raise UnknownNameError("rank", key, nearest(key, self.charter.ranks), hint)
        return known

    def place(self, key: str) -> Place:
        """Return the place with this key; raises :class:`UnknownNameError`."""
        known = self.charter.places.get(key)
        if known is None:
            raise UnknownNameError("place", key, nearest(key, self.charter.places))
        return known

    def member(self, key: str) -> Member:
        """Return the member with this key; raises :class:`UnknownNameError`."""
        known = self.register.members.get(key)
        if known is None:
            hint = "" if self.register.members else "There is no members.csv; ranks and visitors can be asked about."
            if key in self.charter.ranks:
                hint = f"To ask for the rank, say rank:{key}."
            raise UnknownNameError("member", key, nearest(key, self.register.members), hint)
        return known

    # -- questions about capabilities (rule 5)

    def may(
        self,
        who: Who,
        capability: str,
        *,
        at: str = SITE,
        author: str | Member | None = None,
        when: When = None,
    ) -> Answer:
        """Answer whether someone may use a capability at a place (rule 5).

        A bare name that is declared once for own and all stands for own where ``author`` is the asker, else for all
        (rule 2.3). Raises :class:`UnknownNameError` and :class:`QuestionError`.

        >>> community = Community.demo()
        >>> community.may("dara", "post.edit", at="notices", author="dara").reason
        'Member carries post.edit.own (charter.yaml line ...).'
        """
        try:
            # what is no key, or was not asked before, is asked about below
            folds = self._renewed if self._renewed and who in self._renewed else self._folds
            fold = folds[who]  # type: ignore[index]
            cell, now = fold.only, 0  # type: ignore[union-attr]  # a fold that has yet to be made is none
            if cell is None:
                now = time_ns() // 1000 if when is None else self._moment(when)
                cell = self._decider.ready.at(fold, now)  # type: ignore[arg-type]
            elif when is not None and getattr(when, "tzinfo", None) is not UTC:
                self._moment(when)
            names = self._usable[at][cell]
            pair = self._pairs.get(capability)
            full = capability if pair is None else pair[0] if author == who else pair[1]
            if author is None or author in self._members:
                if full in names:
                    return Answer(True, self._decider.account_of, (who, full, at, now))
                if full in self._known:
                    return Answer(False, self._decider.account_of, (who, full, at, now))
        except (KeyError, TypeError, AttributeError):
            pass
        return self._may_at_first(who, capability, at, author, self._moment(when))

    def _may_at_first(self, who: Who, capability: str, at: str, author: str | Member | None, now: Instant) -> Answer:
        """Answer what was not asked before, and make ready for the next question about it."""
        place = self._place(at)
        asked = self._asked(who, now)
        by = None if author is None else self.member(author if isinstance(author, str) else author.key).key
        ready = self._decider.ready
        if asked.form == "member" and asked.key is not None:
            ready.names(ready.at(ready.fold(asked.key), now), at)
        elif isinstance(who, str):
            ready.names(ready.keep(who, asked), at)
        return self._decider.may(asked, self._capability(capability, asked, by), place)

    def who(self, capability: str, *, at: str = SITE, when: When = None, through: bool = False) -> pd.DataFrame:
        """Return the members who may use a capability at a place, in the register's order.

        Columns of text: ``member`` (key), ``name``, ``kind``, ``ranks`` (keys, highest first; ``owner`` in front for
        the owner); with ``through`` also what gives it to them, each thing that would have to go. A bare name stands
        for all.

        >>> found = Community.demo().who("photo.upload", at="photo-wall", through=True)
        >>> found.set_index("member").loc["dara", "through"]
        'Volunteer carries photo.upload (charter.yaml line ...)'
        """
        from ask_above.ask import tables

        place, name = self._place(at), self._capability(capability, None, None)
        found = tables.who(self._decider, name, place, self._moment(when))
        return tables.who_table(self._decider, found, place, name, through=through)

    def where(self, who: Who, capability: str, *, author: str | Member | None = None, when: When = None) -> list[str]:
        """Return the keys of all places where someone may use a capability, in the charter's order.

        >>> Community.demo().where("petra", "reading.certify")
        ['upper-gauges', 'lower-gauges']
        """
        from ask_above.ask.through import where

        asked = self._asked(who, self._moment(when))
        by = None if author is None else self.member(author if isinstance(author, str) else author.key).key
        return where(self._decider, asked, self._capability(capability, asked, by))

    def grid(self, *, at: str | None = None) -> pd.DataFrame:
        """Return capabilities by ranks: what each rank carries, or with a place what can be used there.

        Booleans; the index holds the capabilities' keys, the columns the ranks' keys, both in the charter's order. An
        unbounded rank carries all. A rank is asked about as rule 4.9 says.
        """
        from ask_above.ask import tables

        return tables.grid(self._decider, None if at is None else self._place(at))

    def may_many(self, frame: pd.DataFrame) -> pd.Series[bool]:
        """Answer many questions at once: one boolean for each row, in the frame's index.

        Columns of text or categories: ``member``, ``capability``, ``place`` (keys), and where wanted ``author`` (a key
        or nothing) and ``when`` (as ``may`` takes it, or nothing for now). Raises :class:`UnknownNameError` for the
        first name that nothing has, and :class:`QuestionError` for a table that is none.

        >>> import pandas as pd
        >>> questions = pd.DataFrame({"member": ["dara"], "capability": ["post.write"], "place": ["notices"]})
        >>> Community.demo().may_many(questions).tolist()
        [False]
        """
        import numpy as np
        import pandas as pd

        from ask_above.ask import many

        many.check_columns(frame)
        decider, now = self._decider, self._moment(None)
        if self._look_ups is None:
            numbers = decider.everyone.rows(now)[1].number
            unknown = (self.member, self.place, lambda name: self._capability(name, None, None))
            self._look_ups = many.LookUps(numbers, decider.frame.place_at, decider.frame.catalogue, unknown)
        members, places = self._look_ups.members(frame["member"]), self._look_ups.places(frame["place"])
        capabilities = self._look_ups.capabilities(frame)
        result = many.answers(decider.everyone.kept_table(now), members, capabilities, places)
        if "when" in frame.columns:
            moments = many.when_of(frame["when"])
            asked = frame["member"].tolist(), capabilities.tolist(), frame["place"].tolist(), moments
            keys = decider.frame.catalogue.keys
            for n, (member, capability, place, when) in enumerate(zip(*asked, strict=True)):
                if when is not None:
                    result[n] = self.may(member, keys[capability], at=place, when=when).allowed
        return pd.Series(np.asarray(result), index=frame.index, name="may", dtype=bool)

    def table(self, *, when: When = None) -> Table:
        """Return what everyone can use everywhere, as packed bits (rule 5); members map to its rows.

        The array takes one bit for each place, capability and row: 113 MB for 2,000 places, 150 capabilities and 3,000
        rows.

        >>> community = Community.demo()
        >>> table = community.table()
        >>> table.words.dtype, table.may("dara", "photo.upload", "photo-wall")
        (dtype('uint64'), True)
        """
        return self._decider.everyone.table(self._moment(when))

    def table_blocks(self, *, memory: int, when: When = None) -> Iterator[Table]:
        """Yield the same table in blocks of places, in not much more than ``memory`` bytes at a time.

        The blocks' arrays are used again: take what you need of one before you ask for the next.
        """
        return self._decider.everyone.blocks(self._moment(when), memory)

    # -- questions about acts (rule 6)

    def may_moderate(
        self, actor: Who, target: Who, *, at: str = SITE, using: str | None = None, when: When = None
    ) -> Answer:
        """Answer whether ``actor`` may moderate ``target`` (rule 6.7).

        ``using`` is one of the act's capabilities; without it any of them will do.

        Raises :class:`QuestionError` where ``using`` is none of them.
        """
        place, now = self._place(at), self._moment(when)
        person, other = self._asked(actor, now), self._asked(target, now)
        if using is not None:
            using = self._capability(using, None, None)
            known = self.charter.rules.act("moderate").using
            if using not in known:
                said = f"It takes one of {', '.join(known)}." if known else "Moderating is the owner's alone."
                raise QuestionError(f"'{using}' is none of the capabilities that moderating takes here. {said}")
        return self._decider.moderate(person, other, place, now, using)

    def may_assign(
        self,
        actor: Who,
        rank: str | Rank,
        *,
        to: str | Member | None = None,
        at: str = SITE,
        when: When = None,
    ) -> Answer:
        """Answer whether ``actor`` may give ``rank`` (rule 6.8).

        Without ``to``: to someone with the automatic ranks of members alone.
        """
        place, now = self._place(at), self._moment(when)
        target = None if to is None else self._asked_member(to, now)
        return self._decider.assign(self._asked(actor, now), self._rank(rank), target, place, now)

    def may_unassign(
        self, actor: Who, rank: str | Rank, *, of: str | Member, at: str = SITE, when: When = None
    ) -> Answer:
        """Answer whether ``actor`` may take ``rank`` from a member (rule 6.9)."""
        place, now = self._place(at), self._moment(when)
        target = self._asked_member(of, now)
        return self._decider.unassign(self._asked(actor, now), self._rank(rank), target, place, now)

    def may_manage(self, actor: Who, rank: str | Rank, *, when: When = None) -> Answer:
        """Answer whether ``actor`` may change ``rank`` (rule 6.10)."""
        now = self._moment(when)
        return self._decider.manage(self._asked(actor, now), self._rank(rank), now)

    def may_call(self, actor: Who, rank: str | Rank, *, at: str = SITE, when: When = None) -> Answer:
        """Answer whether ``actor`` may call on all who hold ``rank`` (rule 6.11)."""
        place, now = self._place(at), self._moment(when)
        return self._decider.call(self._asked(actor, now), self._rank(rank), place, now)

    def powers(self, act: str, *, at: str = SITE, when: When = None) -> pd.DataFrame:
        """Return acting ranks by ranks acted on for moderate, assign or manage (rule 6.13).

        Booleans; index and columns hold the ranks' keys, in the charter's order.

        >>> bool(Community.demo().powers("moderate").loc["warden", "member"])
        True
        """
        from ask_above.ask import tables

        return tables.powers(self._decider, act, self._place(at), self._moment(when))

    # -- the rest

    def unmet(self, *, when: When = None) -> Sequence[Unmet]:
        """Return the charter's expectations that do not hold (rule 8), each with its explained answer."""
        from ask_above.ask import expect

        return expect.unmet(self._decider, self._moment(when))

    def looks(self, who: Who, *, when: When = None) -> Looks:
        """Return colour, badge, prefix and heading of someone, each with the rank it comes from (rules 7.1 and 7.2)."""
        from ask_above.decide.looks import looks

        return looks(self._decider.frame, self._asked(who, self._moment(when)))

    def perks(self, who: Who, *, when: When = None) -> dict[str, PerkHeld]:
        """Return every perk's value for someone, with the ranks it comes from (rule 7.3)."""
        from ask_above.decide.looks import perks

        return perks(self._decider.frame, self._asked(who, self._moment(when)))

    # -- names and moments

    def _asked(self, who: Who, now: Instant) -> Asked:
        if isinstance(who, Rank):
            who = f"rank:{who.key}"
        elif isinstance(who, Member):
            who = who.key
        elif not isinstance(who, str):
            raise QuestionError(f"{who!r} is neither a member, a rank nor VISITOR.")
        if who.startswith("rank:"):
            self.rank(who[5:])
        elif who != VISITOR:
            self.member(who)
        return self._decider.asked(who, now)

    def _asked_member(self, who: str | Member, now: Instant) -> Asked:
        key = who if isinstance(who, str) else who.key
        if key not in self.register.members:
            self.member(key)
        return self._decider.people.ask(key, now)

    def _rank(self, rank: str | Rank) -> Rank:
        key = rank if isinstance(rank, str) else rank.key
        return self.rank(key.removeprefix("rank:"))

    def _place(self, key: str) -> int:
        number = self._decider.frame.place_at.get(key)
        return self._decider.frame.place_at[self.place(key).key] if number is None else number

    def _capability(self, name: str, asked: Asked | None, author: str | None) -> str:
        catalogue = self.charter.catalogue
        if name in catalogue.bit:
            return name
        if name in catalogue.pairs:
            own, everybody = catalogue.pairs[name]
            oneself = author is not None and asked is not None and asked.form == "member" and asked.key == author
            return own if oneself else everybody
        hint = f"'{name}' is a bundle." if name in catalogue.bundles else ""
        raise UnknownNameError("capability", name, nearest(name, [*catalogue.keys, *catalogue.pairs]), hint)

    def _moment(self, when: When) -> Instant:
        if when is None:
            return instant(datetime.now(UTC))
        if isinstance(when, datetime):
            return instant(when)
        if isinstance(when, date):
            return start_of(when, self.charter.zone)
        raise MomentError(f"{when!r} is no moment; give a datetime with a time zone, or a date.")
