"""Edits of ranks: what they grant, their place on the ladder, their names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from ask_above.change.draft import Done, Draft, EditError, RowChange, ended, put_words
from ask_above.change.items import ITEMS, Item, ItemRename, ItemSet, given_anew, is_free
from ask_above.change.parts import coverage
from ask_above.change.references import renamed, without_rank
from ask_above.change.steps import Drop, Insert, MoveItem
from ask_above.charter.changes import adding, granting, with_rank, withholding
from ask_above.charter.charter import Charter
from ask_above.charter.names import how_many, listed, upper
from ask_above.people.register import Assignment

NOT_COPIED = ("unbounded", "kept-by", "after", "apart-from", "limit", "moderates", "assigns", "manages")
"""The fields of a rank that a copy does not take over: they are the owner's to set (rule 9.3)."""


class RankAdd(NamedTuple):
    """Make a rank; ``above`` or ``below`` another, else directly above the highest automatic one at the end."""

    key: str
    fields: Mapping[str, Any] = {}
    above: str | None = None
    below: str | None = None
    copy_of: str | None = None

    def on(self, draft: Draft) -> Done:
        is_free(draft, self.key, "rank")
        fields, source = dict(self.fields), ""
        if self.copy_of is not None:
            n = draft.rank_path(self.copy_of)[1]
            original = {
                k: v
                for k, v in draft.data["ranks"][n].items()
                if k not in ("key", "title", "color", *NOT_COPIED, "entry", "copied-from")
            }
            fields = {"title": fields.pop("title", self.key), **original, **fields, "copied-from": self.copy_of}
            source = f" as a copy of {draft.data['ranks'][n].get('title', self.copy_of)}"
        _check_one(self.above, self.below)
        above = self.above if self.above or self.below or not self.copy_of else None
        below = self.below or (self.copy_of if not self.above else None)
        position = _position(draft, above, below)
        what = f"add the rank {fields.get('title', self.key)}{source}"
        if "key" in fields:
            raise EditError(f"The key of the rank is {self.key}; it has no other.")
        return Done(what, (Insert(("ranks",), position, {"key": self.key, **fields}),))


class RankMove(NamedTuple):
    """Move a rank directly above or below another."""

    key: str
    above: str | None = None
    below: str | None = None

    def on(self, draft: Draft) -> Done:
        path = draft.rank_path(self.key)
        _check_one(self.above, self.below)
        other = self.above or self.below or ""
        if other == self.key:
            raise EditError("A rank can be moved neither above nor below itself.")
        n, at = int(path[1]), int(draft.rank_path(other)[1])
        position = at - (n < at) + (self.below is not None)
        what = f"move {draft.rank(self.key).called} {'above' if self.above else 'below'} {draft.rank(other).called}"
        steps = () if position == n else (MoveItem(path, ("ranks",), position),)
        return Done(what, steps)


class RankSet(ItemSet):
    """Set fields of a rank, ``None`` takes a field out."""

    __slots__ = ()


class RankRename(ItemRename):
    """Give a rank another title, or another key with every reference to it."""

    __slots__ = ()


class Grant(NamedTuple):
    """Grant capabilities to a rank.

    A pattern stands for the capabilities that there are now; with ``pattern`` it is written as it is, for later ones.
    """

    rank: str
    names: Sequence[str]
    pattern: bool = False

    def on(self, draft: Draft) -> Done:
        draft.rank(self.rank)
        changed = granting(draft.charter, self.rank, known_capabilities(draft, self.names))
        if self.pattern:
            here = draft.charter.ranks[self.rank]
            changed = with_rank(changed, changed.ranks[self.rank]._replace(grants=adding(here.grants, self.names)))
        return _carrying(draft, self.rank, changed, f"grant {listed(self.names)} to {{}}")


class Withhold(NamedTuple):
    """Withhold capabilities from a rank."""

    rank: str
    names: Sequence[str]

    def on(self, draft: Draft) -> Done:
        draft.rank(self.rank)
        changed = withholding(draft.charter, self.rank, known_capabilities(draft, self.names))
        return _carrying(draft, self.rank, changed, f"withhold {listed(self.names)} from {{}}")


class Withdraw(NamedTuple):
    """Withhold a capability from every rank that grants it, except unbounded ones."""

    name: str

    def on(self, draft: Draft) -> Done:
        names = known_capabilities(draft, (self.name,))
        holders = carriers(draft.charter, names[0])
        if not holders:
            raise EditError(f"No rank grants {self.name}.")
        catalogue, dones = draft.charter.catalogue, list[Done]()
        bit = catalogue.bit[names[0]]
        # those that grant it themselves first: what only comes from them is gone then
        holders.sort(key=lambda key: not catalogue.close(catalogue.expand_all(draft.charter.ranks[key].grants)) & bit)
        charter, edited = draft.charter, list[str]()
        for key in holders:  # what a rank has only from one that it builds on goes with that one
            if carried_by(charter, key) & bit:
                changed = withholding(charter, key, names)
                dones.append(_carrying(draft, key, changed, ""))
                charter, edited = changed, [*edited, charter.ranks[key].called]
        steps = tuple(step for part in dones for step in part.steps)
        return Done(f"withdraw {self.name} from {listed(edited)}", steps)


class RankRemove(NamedTuple):
    """Remove a rank; members who have it get ``instead``, or nothing."""

    key: str
    instead: str | None = None

    def on(self, draft: Draft) -> Done:
        path, rank = draft.rank_path(self.key), draft.rank(self.key)
        if len(draft.charter.ranks) == 1:
            raise EditError(f"{rank.called} is the only rank, and every community has one at least.")
        if self.instead is not None:
            other = draft.rank(self.instead)
            if other.automatic or self.instead == self.key:
                raise EditError(f"{other.called} cannot be assigned instead.")
        steps = [*without_rank(draft, self.key), Drop(path)]
        rows = list(_removed_rows(draft, self.key, self.instead))
        given = draft.register.naming("rank", {self.key})
        holders = len({assignment.member for assignment in given if _lasts(assignment, draft)})
        what = f"remove the rank {rank.called}"
        if holders:
            what += f", which {how_many(holders, 'member has', 'members have')}" + (
                f", and assign {draft.rank(self.instead).called} instead" if self.instead else ""
            )
        return Done(what, tuple(steps), tuple(rows))


def carriers(charter: Charter, name: str) -> list[str]:
    """Return the ranks that grant a capability, the unbounded ones aside, lowest first."""
    from ask_above.decide.compiled import carried_sets

    ranks = list(charter.ranks.values())
    bit = charter.catalogue.bit[name]
    carried = carried_sets(ranks, charter.catalogue)
    return [rank.key for rank, mask in zip(ranks, carried, strict=True) if mask & bit and not rank.unbounded][::-1]


def carried_by(charter: Charter, key: str) -> int:
    """Return what a rank grants, as a set of bits of the catalogue (rule 3.1)."""
    from ask_above.decide.compiled import carried_sets

    ranks = list(charter.ranks.values())
    return carried_sets(ranks, charter.catalogue)[charter.ranks[key].position]


def _check_one(above: str | None, below: str | None) -> None:
    if above and below:
        raise EditError(f"Directly above {above} and directly below {below} are two spots. Say one of them.")


def _position(draft: Draft, above: str | None, below: str | None) -> int:
    if above is not None:
        return int(draft.rank_path(above)[1])
    if below is not None:
        return int(draft.rank_path(below)[1]) + 1
    given = [n for n, rank in enumerate(draft.charter.ranks.values()) if not rank.automatic and not rank.entry]
    return given[-1] + 1 if given else 0


def known_capabilities(draft: Draft, names: Sequence[str]) -> tuple[str, ...]:
    """Return full names of capabilities; words that stand for several are written out where they have to be."""
    catalogue = draft.charter.catalogue
    if not names:
        raise EditError("Which capabilities? Name at least one.")
    keys: list[str] = []
    for name in names:
        wrong = catalogue.what_is_wrong_with(name)
        if wrong is not None:
            near = f" Nearest: {', '.join(wrong[1])}" if wrong[1] else ""
            raise EditError(f"{upper(wrong[0])}.{near}")
        keys += [name] if name in catalogue.bit else catalogue.names(catalogue.expand(name))
    return tuple(dict.fromkeys(keys))


def _carrying(draft: Draft, key: str, changed: Charter, said: str) -> Done:
    path = draft.rank_path(key)
    rank = changed.ranks[key]
    what = said.format(rank.called)
    steps = [*put_words(draft, (*path, "grants"), rank.grants), *put_words(draft, (*path, "withhold"), rank.withhold)]
    return Done(what, tuple(steps))


def _settable(_draft: Draft, _key: str, fields: Mapping[str, Any]) -> None:
    if "key" in fields:
        raise EditError("A key is changed with every reference to it: RankRename, or ask-above rank rename --key.")


def _lasts(each: Assignment, draft: Draft) -> bool:
    """Whether an assignment is in force, or will be."""
    return each.period.end is None or each.period.end > draft.at


def _removed_rows(draft: Draft, key: str, instead: str | None) -> Iterator[RowChange]:
    """Yield the assignments of a rank, taken out; those in force or to come become ones of another rank."""
    for assignment in draft.register.naming("rank", {key}):
        others = [o for o in draft.register.of(assignment.member) if (o.rank, o.place) == (instead, assignment.place)]
        # whoever has the other rank there already is not given it twice
        covered = not (coverage([assignment]) - coverage(others)).since(draft.at)
        stays = instead is not None and _lasts(assignment, draft) and not covered
        given = {"rank": instead or "", "by": draft.by, "source": ""}
        yield ended(assignment, given if stays else None)


ITEMS[RankSet] = ITEMS[RankRename] = Item(
    "rank", Draft.rank_path, lambda draft, key: draft.rank(key).called, _settable, renamed, given_anew("rank")
)
