"""The questions that administrators come back with, put to an opened community."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from datetime import UTC, date, datetime
from typing import TYPE_CHECKING, TypeAlias

from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant, instant, start_of, written
from ask_above.charter.names import SITE, listed, nearest
from ask_above.charter.places import Place
from ask_above.decide.may import VISITOR, Decider
from ask_above.decide.profile import Asked
from ask_above.errors import MomentError, QuestionError, UnknownNameError
from ask_above.people.register import Member, Register

if TYPE_CHECKING:
    import pandas as pd

    from ask_above.ask.acts import Act
    from ask_above.ask.advice.whole import AdviceGiven
    from ask_above.ask.compare import Comparison
    from ask_above.ask.cover import Cover
    from ask_above.ask.describe import Described
    from ask_above.ask.expect import Unmet
    from ask_above.ask.fit import Fit, Need
    from ask_above.ask.impact import Impact
    from ask_above.ask.new_rank import Proposal
    from ask_above.ask.roster import Heading
    from ask_above.ask.shared import SharedAccount
    from ask_above.ask.tour import Tour
    from ask_above.ask.ways import Way
    from ask_above.change.climbing import Climbed
    from ask_above.decide.looks import Looks, PerkHeld
    from ask_above.people.signins import SignIn

Who: TypeAlias = str | Rank | Member
When: TypeAlias = datetime | date | None
Wanted: TypeAlias = str | tuple[str, str]


class Questions:
    """What an opened community can be asked; :class:`ask_above.Community` says how names and moments are given."""

    _decider: Decider

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

    # -- side by side

    def grid(self, *, at: str | None = None) -> pd.DataFrame:
        """Return capabilities by ranks: what each rank carries, or with a place what can be used there.

        Booleans; the index holds the capabilities' keys, the columns the ranks' keys, both in the charter's order. An
        unbounded rank carries all. A rank is asked about as rule 4.9 says.
        """
        from ask_above.ask import tables

        return tables.grid(self._decider, None if at is None else self._place(at))

    def powers(self, act: str, *, at: str = SITE, when: When = None) -> pd.DataFrame:
        """Return acting ranks by ranks acted on for moderate, assign or manage (rule 6.13).

        Booleans; index and columns hold the ranks' keys, in the charter's order.

        >>> bool(Community.demo().powers("moderate").loc["warden", "member"])
        True
        """
        from ask_above.ask import tables

        return tables.powers(self._decider, act, self._place(at), self._moment(when))

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
    ) -> pd.DataFrame:
        """Return the members who may use a capability at a place, or do an act to somebody, in the register's order.

        Columns of text: ``member`` (key), ``name``, ``kind``, ``ranks`` (keys, highest first; ``owner`` in front for
        the owner); with ``through`` also what gives it to them: for a capability each thing that would have to go, for
        an act the step that decided. A bare name stands for all. An act is moderate (``target`` a member or rank),
        assign, unassign, manage or call (``target`` a rank), with ``to``, ``of`` and ``using`` as in the single
        questions.

        >>> found = Community.demo().who("photo.upload", at="photo-wall", through=True)
        >>> found.set_index("member").loc["dara", "through"]
        'Volunteer carries photo.upload (charter.yaml line ...)'
        >>> list(Community.demo().who("moderate", "tomas", at="field").member)
        ['ines', 'olaf', 'ada', 'birgit']
        """
        from ask_above.ask import acts, tables

        place, now = self._place(at), self._moment(when)
        if what in acts.NAMES:
            act = self._act(what, target, at=at, to=to, of=of, using=using)
            answers = dict(acts.who_may(self._decider, act, now))
            return tables.who_table(self._decider, answers, place, through=through)
        name = self._capability(what, None, None)
        found = tables.who(self._decider, name, place, now)
        sources = {each: self._decider.may(each, name, place) if through else None for each in found}
        return tables.who_table(self._decider, sources, place, through=through, capability=name)

    def where(self, who: Who, capability: str, *, author: str | Member | None = None, when: When = None) -> list[str]:
        """Return the keys of all places where someone may use a capability, in the charter's order.

        >>> Community.demo().where("petra", "reading.certify")
        ['upper-gauges', 'lower-gauges']
        """
        from ask_above.ask.through import where

        asked = self._asked(who, self._moment(when))
        by = None if author is None else self.member(author if isinstance(author, str) else author.key).key
        return where(self._decider, asked, self._capability(capability, asked, by))

    # -- in someone's shoes, side by side

    def tour(self, who: Who, *, when: When = None) -> Tour:
        """Walk through the site as someone finds it: what is there, what is closed, what they can do where.

        >>> tour = Community.demo().tour("bram")
        >>> [(stop.place, stop.state) for stop in tour.unseen]
        [('landowners', 'closed'), ('alder-landowners', 'closed')]
        """
        from ask_above.ask.tour import tour

        return tour(self._decider, self._asked(who, self._moment(when)))

    def compare(self, one: Who, other: Who, *, at: str | None = None, when: When = None) -> Comparison:
        """Lay two ranks or two people side by side: what only the one may, only the other, both, and through what.

        Two ranks without ``at`` are compared by what they carry, all others by what they can use: at one place, or
        without ``at`` at any.

        >>> compared = Community.demo().compare("rank:volunteer", "rank:surveyor")
        >>> [row.capability for row in compared.of("one")]
        ['poll.start', 'photo.upload', 'rota.join']
        """
        from ask_above.ask import compare

        now = self._moment(when)
        first, second = self._asked(one, now), self._asked(other, now)
        names = [each.key if isinstance(each, Rank) else str(each).removeprefix("rank:") for each in (one, other)]
        ranks = [isinstance(each, Rank) or str(each).startswith("rank:") for each in (one, other)]
        if at is None and all(ranks):
            return compare.carried(self._decider.frame, self.rank(names[0]), self.rank(names[1]))
        places = range(len(self._decider.frame.places)) if at is None else [self._place(at)]
        return compare.usable(self._decider, first, second, list(places))

    def related(self, rank: str | Rank) -> list[Comparison]:
        """Compare what a rank carries with the one it was copied from, and with each that it builds on."""
        from ask_above.ask import compare

        return compare.related(self._decider.frame, self._rank(rank))

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
    ) -> list[Way]:
        """Return changes that would turn an answer, the least harmful first, each carried out before it is told.

        The question is put as to ``may`` (a capability) or as to ``may_moderate`` and its like (an act with its
        ``target``). They are tried in the order of likely harm until five stand; with ``every`` all are. First come
        those that hand out nothing of high risk, no power over others and no unbounded rank, are no rule for the whole
        site and concern few; then the smaller ones. ``told`` is called with how many changes have been tried, and of
        how many.

        >>> way = Community.demo().ways("otto", "post.write", at="river-talk")[0]
        >>> print(way)
        Allow Otto Kessler alone post.write in River talk (turns no other answer of anybody)
        >>> way.command
        'ask-above place except river-talk otto --allow post.write'
        """
        from ask_above.ask import acts, ways

        now, name = self._moment(when), self._named(who)
        asked = self._asked(who, now)
        if what in acts.NAMES:
            return ways.act_ways(
                self._decider,
                name,
                self._act(what, target, at=at, to=to, of=of, using=using),
                now,
                told,
                every=every,
            )
        by = None if author is None else self.member(author if isinstance(author, str) else author.key).key
        full, place = self._capability(what, asked, by), self._place(at)
        return ways.capability_ways(self._decider, name, full, place, now, told, every=every)

    def impact(self, other: Questions, *, when: When = None, told: Callable[[int, int], None] | None = None) -> Impact:
        """Return who gains and who loses what, where, if ``other`` takes the place of this community.

        ``told`` is called now and then with how many places are done, and of how many.

        >>> community = Community.demo()
        >>> from ask_above.charter.changes import withholding
        >>> changed = community.after(charter=withholding(community.charter, "volunteer", ["photo.upload"]))
        >>> shift = community.impact(changed).shifts[0]
        >>> shift.gains, shift.capabilities, shift.ranks
        (False, ('photo.upload',), ('volunteer',))
        """
        from ask_above.ask.impact import impact

        return impact(self._decider, other.decider, self._moment(when), told)

    def fit(
        self,
        needs: Iterable[Wanted],
        *,
        never: Iterable[Wanted] = (),
        most: int | None = None,
        when: When = None,
    ) -> Fit:
        """Return the ranks that give what someone needs and as little else as can be: the best one, the best few.

        A need is a capability, to be usable at any place at all, or a pair of capability and place. ``never`` names
        what must not be usable, ``most`` how many ranks are put together at most (3). The ranks are taken to be held
        on the whole site, beside the automatic ranks of members. What is too much weighs 1, 5 or 25 by its risk, for
        each place where it can be used; the least weight is best, then the fewest ranks, then the lowest.

        >>> fit = Community.demo().fit([("reading.post", "upper-gauges"), ("rota.join", "rota")])
        >>> fit.single.ranks, fit.single.weight
        (('volunteer',), 39)
        """
        from ask_above.ask.fit import MOST, Fitter

        wanted = self._needs(needs), self._needs(never)
        return Fitter(self._decider, *wanted, self._moment(when), most or MOST).fit()

    def propose(self, needs: Iterable[Wanted], *, never: Iterable[Wanted] = (), when: When = None) -> Proposal | None:
        """Return a new rank that gives what someone needs, as a piece of a charter; ``None`` where no rank can.

        >>> print(Community.demo().propose(["rota.plan"]).rank)
        - key: new-rank
          title: New rank
          grants: [rota.plan]
        """
        from ask_above.ask.new_rank import propose

        return propose(self._decider, self._needs(needs), self._needs(never), self._moment(when))

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

        >>> cover = Community.demo().cover(["post.publish"], when=date(2026, 12, 1))
        >>> int(cover.table().loc["front-page", "post.publish"])
        5
        """
        from ask_above.ask.cover import cover, default_duties

        names = None if duties is None else [self._capability(each, None, None) for each in duties]
        left = frozenset(self.member(each if isinstance(each, str) else each.key).key for each in without)
        wanted = default_duties(self._decider.frame) if names is None else names
        return cover(self._decider, wanted, self._moment(when), left, told)

    def roster(self, *, when: When = None) -> list[Heading]:
        """Return the members under their headings with their looks, as they would stand beside a page (rule 7.1)."""
        from ask_above.ask.roster import roster

        return roster(self._decider, self._moment(when))

    def shared_accounts(
        self, signins: Iterable[SignIn], *, networks: int = 5, days: int = 7, when: When = None
    ) -> list[SharedAccount]:
        """Return the accounts used from so many networks within so many days, and what each could do."""
        from ask_above.ask.shared import shared_accounts

        return shared_accounts(self._decider, signins, self._moment(when), networks=networks, days=days)

    def advice(self, *, when: When = None, told: Callable[[int, int], None] | None = None) -> AdviceGiven:
        """Return what a careful administrator would look at again, less what ``rules.advice.silent`` names.

        >>> [piece.what for piece in Community.demo().advice().pieces if piece.code == "badge-above-power"]
        ['Founding friend carries nothing, and stands above Board host']
        """
        from ask_above.ask.advice.whole import advise

        return advise(self._decider, self._moment(when), told)

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
        from ask_above.change.climbing import climbed

        where = None if at is None else self._decider.frame.places[self._place(at)].key
        moment = self._moment(when)
        return climbed(self._decider, self._rank(rank), moment, accomplice=accomplice, place=where, cuts=cuts)

    def climbs(self, *, at: str | None = None, accomplice: bool = False) -> pd.DataFrame:
        """Return, for every rank, how much it can reach that it does not hold, as a table.

        One row for each rank, in the ladder's order: ``rank`` (its key), ``unbounded`` (bool: it can come to be
        unbounded), ``high``, ``medium``, ``low`` (int: how many pairs of capability and place of each risk),
        ``capabilities`` (their names, high risk first, separated by spaces).

        >>> Community.demo().climbs().set_index("rank").loc["warden", "capabilities"]
        'site.restart'
        """
        from ask_above.ask.climbs import climbs

        where = None if at is None else self._place(at)
        return climbs(self._decider, place=where, accomplice=accomplice)

    # -- the rest

    def describe(self, name: str, *, when: When = None) -> Described:
        """Describe a rank, a member or a place in sentences; ``str`` of the result is a paragraph.

        A key that several have is written ``rank:KEY``, ``member:KEY`` or ``place:KEY``. Raises
        :class:`UnknownNameError`, and :class:`QuestionError` where several have the name.

        >>> Community.demo().describe("host").sentences[0]
        'Board host is the 8th of 12 ranks, directly below Founding friend.'
        """
        from ask_above.ask.describe import Describer

        form, colon, key = name.rpartition(":")
        ways: dict[str, Mapping[str, Rank | Member | Place]] = {
            "rank": self.charter.ranks,
            "member": self.register.members,
            "place": self.charter.places,
        }
        if colon and form not in ways:
            raise UnknownNameError(
                "kind of thing", form, nearest(form, ways), f"Write {listed(ways, 'or')} before :{key}."
            )
        forms = [form] if colon else [each for each, known in ways.items() if key in known]
        if len(forms) > 1:
            raise QuestionError(f"'{name}' is a {' and a '.join(forms)}; write {forms[0]}:{key} or {forms[1]}:{key}.")
        if not forms or key not in ways[forms[0]]:
            known = [*ways[forms[0]]] if forms else [each for keys in ways.values() for each in keys]
            raise UnknownNameError(forms[0] if forms else "rank, member or place", key, nearest(key, known))
        return Describer(self._decider, self._moment(when)).describe(ways[forms[0]][key])

    def unmet(self, *, when: When = None) -> Sequence[Unmet]:
        """Return the charter's expectations that do not hold (rule 8), each with its explained answer."""
        from ask_above.ask import expect

        return expect.unmet(self._decider, self._moment(when))

    def unmet_later(self, *, when: When = None) -> Sequence[tuple[str, Unmet]]:
        """Return the expectations that hold now and will not, each with the day from which, and why (rule 8.6).

        The day is written as ISO 8601 in the charter's time zone, with the time where it is not midnight.

        >>> Community.demo().unmet_later()
        []
        """
        from ask_above.ask import expect

        found = expect.unmet_later(self._decider, self._moment(when))
        return [(written(since, self.charter.zone), each) for since, each in found]

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

    def _named(self, who: Who) -> str:
        """Return someone's name as a question has it: a member's key, ``rank:KEY``, ``visitor``."""
        return f"rank:{who.key}" if isinstance(who, Rank) else who.key if isinstance(who, Member) else who

    def _act(
        self,
        name: str,
        target: Who | None,
        *,
        at: str = SITE,
        to: str | Member | None = None,
        of: str | Member | None = None,
        using: str | None = None,
    ) -> Act:
        """Return an act with all its names checked."""
        from ask_above.ask.acts import Act

        if target is None:
            raise QuestionError(f"'{name}' needs whom or which rank.")
        place = self.charter.places[self.place(at).key].key
        if name == "moderate":
            return Act(name, None, self._known_name(target), place, self._using(using))
        rank = self._rank(target if isinstance(target, Rank) else self._named(target)).key
        other = to if name == "assign" else of if name == "unassign" else None
        if name == "unassign" and other is None:
            raise QuestionError("'unassign' needs from whom.")
        return Act(name, rank, None if other is None else self._known_name(other), place)

    def _known_name(self, who: Who) -> str:
        name = self._named(who)
        if name.startswith("rank:"):
            self.rank(name[5:])
        else:
            self.member(name)
        return name

    def _using(self, using: str | None) -> str | None:
        """Return a capability that moderating takes, by its full name (rule 6.2)."""
        if using is None:
            return None
        name = self._capability(using, None, None)
        known = self.charter.rules.act("moderate").using
        if name not in known:
            said = f"It takes one of {', '.join(known)}." if known else "Moderating is the owner's alone."
            raise QuestionError(f"'{name}' is none of the capabilities that moderating takes here. {said}")
        return name

    def _needs(self, wanted: Iterable[Wanted]) -> list[Need]:
        from ask_above.ask.fit import Need

        pairs = [(each, None) if isinstance(each, str) else each for each in wanted]
        return [
            Need(self._capability(name, None, None), None if place is None else self._place(place))
            for name, place in pairs
        ]

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
