"""A charter with one key changed, and every reference to it changed (rule 9.4)."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import NamedTuple, TypeVar

from ask_above.charter.catalogue import Bundle, Catalogue, Words
from ask_above.charter.charter import Charter
from ask_above.charter.expectations import Expectation, Subject
from ask_above.charter.ladder import Rank, RankList
from ask_above.charter.places import Conferred, Gate, Group, Override, OverrideSet, Place

T = TypeVar("T")


class Renaming(NamedTuple):
    """Keys that are given another, by the kind of thing: what was ``old`` is ``new`` now.

    ``titled`` where the thing has no title of its own, so that its key is how it is called.
    """

    kind: str
    old: str
    new: str
    titled: bool = False

    def of(self, kind: str, key: str) -> str:
        """Return the key that a thing of some kind has afterwards."""
        return self.new if kind == self.kind and key == self.old else key

    def title(self, kind: str, thing: Rank | Place | Group) -> str:
        """Return the title that a thing of some kind has afterwards."""
        return self.of(kind, thing.key) if self.titled and thing.title == thing.key else thing.title


def renamed(charter: Charter, renaming: Renaming) -> Charter:
    """Return a charter in which one rank, group, place, member, bundle or override set has another key."""
    return _Renamer(renaming).charter(charter)


class _Renamer:
    """Carries one new key through a charter."""

    def __init__(self, renaming: Renaming) -> None:
        self.of, self.title = renaming.of, renaming.title

    def charter(self, charter: Charter) -> Charter:
        of = self.of
        return charter._replace(
            owner=None if charter.owner is None else of("member", charter.owner),
            catalogue=self.catalogue(charter.catalogue),
            ranks=self._keyed("rank", charter.ranks, self.rank),
            places=self._keyed("place", charter.places, self.place),
            groups=self._keyed("group", charter.groups, self.group),
            override_sets=self._keyed("set", charter.override_sets, self.override_set),
            expectations=tuple(map(self.expectation, charter.expectations)),
            rules=charter.rules._replace(
                acts={
                    name: act._replace(words=tuple(of("bundle", word) for word in act.words))
                    for name, act in charter.rules.acts.items()
                }
            ),
        )

    def _keyed(self, kind: str, things: Mapping[str, T], change: Callable[[T], T]) -> dict[str, T]:
        return {self.of(kind, key): change(thing) for key, thing in things.items()}

    def words(self, words: Words) -> Words:
        return Words(tuple(self.of("bundle", word) for word in words), words.where)

    def catalogue(self, catalogue: Catalogue) -> Catalogue:
        # the catalogue keeps what it has worked out, so it is made anew only where it has to be
        if all(self.of("bundle", key) == key for key in catalogue.bundles):
            return catalogue
        bundles = self._keyed(
            "bundle", catalogue.bundles, lambda each: Bundle(self.of("bundle", each.key), self.words(each.words))
        )
        return Catalogue(catalogue.capabilities, bundles, catalogue.nobody)

    def _ranks(self, keys: tuple[str, ...]) -> tuple[str, ...]:
        return tuple(self.of("rank", key) for key in keys)

    def rank(self, rank: Rank) -> Rank:
        def names(keys: frozenset[str]) -> frozenset[str]:
            return frozenset(self._ranks(tuple(keys)))

        return rank._replace(
            key=self.of("rank", rank.key),
            title=self.title("rank", rank),
            grants=self.words(rank.grants),
            withhold=self.words(rank.withhold),
            builds_on=self._ranks(rank.builds_on),
            copied_from=None if rank.copied_from is None else self.of("rank", rank.copied_from),
            after=self._ranks(rank.after),
            apart_from=self._ranks(rank.apart_from),
            lists={
                act: RankList(None if each.only is None else names(each.only), names(each.excluded), each.where)
                for act, each in rank.lists.items()
            },
        )

    def _holder(self, key: str) -> str:
        """Return the key of a rank or group, which share one name space."""
        # ranks and groups share their keys (1.3), so one of the two leaves it as it is
        return self.of("group", self.of("rank", key))

    def override(self, entry: Override) -> Override:
        return entry._replace(
            of=self._holder(entry.of),
            allow=self.words(entry.allow),
            deny=self.words(entry.deny),
            bar=self.words(entry.bar),
        )

    def exception(self, entry: Override) -> Override:
        return self.override(entry)._replace(of=self.of("member", entry.of))

    def gate(self, gate: Gate) -> Gate:
        any_of, all_of, none_of = (
            tuple(term._replace(key=self._holder(term.key)) for term in terms)
            for terms in (gate.any, gate.all, gate.none)
        )
        return gate._replace(any=any_of, all=all_of, none=none_of)

    def place(self, place: Place) -> Place:
        return place._replace(
            key=self.of("place", place.key),
            title=self.title("place", place),
            parent=None if place.parent is None else self.of("place", place.parent),
            overrides=tuple(map(self.override, place.overrides)),
            exceptions=tuple(map(self.exception, place.exceptions)),
            gate=None if place.gate is None else self.gate(place.gate),
            like=tuple(self.of("set", key) for key in place.like),
        )

    def group(self, group: Group) -> Group:
        return group._replace(
            key=self.of("group", group.key),
            title=self.title("group", group),
            includes=tuple(self.of("group", key) for key in group.includes),
            confers=tuple(Conferred(self.of("rank", c.rank), self.of("place", c.place)) for c in group.confers),
        )

    def override_set(self, each: OverrideSet) -> OverrideSet:
        return each._replace(key=self.of("set", each.key), overrides=tuple(map(self.override, each.overrides)))

    def expectation(self, each: Expectation) -> Expectation:
        def optional(kind: str, key: str | None) -> str | None:
            return None if key is None else self.of(kind, key)

        subject = each.subject
        kind = "member" if subject.form == "member" else "rank"
        return each._replace(
            subject=Subject(subject.form, self.of(kind, subject.key)),
            target=optional("rank", each.target),
            member=optional("member", each.member),
            author=optional("member", each.author),
            place=self.of("place", each.place),
        )
