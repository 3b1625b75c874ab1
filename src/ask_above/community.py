"""The community: what a user opens and asks."""

from __future__ import annotations

import sys
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from functools import partial
from pathlib import Path
from time import time
from typing import TYPE_CHECKING, TypeAlias

from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant, written
from ask_above.charter.names import SITE
from ask_above.charter.places import Place
from ask_above.charter.rules import Act
from ask_above.decide.again import AnswersKept, Question
from ask_above.decide.answer import Answer
from ask_above.decide.decider import Decider
from ask_above.decide.names import Names, When, Who, several
from ask_above.errors import QuestionError
from ask_above.files.writing import located
from ask_above.people.directory import NameKind
from ask_above.people.register import Member, Register
from ask_above.printing import in_notebook, reported

if TYPE_CHECKING:
    import pandas as pd

    from ask_above.ask.advice.accounts import SharedAccount
    from ask_above.ask.advice.whole import AdviceGiven
    from ask_above.ask.audit.result import Audit
    from ask_above.ask.compare import Comparison
    from ask_above.ask.cover import Cover
    from ask_above.ask.describe.describer import Described
    from ask_above.ask.expect import Unmet
    from ask_above.ask.fit.new_rank import Proposal
    from ask_above.ask.fit.search import Fit
    from ask_above.ask.impact.whole import Impact
    from ask_above.ask.roster import Roster
    from ask_above.ask.tour import Tour
    from ask_above.ask.ways.search import Ways
    from ask_above.bulk.many import LookUps
    from ask_above.bulk.table import Table
    from ask_above.change.draft import Edit
    from ask_above.decide.looks import Looks, PerkHeld
    from ask_above.escalation.paths import Climbed
    from ask_above.people.signins import SignIn
    from ask_above.store.entries import Entry
    from ask_above.workspace.home import Home
    from ask_above.workspace.journal import History
    from ask_above.workspace.plans import Plan
    from ask_above.workspace.storage import Storage

Wanted: TypeAlias = str | tuple[str, str]


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

    def __repr__(self) -> str:
        charter, people = self.charter, len(self.register.members)
        return f"<Community {charter.key}: {len(charter.ranks)} ranks, {len(charter.places)} places, {people} members>"

    def _repr_html_(self) -> str:
        return in_notebook(self)

    _storage: Storage | None = None
    _notices: tuple[str, ...] = ()

    def _use(self, decider: Decider, names: Names | None = None) -> None:
        """Keep at hand what every question needs."""
        self._decider, self._names = decider, names or Names(decider)
        self._of_now, self._of_moments = AnswersKept(), AnswersKept()
        self._look_ups: LookUps | None = None

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
        from ask_above.workspace.edited import recorded
        from ask_above.workspace.home import Home

        home = Home(*located(path), register, on_demand=on_demand)
        recorded(home)
        return cls.kept_in(home)

    @classmethod
    def kept_in(cls, storage: Storage) -> Community:
        """Open a community as a storage keeps it now: a folder, memory, or whatever keeps yours.

        What a storage has to do stands in :class:`~ask_above.workspace.storage.Storage`.
        """
        from ask_above.workspace.storage import opened

        snapshot = storage.read()
        community = cls.of(opened(storage, snapshot))
        community._storage, community._notices = storage, snapshot.notices
        return community

    def again(self) -> Community:
        """Open the community again as it is kept now, after a change; raises where it is kept nowhere."""
        return self.kept_in(self.storage)

    @classmethod
    def from_texts(cls, texts: Mapping[str, str]) -> Community:
        """Open a community from texts by file name, as if they stood in a folder: for tests and for embedding.

        It is kept in memory: it can be changed, undone, audited and asked for its journal as a folder can.

        >>> from ask_above.change import RankSet
        >>> text = "{charter: 1, key: mill, capabilities: {mill: {mill.run: Run it}}, ranks: [{key: miller}]}"
        >>> community = Community.from_texts({"charter.yaml": text})
        >>> community.plan(RankSet("miller", {"title": "Miller"})).apply().number
        2
        >>> community.again().rank("miller").called
        'Miller'
        >>> Community.from_texts({"charter.yaml": "charter: 1"})
        Traceback (most recent call last):
        ...
        ask_above.errors.FaultyFilesError: charter.yaml, line 1, column 1
        ...
        """
        from ask_above.workspace.memory import MemoryStorage

        return cls.kept_in(MemoryStorage(texts))

    @classmethod
    def demo(cls) -> Community:
        """Open the demo community, Wren Valley River Watch, as it ships with the package.

        It is kept in memory: what is changed in it is not written into the package.
        """
        files = (Path(__file__).parent / "demo" / "wren-valley").iterdir()
        return cls.from_texts(
            {file.name: file.read_text("utf-8") for file in files if file.suffix in (".yaml", ".csv")}
        )

    @classmethod
    def of(cls, names: Names) -> Community:
        """Return the community that names are those of; what has been made ready for them is shared."""
        made = cls.__new__(cls)
        made._use(names.decider, names)
        return made

    def after(self, *, charter: Charter | None = None, register: Register | None = None) -> Community:
        """Return the community after a change of its charter or register; this one stays as it is.

        Only what the change touches is made again where the charter differs in what its places say alone, or where the
        register was made from this one's by :meth:`Register.assigned` or :meth:`Register.unassigned`. A site's workers
        can go on asking this one until they are handed the other.
        """
        from ask_above.charter.apart import told_apart

        if charter is not None and charter is not self.charter:
            charter = told_apart(charter)
        return Community.of(self._names.after(charter=charter, register=register))

    # -- what it is made of

    @property
    def names(self) -> Names:
        """What names and moments mean here; for code that asks many questions."""
        return self._names

    @property
    def charter(self) -> Charter:
        """The charter."""
        return self._names.charter

    @property
    def register(self) -> Register:
        """The members and their assignments."""
        return self._names.register

    @property
    def decider(self) -> Decider:
        """What answers the questions; for code that asks many."""
        return self._decider

    def rank(self, key: str) -> Rank:
        """Return the rank with this key; raises :class:`UnknownNameError`."""
        return self._names.rank(key)

    def place(self, key: str) -> Place:
        """Return the place with this key; raises :class:`UnknownNameError`."""
        return self._names.place(key)

    def member(self, key: str) -> Member:
        """Return the member with this key; raises :class:`UnknownNameError`."""
        return self._names.member(key)

    # -- changes (rule 9)

    @property
    def storage(self) -> Storage:
        """Where the community is kept; raises :class:`QuestionError` for one that was made of a charter alone."""
        if self._storage is None:
            raise QuestionError("This community is kept nowhere: open it from a folder, or with Community.from_texts.")
        return self._storage

    @property
    def home(self) -> Home:
        """The folder that the community was opened from; raises :class:`QuestionError` where there is none."""
        from ask_above.workspace.home import Home

        if not isinstance(self._storage, Home):
            raise QuestionError("This community was not opened from a folder.")
        return self._storage

    @property
    def notices(self) -> tuple[str, ...]:
        """What whoever opens it has to know of its files, in sentences: which are old, which do not count."""
        return self._notices

    def plan(self, *edits: Edit, by: str | Member | None = None, why: str = "") -> Plan:
        """Work out a change of the charter or the register, without making it.

        ``edits`` come from :mod:`ask_above.change`, such as ``Grant("host", ["kit.lend"])``. ``by`` is the member who
        makes it, and holds it to what they may do; without it the change is the maintainer's. The plan is made
        now, on the community as its folder holds it now: ``plan.what`` says it, ``plan.effect`` who gains and who loses
        what, ``plan.refusals`` why it may not be made; ``plan.apply()`` makes it, whole or not at all. Raises
        ``EditError`` and :class:`UnknownNameError`.
        """
        from ask_above.workspace.plans import plan

        return plan(self.storage, edits, by=by.key if isinstance(by, Member) else by, why=why)

    def undo(self, number: int | None = None, *, by: str | Member | None = None, why: str = "") -> Plan:
        """Work out how one change is undone, the last that stands where none is named, without making it.

        The plan is held to what ``by`` may do, as any change is. Raises ``EditError`` where there is no such change,
        where it was undone already or forgot somebody, and where a later change is in the way, which the message names.
        """
        from ask_above.workspace.undoing import undo

        return undo(self.storage, number, by=by.key if isinstance(by, Member) else by, why=why)

    def journal(self) -> list[Entry]:
        """Return the changes made, oldest first; none before the first change by command.

        An entry's ``at`` is when it took effect, in UTC with microseconds; ``who`` is the key of the member who made
        it, empty for the maintainer of the files, and ``name`` what they were called then.
        """
        return self.storage.entries()

    def history(self, member: str | Member, *, viewer: str | Member | None = None) -> History:
        """Return what happened to a member: ranks, status, names, by whom and when, the first first.

        ``viewer`` is the member who asks: of names, addresses and notes they learn what ``rules.contacts`` lets them
        see. Raises :class:`UnknownNameError`.
        """
        from ask_above.workspace.journal import history_of

        asker = None if viewer is None else self._names.member(viewer).key
        return history_of(self.journal(), self._names, self._names.member(member).key, asker)

    def as_of(self, state: int | str) -> Community:
        """Return the community as it was after a change of its journal; 0 is before the first.

        ``"git:main"`` is the community as the git repository that its folder lies in has it at that revision; where no
        members are kept there, with the register of now. Raises ``EditError`` where there is no such change, and
        :class:`QuestionError` where there is no such revision.
        """
        from ask_above.workspace.revisions import GIT, at_revision
        from ask_above.workspace.undoing import as_of

        if isinstance(state, str) and state.startswith(GIT):
            home, revision = self.storage, state.removeprefix(GIT)
            if home.folder is None:
                raise QuestionError("This community lies in no folder, and so in no git repository.")
            return Community(*at_revision(home.folder, home.name, revision, self.register))
        if isinstance(state, str) and not state.isdecimal():
            raise QuestionError(f"'{state}' is no number of the journal; a revision is said as git:{state}.")
        return Community(*as_of(self.storage, int(state)))

    def report(
        self,
        form: str = "html",
        *,
        members: bool = True,
        viewer: str | Member | None = None,
        since: Community | None = None,
    ) -> str:
        """Return everything on one page: ``html``, which can be asked and loads nothing, or ``md`` for a wiki.

        Without ``members`` it names nobody. ``viewer`` is the member whom it is made for: they see the names that
        ``rules.contacts`` lets them see, and keys for the others. With ``since``, the community as it was, it also
        says who has gained and lost what. Raises :class:`UnknownNameError`, and :class:`QuestionError` for other forms.

        >>> page = Community.demo().report(members=False)
        >>> "Dara Fenwick" in page
        False
        """
        asker = viewer.key if isinstance(viewer, Member) else viewer
        asker = self.member(asker).key if asker is not None else None
        entries = self.journal() if self._storage is not None else ()
        return reported(self, form, members=members, viewer=asker, since=since, entries=entries)

    def audit(
        self,
        log: pd.DataFrame | Iterable[pd.DataFrame] | Path | Sequence[Path],
        *,
        mapping: Mapping[str, str] | None = None,
        cluster: str | None = None,
        told: Callable[[int, int], None] | None = None,
    ) -> Audit:
        """Hold a log of what members did against what was allowed when they did it (rules 5 and 6).

        Parameters
        ----------
        log
            A table, several one after the other, a Dask data frame (its partitions are tallied by its scheduler), or
            files of CSV, JSON lines or Parquet, which are read part by part. Columns: member, action, when (aware
            datetimes or ISO 8601), and where there are any place, author, target, and for acts to, of and using. A
            member is a key, ``rank:KEY`` or ``visitor``; an action a capability or an act. Rows whose ``decision`` is
            false were not done.
        mapping
            Which field a column is, for columns that are called otherwise.
        cluster
            For files: ``local`` or the address of a Dask scheduler, whose workers read them.
        told
            For files: called now and then with how many parts are read, and of how many.

        The journal knows every state, and each row is judged by the one of its moment; rows older than the journal by
        the oldest. A community in memory is judged by itself. Raises :class:`QuestionError` for a log that cannot be
        meant.

        >>> import pandas as pd
        >>> log = pd.DataFrame(
        ...     {"member": ["dara"], "action": ["post.write"], "place": ["notices"], "when": ["2026-05-01T12:00:00Z"]}
        ... )
        >>> Community.demo().audit(log).not_allowed[0].reason
        'The place Notices denies post.write to Member (charter.yaml line ...).'

        """
        from ask_above.ask.audit.judge import Judge
        from ask_above.ask.audit.log import LogReader, called_in
        from ask_above.ask.audit.result import Audit
        from ask_above.ask.audit.states import StateAt, States
        from ask_above.workspace.auditing import states_of, tally_files, tally_frames

        states = States([StateAt(0, 0, "", self._names)]) if self._storage is None else states_of(self._storage)
        log = Path(log) if isinstance(log, str) else log
        some = [log] if isinstance(log, Path) or hasattr(log, "columns") else [*log]
        reader = LogReader(dict(mapping or {}), self.charter.rules.timezone, called_in(states.states))
        how = reader, states.stretches()
        if some and all(isinstance(each, Path) for each in some):
            tallied = tally_files([Path(str(each)) for each in some], *how, cluster=cluster, told=told)
        else:
            tallied = tally_frames(some, *how)
        judge = Judge(states, self._names.moment(None))
        return Audit(() if tallied.tally is None else judge.judged(tallied.tally), judge, tallied.refused)

    # -- questions about capabilities (rule 5)

    def may(
        self, who: Who, capability: str, *, at: str = SITE, author: str | Member | None = None, when: When = None
    ) -> Answer:
        """Answer whether someone may use a capability at a place (rule 5).

        A bare name that is declared once for own and all stands for own where ``author`` is the asker, else for all
        (rule 2.3). Raises :class:`UnknownNameError` and :class:`QuestionError`.

        >>> community = Community.demo()
        >>> community.may("dara", "post.edit", at="notices", author="dara").reason
        'The rank Member grants post.edit.own (charter.yaml line ...).'
        """
        if type(who) is not str:
            who = self._names.who(who)
        question: Question = (who, capability, at)
        if author is not None:
            author = self._names.member(author).key
            question = (who, capability, at, author)
        if when is None:
            seconds, kept = time(), self._of_now
        else:
            seconds, kept = self._names.moment(when) / 1e6, self._of_moments
        since, until, known = kept.stretch
        if since <= seconds < until:
            try:
                return known[question]  # quicker than to ask whether it is there
            except (KeyError, TypeError):  # what cannot be looked up is no name, and refused below
                pass
        asked = self._names.asked(who, round(seconds * 1e6))
        full_name = self._names.capability(capability, asked, author)
        answer = self._decider.may(asked, full_name, self._names.place_number(at))
        kept.keep(question, answer, asked, seconds)
        return answer

    def may_many(self, frame: pd.DataFrame) -> pd.Series[bool]:
        """Answer many questions at once: one boolean for each row, in the frame's index.

        Columns of text or categories: ``member``, ``capability``, ``place`` (keys), and where wanted ``author`` (a key
        or nothing) and ``when`` (as ``may`` takes it, or nothing for now). Raises :class:`UnknownNameError` for the
        first name that nothing has, and :class:`QuestionError` for a table that is none. A Dask data frame gives a Dask
        series: the community goes to each worker once, and all of it is answered as of the moment of this call.

        >>> import pandas as pd
        >>> questions = pd.DataFrame({"member": ["dara"], "capability": ["post.write"], "place": ["notices"]})
        >>> Community.demo().may_many(questions).tolist()
        [False]
        """
        from ask_above.bulk import many

        now = self._names.moment(None)
        many.check_columns(frame)
        if hasattr(frame, "to_delayed"):
            from ask_above.workspace.auditing import ask_parts

            parts: pd.Series[bool] = ask_parts(partial(self.after()._may_many, now=now), frame)
            return parts
        return self._may_many(frame, now=now)

    def _may_many(self, frame: pd.DataFrame, *, now: Instant) -> pd.Series[bool]:
        import numpy as np
        import pandas as pd

        from ask_above.bulk import many
        from ask_above.bulk.everyone import Everyone

        decider = self._decider
        if self._look_ups is None:
            numbers = decider.keep(Everyone).rows(now)[1].number
            unknown = (
                partial(self._names.unknown, NameKind.MEMBER),
                partial(self._names.unknown, NameKind.PLACE),
                self._names.capability,
            )
            self._look_ups = many.LookUps(numbers, decider.compiled.place_at, decider.compiled.catalogue, unknown)
        members, places = self._look_ups.members(frame["member"]), self._look_ups.places(frame["place"])
        capabilities = self._look_ups.capabilities(frame)
        result = many.answers(decider.keep(Everyone).kept_table(now), members, capabilities, places)
        if "when" in frame.columns:
            moments = many.when_of(frame["when"])
            asked = frame["member"].tolist(), capabilities.tolist(), frame["place"].tolist(), moments
            keys = decider.compiled.catalogue.keys
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
        from ask_above.bulk.everyone import Everyone

        return self._decider.keep(Everyone).table(self._names.moment(when))

    def table_blocks(self, *, memory: int, when: When = None) -> Iterator[Table]:
        """Yield the same table in blocks of places; a block and the room to work it out take ``memory`` bytes at most.

        A block has one place at least, however much that takes. The blocks' arrays are used again: take what you need
        of one before you ask for the next.
        """
        from ask_above.bulk.everyone import Everyone

        return self._decider.keep(Everyone).blocks(self._names.moment(when), memory)

    def export_people(
        self,
        people: str | Path,
        out: str | Path,
        *,
        capabilities: Sequence[str] = (),
        members: bool = False,
        cluster: str | None = None,
        when: When = None,
        told: Callable[[int, int], None] | None = None,
    ) -> tuple[int, int]:
        """Write who can use what where into a folder, for a register that no machine holds; it is read part by part.

        Parameters
        ----------
        people
            A folder with Parquet files of members in ``members`` and of assignments in ``assignments``, with the
            columns of the two CSV files, or the URL of a register's database. This community's own members do not
            count. Sorted by member it is read once.
        out
            A folder: ``members`` holds Parquet files with the columns member and profile (int64), ``usable`` those
            with profile, place and capability, text but for the number.
        capabilities
            Those that are asked for; all where there are none.
        members
            A row for each member in ``usable``, with the columns member, place and capability, instead.
        cluster
            ``local`` or the address of a Dask scheduler, whose workers read and write the parts; they need to reach
            both folders.
        when
            The moment; now where it is left out.
        told
            Called with how many parts are done, and of how many.

        Returns how many rows stand in ``usable``, and of how many members. Raises :class:`QuestionError` where a row
        cannot be meant; then nothing is written.

        >>> import tempfile, pyarrow as pa, pyarrow.parquet as pq
        >>> with tempfile.TemporaryDirectory() as name:
        ...     (Path(name) / "members").mkdir()
        ...     pq.write_table(pa.table({"key": ["ida"]}), Path(name) / "members" / "1.parquet")
        ...     Community.demo().export_people(name, Path(name) / "out", capabilities=["post.write"])
        (7, 1)

        """
        from ask_above.workspace.spreading import export_spread

        names = [self._names.capability(capability) for capability in capabilities]
        at = self._names.moment(when)
        return export_spread(
            self.charter, str(people), Path(out), at=at, capabilities=names, members=members, cluster=cluster, told=told
        )

    # -- questions about acts (rule 6)

    def may_act(
        self,
        actor: Who,
        act: str,
        target: Who,
        *,
        at: str = SITE,
        to: str | Member | None = None,
        of: str | Member | None = None,
        using: str | None = None,
        when: When = None,
    ) -> Answer:
        """Answer whether ``actor`` may do an act: the five questions that follow, by the name of the act.

        ``target`` is a member or rank to moderate, else the rank to assign, unassign, manage or call. Raises
        :class:`QuestionError` for another act.
        """
        from ask_above.decide.acts import act_of

        now = self._names.moment(when)
        asked_for = act_of(self._names, act, target, at=at, to=to, of=of, using=using)
        return asked_for.put(self._decider, self._names.asked(actor, now), now)

    def may_moderate(
        self, actor: Who, target: Who, *, at: str = SITE, using: str | None = None, when: When = None
    ) -> Answer:
        """Answer whether ``actor`` may moderate ``target`` (rule 6.7).

        ``using`` is one of the act's capabilities; without it any of them will do.

        Raises :class:`QuestionError` where ``using`` is none of them.
        """
        return self.may_act(actor, Act.MODERATE, target, at=at, using=using, when=when)

    def may_assign(
        self, actor: Who, rank: str | Rank, *, to: str | Member | None = None, at: str = SITE, when: When = None
    ) -> Answer:
        """Answer whether ``actor`` may give ``rank`` (rule 6.8).

        Without ``to``: to someone with the automatic ranks of members alone.
        """
        return self.may_act(actor, Act.ASSIGN, rank, at=at, to=to, when=when)

    def may_unassign(
        self, actor: Who, rank: str | Rank, *, of: str | Member, at: str = SITE, when: When = None
    ) -> Answer:
        """Answer whether ``actor`` may take ``rank`` from a member (rule 6.9)."""
        return self.may_act(actor, Act.UNASSIGN, rank, at=at, of=of, when=when)

    def may_manage(self, actor: Who, rank: str | Rank, *, when: When = None) -> Answer:
        """Answer whether ``actor`` may change ``rank`` (rule 6.10)."""
        return self.may_act(actor, Act.MANAGE, rank, when=when)

    def may_call(self, actor: Who, rank: str | Rank, *, at: str = SITE, when: When = None) -> Answer:
        """Answer whether ``actor`` may call ``rank`` (rule 6.11)."""
        return self.may_act(actor, Act.CALL, rank, at=at, when=when)

    # -- side by side

    def grid(self, *, at: str | None = None) -> pd.DataFrame:
        """Return capabilities by ranks: what each rank grants, or with a place what can be used there.

        Booleans; the index holds the capabilities' keys, the columns the ranks' keys, both in the charter's order. An
        unbounded rank grants all. A rank is asked about as rule 4.9 says.
        """
        from ask_above.ask import tables

        return tables.grid(self._decider, None if at is None else self._names.place_number(at))

    def powers(self, act: str, *, at: str = SITE, when: When = None) -> pd.DataFrame:
        """Return acting ranks by ranks acted on for moderate, assign or manage (rule 6.13).

        Booleans; index and columns hold the ranks' keys, in the charter's order.

        >>> bool(Community.demo().powers("moderate").loc["warden", "member"])
        True
        """
        from ask_above.ask import tables
        from ask_above.decide.acts import act_named

        self._names.moment(when)  # it is the same at every moment, and one that cannot be meant is told
        return tables.powers(self._decider, act_named(act), self._names.place_number(at))

    def who(
        self,
        what: str,
        target: Who | None = None,
        *,
        at: str = SITE,
        to: str | Member | None = None,
        of: str | Member | None = None,
        using: str | None = None,
        when: When = None,
        through: bool = False,
        anywhere: bool = False,
    ) -> pd.DataFrame:
        """Return the members who may use a capability at a place, or do an act to somebody, in the register's order.

        Columns of text: ``member`` (key), ``name``, ``kind``, ``ranks`` (keys, highest first; ``owner`` in front for
        the owner); with ``through`` also what gives it to them: for a capability each thing that would have to go, for
        an act the step that decided. A bare name stands for all. An act is moderate (``target`` a member or rank),
        assign, unassign, manage or call (``target`` a rank), with ``to``, ``of`` and ``using`` as in the single
        questions. With ``anywhere`` a row for each member and place, in the charter's order of places, and a column
        ``place`` (key) at the end; ``at`` does not count then.

        >>> found = Community.demo().who("photo.upload", at="photo-wall", through=True)
        >>> found.set_index("member").loc["dara", "through"]
        'The rank Volunteer grants photo.upload (charter.yaml line ...)'
        >>> list(Community.demo().who("moderate", "tomas", at="field").member)
        ['ines', 'olaf', 'ada', 'birgit']
        """
        from ask_above.ask import tables
        from ask_above.decide import acts

        if anywhere:
            asked_for = partial(self.who, what, target, to=to, of=of, using=using, when=when, through=through)
            return tables.everywhere((key, asked_for(at=key)) for key in self.charter.places)
        place, now = self._names.place_number(at), self._names.moment(when)
        act = acts.asked_for(self._names, what, target, at=at, to=to, of=of, using=using)
        if act is not None:
            answers = dict(acts.who_may(self._decider, act, now))
            return tables.who_table(self._decider, answers, place, through=through)
        name = self._names.capability(what)
        able = tables.who(self._decider, name, place, now)
        sources = {asked: self._decider.may(asked, name, place) if through else None for asked in able}
        return tables.who_table(self._decider, sources, place, through=through, capability=name)

    def where(self, who: Who, capability: str, *, author: str | Member | None = None, when: When = None) -> list[str]:
        """Return the keys of all places where someone may use a capability, in the charter's order.

        >>> Community.demo().where("petra", "reading.certify")
        ['upper-gauges', 'lower-gauges']
        """
        from ask_above.ask.tables import where

        asked = self._names.asked(who, self._names.moment(when))
        by = self._names.author(author)
        return where(self._decider, asked, self._names.capability(capability, asked, by))

    # -- in someone's shoes, side by side

    def tour(self, who: Who, *, at: str = SITE, when: When = None) -> Tour:
        """Walk through the site, or through a place and all in it, as someone finds it.

        >>> tour = Community.demo().tour("bram")
        >>> [(stop.place, stop.state) for stop in tour.unseen]
        [('landowners', 'closed'), ('alder-landowners', 'closed')]
        """
        from ask_above.ask.tour import tour

        now = self._names.moment(when)
        return tour(self._decider, self._names.asked(who, now), now, self._names.place_number(at))

    def compare(self, one: Who, other: Who, *, at: str | None = None, when: When = None) -> Comparison:
        """Lay two ranks or two people side by side: what only the one may, only the other, both, and through what.

        Two ranks without ``at`` are compared by what they grant, all others by what they can use: at one place, or
        without ``at`` at any.

        >>> compared = Community.demo().compare("rank:volunteer", "rank:surveyor")
        >>> [row.capability for row in compared.of("one")]
        ['poll.start', 'photo.upload', 'rota.join']
        """
        from ask_above.ask import compare

        return compare.between(self._names, one, other, at, self._names.moment(when))

    def related(self, rank: str | Rank) -> list[Comparison]:
        """Compare what a rank grants with the one it was copied from, and with each that it builds on."""
        from ask_above.ask import compare

        return compare.related(self._decider.compiled, self._names.rank(rank))

    # -- changes

    def ways(
        self,
        who: Who,
        what: str,
        target: Who | None = None,
        *,
        at: str = SITE,
        author: str | Member | None = None,
        to: str | Member | None = None,
        of: str | Member | None = None,
        using: str | None = None,
        when: When = None,
        every: bool = False,
        told: Callable[[int, int], None] | None = None,
    ) -> Ways:
        """Return changes that give the other answer, fewest side effects first, each tested.

        The question is put as to ``may`` (a capability) or as to ``may_moderate`` and its like (an act with its
        ``target``). They are tried in the order of likely harm until five stand; with ``every`` all are. First come
        those that hand out nothing of high risk, no power over others and no unbounded rank, are no rule for the whole
        site and concern few; then the smaller ones. ``told`` is called with how many changes have been tried, and of
        how many.

        >>> way = Community.demo().ways("otto", "post.write", at="river-talk")[0]
        >>> print(way)
        Allow Otto Kessler alone post.write in River talk (no other answer changes)
        >>> way.command
        'ask-above place except river-talk otto --allow post.write'
        """
        from ask_above.ask.ways import search as ways
        from ask_above.decide import acts

        now, name = self._names.moment(when), self._names.who(who)
        asked = self._names.asked(who, now)
        act = acts.asked_for(self._names, what, target, at=at, to=to, of=of, using=using)
        if act is not None:
            return ways.act_ways(self._decider, name, act, now, told, every=every)
        by = self._names.author(author)
        full, place = self._names.capability(what, asked, by), self._names.place_number(at)
        return ways.capability_ways(self._decider, name, full, place, now, told, every=every)

    def impact(
        self, other: Community | Names, *, when: When = None, told: Callable[[int, int], None] | None = None
    ) -> Impact:
        """Return who gains and who loses what, where, if ``other`` takes the place of this community.

        ``told`` is called now and then with how many places are done, and of how many.

        >>> community = Community.demo()
        >>> from ask_above.charter.changes import withholding
        >>> changed = community.after(charter=withholding(community.charter, "volunteer", ["photo.upload"]))
        >>> shift = community.impact(changed).shifts[0]
        >>> shift.gains, shift.capabilities, shift.ranks
        (False, ('photo.upload',), ('volunteer',))
        """
        from ask_above.ask.impact.whole import impact

        return impact(self._decider, other.decider, self._names.moment(when), told)

    def fit(
        self, needs: Iterable[Wanted], *, never: Iterable[Wanted] = (), most: int | None = None, when: When = None
    ) -> Fit:
        """Return the ranks that give what someone needs and as little else as can be: the best one, the best few.

        A need is a capability, to be usable at any place at all, or a pair of capability and place. ``never`` names
        what must not be usable, ``most`` how many ranks are put together at most (3). The ranks are taken to be held
        on the whole site, beside the automatic ranks of members. What is too much weighs 1, 5 or 25 by its risk, for
        each place where it can be used; the least weight is best, then the fewest ranks, then the lowest.

        >>> fit = Community.demo().fit([("reading.post", "upper-gauges"), ("rota.join", "rota")])
        >>> fit.single.ranks, fit.single.weight
        (('volunteer',), 22)
        """
        from ask_above.ask.fit.search import MOST, Fitter, needed

        wanted = needed(self._names, needs), needed(self._names, never)
        return Fitter(self._decider, *wanted, self._names.moment(when), MOST if most is None else most).fit()

    def propose(self, needs: Iterable[Wanted], *, never: Iterable[Wanted] = (), when: When = None) -> Proposal | None:
        """Return a new rank that gives what someone needs, as a piece of a charter; ``None`` where no rank can.

        >>> print(Community.demo().propose(["rota.plan"]).rank)
        - key: new-rank
          title: New rank
          grants: [rota.plan]
        """
        from ask_above.ask.fit.new_rank import propose
        from ask_above.ask.fit.search import needed

        wanted = needed(self._names, needs), needed(self._names, never)
        return propose(self._decider, *wanted, self._names.moment(when))

    # -- people

    def cover(
        self,
        duties: Iterable[str] | None = None,
        *,
        without: Iterable[str | Member] = (),
        when: When = None,
        told: Callable[[int, int], None] | None = None,
    ) -> Cover:
        """Count how many active members can do each duty at each place; default: all of medium and high risk.

        ``without`` leaves members out, to see what breaks when they leave. ``table()`` of the result is places by
        capabilities.

        >>> from datetime import date
        >>> cover = Community.demo().cover(["post.publish"], when=date(2026, 12, 1))
        >>> int(cover.table().loc["front-page", "post.publish"])
        5
        """
        from ask_above.ask.cover import cover, default_duties

        names = None if duties is None else [self._names.capability(duty) for duty in several(duties, "duties")]
        left = frozenset(self._names.member(each).key for each in several(without, "members"))
        wanted = default_duties(self._decider.compiled) if names is None else names
        return cover(self._decider, wanted, self._names.moment(when), left, told)

    def roster(self, *, when: When = None) -> Roster:
        """Return the members under their headings with their looks, as they would stand beside a page (rule 7.1)."""
        from ask_above.ask.roster import roster

        return roster(self._decider, self._names.moment(when))

    def shared_accounts(
        self, signins: Iterable[SignIn], *, networks: int = 5, days: int = 7, when: When = None
    ) -> list[SharedAccount]:
        """Return the accounts used from so many networks within so many days, and what each could do."""
        from ask_above.ask.advice.accounts import shared_accounts

        return shared_accounts(self._decider, signins, self._names.moment(when), networks=networks, days=days)

    def advice(self, *, when: When = None, told: Callable[[int, int], None] | None = None) -> AdviceGiven:
        """Return the advice, the gravest first, less what ``rules.advice.silent`` names.

        Where the community has a folder, its ``signins.csv`` and its journal are looked at too.

        >>> [piece.what for piece in Community.demo().advice().pieces if piece.code == "badge-above-power"]
        ['Founding friend grants nothing and stands above Board host']
        """
        from ask_above.ask.advice.whole import NOTHING, advise
        from ask_above.workspace.journal import beside

        stands_beside = NOTHING if self._storage is None else beside(self._storage, self._names)
        return advise(self._decider, self._names.moment(when), told, stands_beside)

    # -- how far a rank can climb (rule 10)

    def climb(
        self, rank: str, *, at: str | None = None, accomplice: bool = False, cuts: bool = True, when: When = None
    ) -> Climbed:
        """Work out what whoever holds a rank could come to use in the end, by all that the charter lets them do.

        An upper bound: what no path leads to cannot be reached (rule 10.2). Each path is played through; ``certain``
        says whether it led there. ``accomplice`` reckons with another who holds the same rank, ``at`` keeps to one
        place, ``cuts`` tries single settings that would close each path.

        >>> [path.capabilities for path in Community.demo().climb("warden").paths]
        [('site.restart',)]
        """
        from ask_above.escalation.paths import climbed

        where = None if at is None else self._decider.compiled.places[self._names.place_number(at)].key
        moment = self._names.moment(when)
        return climbed(self._decider, self._names.rank(rank), moment, accomplice=accomplice, place=where, cuts=cuts)

    def climbs(self, *, at: str | None = None, accomplice: bool = False) -> pd.DataFrame:
        """Return, for every rank, how much it can reach that it does not hold, as a table.

        One row for each rank, in the ladder's order: ``rank`` (its key), ``unbounded`` (bool: it can come to be
        unbounded), ``high``, ``medium``, ``low`` (int: how many pairs of capability and place of each risk),
        ``capabilities`` (their names, high risk first, separated by spaces).

        >>> Community.demo().climbs().set_index("rank").loc["warden", "capabilities"]
        'site.restart'
        """
        from ask_above.escalation.paths import climbs

        where = None if at is None else self._names.place_number(at)
        return climbs(self._decider, place=where, accomplice=accomplice)

    # -- the rest

    def describe(self, name: str, *, when: When = None, full: bool = True) -> Described:
        """Describe a rank, a member or a place under headings.

        Of many things of one sort all are named; without ``full`` the first six, and how many more there are.

        A key that several have is written ``rank:KEY``, ``member:KEY`` or ``place:KEY``. Raises
        :class:`UnknownNameError`, and :class:`QuestionError` where several have the name.

        >>> Community.demo().describe("host").sentences[0]
        'Board host (host): 8th of 12 ranks, below Founding friend.'
        """
        from ask_above.ask.describe.describer import FEW, Describer, meant

        describer = Describer(self._decider, self._names.moment(when), most=sys.maxsize if full else FEW)
        return describer.describe(meant(self._names, name))

    def unmet(self, *, when: When = None) -> Sequence[Unmet]:
        """Return the charter's expectations that do not hold (rule 8), each with its explained answer."""
        from ask_above.ask import expect

        return expect.unmet(self._decider, self._names.moment(when))

    def unmet_later(self, *, when: When = None) -> Sequence[tuple[str, Unmet]]:
        """Return the expectations that hold now and will not, each with the day from which, and why (rule 8.6).

        The day is written as ISO 8601 in the charter's time zone, with the time where it is not midnight.

        >>> Community.demo().unmet_later()
        []
        """
        from ask_above.ask import expect

        found = expect.unmet_later(self._decider, self._names.moment(when))
        return [(written(since, self.charter.zone), each) for since, each in found]

    def looks(self, who: Who, *, when: When = None) -> Looks:
        """Return colour, badge, prefix and heading of someone, each with the rank it comes from (rules 7.1 and 7.2)."""
        from ask_above.decide.looks import looks

        return looks(self._decider.compiled, self._names.asked(who, self._names.moment(when)))

    def perks(self, who: Who, *, when: When = None) -> dict[str, PerkHeld]:
        """Return every perk's value for someone, with the ranks it comes from (rule 7.3)."""
        from ask_above.decide.looks import perks

        return perks(self._decider.compiled, self._names.asked(who, self._names.moment(when)))
