"""The community: what a user opens and asks."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from datetime import UTC
from pathlib import Path
from time import time_ns
from typing import TYPE_CHECKING

from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.names import SITE
from ask_above.decide.answer import Answer
from ask_above.decide.may import Decider
from ask_above.errors import QuestionError
from ask_above.files.opening import located
from ask_above.people.register import Member, Register
from ask_above.questions import Questions, When, Who

if TYPE_CHECKING:
    import pandas as pd

    from ask_above.ask.many import LookUps
    from ask_above.change.draft import Edit
    from ask_above.decide.table import Table
    from ask_above.workspace.home import Home
    from ask_above.workspace.plans import Plan


class Community(Questions):
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

    _home: Home | None = None
    _notices: tuple[str, ...] = ()

    def _use(self, decider: Decider) -> None:
        """Keep at hand what every question needs."""
        self._decider = decider
        self._folds, self._renewed, self._usable = decider.ready.folds, decider.ready.renewed, decider.ready.usable
        self._members = decider.people.register.members
        self._look_ups: LookUps | None = None
        self._known, self._pairs = decider.frame.catalogue.bit, decider.frame.catalogue.pairs

    @classmethod
    def open(cls, path: str | Path, *, register: str | None = None, on_demand: bool = False) -> Community:
        """Open a community's folder, or its charter; nothing is written.

        The register is in the database that the URL ``register`` names, else in ``register.db`` in the folder; until
        the first change the two CSV files hold it. Files that were edited by hand since the last change count as they
        stand. ``notices`` says what one has to know of them. ``on_demand`` reads a member's rows when they are first
        asked about, where the register is large, all as of the moment of opening: for a few questions about a few
        members. Raises :class:`FaultyFilesError`, which lists every fault
        of every file, :class:`MissingFileError`, or ``StoreError`` where the database is gone or cannot be read.
        """
        from ask_above.workspace.home import Home

        home = Home(*located(path), register, on_demand=on_demand)
        snapshot = home.read()
        opened = cls(snapshot.charter, snapshot.register)
        opened._home, opened._notices = home, snapshot.notices
        return opened

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

    # -- changes (rule 9)

    @property
    def home(self) -> Home:
        """Where the community was opened from; raises :class:`QuestionError` where it was made in memory."""
        if self._home is None:
            raise QuestionError("This community was not opened from a folder, so there is nowhere to change it.")
        return self._home

    @property
    def notices(self) -> tuple[str, ...]:
        """What whoever opens it has to know of its files, in sentences: which are old, which do not count."""
        return self._notices

    def plan(self, *edits: Edit, by: str | Member | None = None, why: str = "") -> Plan:
        """Work out a change of the charter or the register, without making it.

        ``edits`` come from :mod:`ask_above.change`, such as ``Grant("host", ["kit.lend"])``. ``by`` is the member who
        makes it, and holds it to what they may do; without it the change is the keeper's of the files. The plan is made
        now, on the community as its folder holds it now: ``plan.what`` says it, ``plan.effect`` who gains and who loses
        what, ``plan.refusals`` why it may not be made; ``plan.apply()`` makes it, whole or not at all. Raises
        ``EditError`` and :class:`UnknownNameError`.
        """
        from ask_above.workspace.plans import plan

        return plan(self.home, edits, by=by.key if isinstance(by, Member) else by, why=why)

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
        """Yield the same table in blocks of places; a block and the room to work it out take ``memory`` bytes at most.

        A block has one place at least, however much that takes. The blocks' arrays are used again: take what you need
        of one before you ask for the next.
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
        return self._decider.moderate(person, other, place, now, self._using(using))

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
