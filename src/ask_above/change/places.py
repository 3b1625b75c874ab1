"""Edits of places: where they stand, what differs there, who may enter."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from ask_above.change.draft import Done, Draft, EditError, NamedByExpectationError, ended, put_words
from ask_above.change.items import ITEMS, Item, ItemRename, ItemSet, given_anew, is_free, no_field
from ask_above.change.steps import Drop, Insert, MoveItem, Path, Put, Step, there
from ask_above.charter.changes import saying
from ask_above.charter.charter import Charter
from ask_above.charter.names import SITE, how_many, listed
from ask_above.charter.places import Override, Place
from ask_above.decide.words import in_place

OWN = ("overrides", "exceptions")
"""What a place says itself, and what goes when it falls in with its section again."""


class PlaceAdd(NamedTuple):
    """Make a place, last in another."""

    key: str
    kind: str
    into: str = SITE
    fields: Mapping[str, Any] = {}

    def on(self, draft: Draft) -> Done:
        is_free(draft, self.key, "place")
        where = _inside(draft, self.into)
        if {"key", "kind", "places"} & set(self.fields):
            raise EditError("Key and kind of a place are given by themselves, and places in it are made afterwards.")
        place = {"key": self.key, **{k: v for k, v in self.fields.items() if k == "title"}, "kind": self.kind}
        place |= {k: v for k, v in self.fields.items() if k != "title"}
        what = f"add the place {place.get('title', self.key)} {_at(draft, self.into)}"
        position = len(draft.said(where) or [])
        return Done(what, (Insert(where, position, place),))


class PlaceMove(NamedTuple):
    """Move a place into another; ``keep`` its own overrides and exceptions, or take the section's instead."""

    key: str
    into: str
    keep: bool

    def on(self, draft: Draft) -> Done:
        _not_the_site(self.key, "moved")
        path, place = draft.place_path(self.key), _place(draft, self.key)
        if self.into in below(draft, self.key):
            raise EditError(f"{place.called} cannot be moved into itself.")
        steps: list[Step] = (
            [] if self.keep else [Drop((*path, each)) for each in OWN if there(draft.data, (*path, each))]
        )
        to = _inside(draft, self.into)
        # it is taken out before it is put in, so within one list the end comes one earlier
        position = len(draft.said(to) or []) - (path[:-1] == to)
        if path[:-1] != to or int(path[-1]) != position:
            steps.append(MoveItem(path, to, position))
        said = "with its own overrides" if self.keep else "without its own overrides"
        what = f"move {place.called} {_into(draft, self.into)}, {said}"
        return Done(what, tuple(steps))


class PlaceCopy(NamedTuple):
    """Make a place that says what another does, with all places in it, beside it or in another section.

    A place in it has its old key with the new one in front; who holds a rank for the old one does not for the new.
    """

    key: str
    new: str
    into: str | None = None
    fields: Mapping[str, Any] = {}

    def on(self, draft: Draft) -> Done:
        _not_the_site(self.key, "copied")
        path, place = draft.place_path(self.key), _place(draft, self.key)
        into = place.parent or SITE if self.into is None else self.into
        if {"key", "kind", "places"} & set(self.fields):
            raise EditError("A copy has the kind and the places of the one that it is a copy of.")
        copied = self._anew(draft, draft.said(path), self.new)
        copied |= self.fields if "title" in self.fields else {"title": self.new, **self.fields}
        where = _inside(draft, into)
        what = f"add {copied['title']} {_at(draft, into)} as a copy of {place.called}"
        if copied.get("places"):
            what += f", with the {how_many(len(below(draft, self.key)) - 1, 'place')} in it"
        return Done(what, (Insert(where, len(draft.said(where) or []), copied),))

    def _anew(self, draft: Draft, data: Mapping[str, Any], key: str) -> dict[str, Any]:
        is_free(draft, key, "place")
        # keys are one name space for the whole site (1.3), so each place in it needs its own
        inside = [self._anew(draft, each, f"{self.new}-{each['key']}") for each in data.get("places") or []]
        made = {name: value for name, value in data.items() if name not in ("key", "places")}
        return {"key": key, **made} | ({"places": inside} if inside else {})


class PlaceRemove(NamedTuple):
    """Remove a place and all in it; assignments at them end."""

    key: str

    def on(self, draft: Draft) -> Done:
        _not_the_site(self.key, "removed")
        path, place = draft.place_path(self.key), _place(draft, self.key)
        gone = below(draft, self.key)
        naming = [expectation for expectation in draft.charter.expectations if expectation.place in gone]
        if naming:
            raise NamedByExpectationError(place.called, naming)
        for group in draft.charter.groups.values():
            for conferred in group.confers:
                if conferred.place in gone:
                    raise EditError(f"The group {group.called} confers a rank there; change that first.")
        rows = [*map(ended, draft.register.naming("place", gone))]
        what = f"remove {place.called}" + (
            f" and the {how_many(len(gone) - 1, 'place')} in it" if len(gone) > 1 else ""
        )
        what += f"; {how_many(len(rows), 'assignment')} there end" if rows else ""
        return Done(what, (Drop(path),), tuple(rows))


class PlaceSet(ItemSet):
    """Set the title, what it is for, or the kind of a place; ``None`` takes a field out."""

    __slots__ = ()


class PlaceRename(ItemRename):
    """Give a place another title, or another key with every reference to it."""

    __slots__ = ()


def _settable(_draft: Draft, key: str, fields: Mapping[str, Any]) -> None:
    if key == SITE and fields:
        raise EditError(
            f"The site has no '{next(iter(fields))}' of its own; its title stands at the top of the charter."
        )
    known = ("title", "about", "kind")
    for name in fields:
        if name not in known:
            raise no_field("a place", name, known)


WORDS = ("allow", "deny", "bar", "clear")
"""What can be said of capabilities at a place; clear removes what was said."""


def _named_anew(draft: Draft, key: str, new: str) -> Iterator[Step]:
    """Yield the steps that let every reference name a place by its new key."""
    for n, group in enumerate(draft.data.get("groups") or []):
        for k, conferred in enumerate(group.get("confers") or []):
            if isinstance(conferred, dict) and conferred.get("place") == key:
                yield Put(("groups", n, "confers", k, "place"), new)
    for n, text in enumerate(draft.data.get("expectations") or []):
        words = text.split(" ")
        said = " ".join(new if w == key and k and words[k - 1] == "in" else w for k, w in enumerate(words))
        if said != text:
            yield Put(("expectations", n), said)


class Say(NamedTuple):
    """Let a place allow, deny or bar capabilities for a rank, RANK+ or a group, or with ``member`` for a member.

    ``word`` is allow, deny, bar, or clear, which takes back what is said of them; without names, all of it.
    """

    place: str
    of: str
    word: str
    names: Sequence[str] = ()
    member: bool = False

    def on(self, draft: Draft) -> Done:
        if self.word not in WORDS:
            raise EditError(f"A place cannot '{self.word}'; write {listed(WORDS, 'or')}.")
        if not self.names and self.word != "clear":
            raise EditError(f"Say which capabilities to {self.word}.")
        field = "exceptions" if self.member else "overrides"
        path = (*draft.place_path(self.place), field)
        place = _place(draft, self.place)
        key, above = self.of.removesuffix("+"), self.of.endswith("+")
        self._check(draft, key, above=above)
        entries = place.exceptions if self.member else place.overrides
        old = next((entry for entry in entries if entry.label == self.of), None)
        if self.word == "clear" and old is None:
            raise EditError(f"There is no override for {self.of} {_at(draft, self.place)}.")
        # clear without names takes back all that is said
        names = _known(draft, self.names) if self.names else _all_of(draft, old) if old else ()
        changed = saying(draft.charter, self.place, key, self.word, names, above=above, member=self.member)
        after = changed.places[self.place].exceptions if self.member else changed.places[self.place].overrides
        new = next((each for each in after if each.label == self.of), None)
        who = f"{_called(draft, key, member=self.member)}{'+' if above else ''}"
        what = listed(names)
        said = {"bar": f"bar {who} from {what}", "clear": f"clear {what} for {who}"}.get(
            self.word, f"{self.word} {what} to {who}"
        )
        what = f"{said} {_at(draft, self.place)}"
        return Done(what, tuple(_entry_steps(draft, path, self.of, new)))

    def left(self, charter: Charter) -> bool:
        """Whether the place says now, in some way, each of the names that this says."""
        place, catalogue = charter.places[self.place], charter.catalogue
        entries = place.exceptions if self.member else place.overrides
        entry = next((entry for entry in entries if entry.label == self.of), Override(self.of))
        mask = catalogue.expand_all(getattr(entry, self.word))
        # to deny what an allowed capability implies takes back the allowing
        mask = catalogue.close(mask) if self.word == "allow" else mask
        return all(mask & catalogue.expand(name) for name in self.names)

    def _check(self, draft: Draft, key: str, *, above: bool) -> None:
        if self.member:
            draft.member(key)
        elif key not in draft.charter.groups or above:
            draft.rank(key)


def _entry_steps(draft: Draft, path: Path, of: str, new: Override | None) -> Iterator[Step]:
    """Yield the steps that let an entry be as it is meant; one that is new stands in one line."""
    if not there(draft.data, (*path, of)):
        if new is not None:
            words = {"allow": new.allow, "deny": new.deny, "bar": new.bar}
            yield Put((*path, of), {word: list(said) for word, said in words.items() if said})
        return
    if new is None:
        yield Drop((*path, of))
        return
    words = {"allow": new.allow, "deny": new.deny, "bar": new.bar}
    # what comes goes in before what goes goes out, so that the entry is never empty in between
    for word, said in sorted(words.items(), key=lambda item: not item[1]):
        yield from put_words(draft, (*path, of, word), said)


class SetGate(NamedTuple):
    """Set the gate of a place; an empty one takes it away."""

    place: str
    gate: Mapping[str, Any]

    def on(self, draft: Draft) -> Done:
        path = (*draft.place_path(self.place), "gate")
        title = _place(draft, self.place).called
        if not self.gate:
            if not there(draft.data, path):
                raise EditError(f"{title} has no gate.")
            what = f"remove the gate of {title}"
            return Done(what, (Drop(path),))
        what = f"set the gate of {title}"
        return Done(what, (Put(path, dict(self.gate)),))


class SetLike(NamedTuple):
    """Let a place be like override sets; none for no sets."""

    place: str
    sets: Sequence[str]

    def on(self, draft: Draft) -> Done:
        for key in self.sets:
            if key not in draft.charter.override_sets:
                raise EditError(
                    f"There is no override set '{key}'. There are: {listed(draft.charter.override_sets) or 'none'}"
                )
        path = (*draft.place_path(self.place), "like")
        what = f"make {_place(draft, self.place).called} like {listed(self.sets) or 'no set'}"
        return Done(what, tuple(put_words(draft, path, self.sets)))


class Realign(NamedTuple):
    """Realign a place with its section: remove its overrides and exceptions; its gate stays."""

    place: str

    def on(self, draft: Draft) -> Done:
        path, place = draft.place_path(self.place), _place(draft, self.place)
        steps = tuple(Drop((*path, each)) for each in OWN if there(draft.data, (*path, each)))
        if not steps:
            raise EditError(f"{place.called} has no overrides of its own; there is nothing to realign.")
        entries = [
            *(override.label for override in place.overrides),
            *(f"@{exception.of}" for exception in place.exceptions),
        ]
        what = f"realign {place.called}: remove its overrides for {listed(entries)}"
        return Done(what, steps)


def _not_the_site(key: str, what: str) -> None:
    if key == SITE:
        raise EditError(f"The site itself cannot be {what}; only the places in it can.")


def below(draft: Draft, key: str) -> set[str]:
    """Return a place and all places in it."""
    inside = {key}
    for place in draft.charter.places.values():
        if place.parent in inside:
            inside.add(place.key)
    return inside


def _place(draft: Draft, key: str) -> Place:
    draft.place_path(key)
    return draft.place(key)


def _inside(draft: Draft, key: str) -> Path:
    """Return the path of the list of places in a place."""
    return ("places",) if key == SITE else (*draft.place_path(key), "places")


def _at(draft: Draft, key: str) -> str:
    return in_place(_place(draft, key).called, site=key == SITE)


def _into(draft: Draft, key: str) -> str:
    return "to the top" if key == SITE else f"into {_place(draft, key).called}"


def _called(draft: Draft, key: str, *, member: bool) -> str:
    if member:
        return draft.member(key).called
    known = draft.charter.ranks.get(key) or draft.charter.groups.get(key)
    return known.called if known is not None else key


def _known(draft: Draft, names: Sequence[str]) -> tuple[str, ...]:
    from ask_above.change.ranks import known_capabilities as known

    return known(draft, names)


def _all_of(draft: Draft, entry: Override) -> tuple[str, ...]:
    catalogue = draft.charter.catalogue
    mask = catalogue.expand_all(entry.allow) | catalogue.expand_all(entry.deny) | catalogue.expand_all(entry.bar)
    return catalogue.names(mask)


ITEMS[PlaceSet] = ITEMS[PlaceRename] = Item(
    "place", Draft.place_path, lambda draft, key: _place(draft, key).called, _settable, _named_anew, given_anew("place")
)
