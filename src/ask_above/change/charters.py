"""Two charters side by side: the parts in which they differ (rule 9.1)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from ask_above.change.parts import (
    CHARTER_ROWS,
    GROUP_ROWS,
    PERK_ROWS,
    PLACE_ROWS,
    RANK_ROWS,
    SET_ROWS,
    DifferencePart,
    EditRow,
    Kind,
    content,
    entries,
)
from ask_above.charter.charter import Charter


class Charters:
    """Two charters side by side."""

    def __init__(self, before: Charter, after: Charter) -> None:
        self.before, self.after = before, after

    def parts(self) -> Iterator[DifferencePart]:
        """Yield every part in which they differ."""
        old, new = self.before, self.after
        for name in Charter._fields:
            if name in ("ranks", "places", "groups", "override_sets", "perks", "catalogue", "expectations"):
                continue
            one, two = getattr(old, name), getattr(new, name)
            if content(one) != content(two):
                kind = Kind.RULES if name == "rules" else Kind.CHARTER
                yield DifferencePart(kind, name, name, one, two, CHARTER_ROWS.get(name, EditRow.OWNER))
        yield from self._catalogue()
        yield from self._things(Kind.PERK, old.perks, new.perks, PERK_ROWS)
        yield from self._ranks()
        yield from self._things(Kind.GROUP, old.groups, new.groups, GROUP_ROWS)
        yield from self._things(Kind.SET, old.override_sets, new.override_sets, SET_ROWS)
        yield from self._places()
        if self._sentences(old) != self._sentences(new):
            yield DifferencePart(
                Kind.EXPECTATIONS, "expectations", "expectations", old.expectations, new.expectations, EditRow.OWNER
            )

    @staticmethod
    def _sentences(charter: Charter) -> list[Any]:
        return [content(expectation._replace(text="")) for expectation in charter.expectations]

    def _catalogue(self) -> Iterator[DifferencePart]:
        old, new = self.before.catalogue, self.after.catalogue
        if old is new:
            return
        if [*map(content, old.capabilities.values())] != [*map(content, new.capabilities.values())]:
            yield DifferencePart(Kind.CATALOGUE, "capabilities", "capabilities", old, new, EditRow.OWNER)
        if old.nobody != new.nobody:
            yield DifferencePart(Kind.CATALOGUE, "nobody", "nobody", old.nobody, new.nobody, EditRow.OWNER)
        named = bundles_in_rules(self.before) | bundles_in_rules(self.after)
        for key in dict.fromkeys((*new.bundles, *old.bundles)):
            one, two = old.bundles.get(key), new.bundles.get(key)
            if content(one) != content(two):
                field = "" if one is None or two is None else "words"
                yield DifferencePart(
                    Kind.BUNDLE, key, field, one, two, EditRow.OWNER if key in named else EditRow.BUNDLE
                )

    def _things(
        self, kind: Kind, old: Mapping[str, Any], new: Mapping[str, Any], rows: Mapping[str, EditRow]
    ) -> Iterator[DifferencePart]:
        for key in dict.fromkeys((*new, *old)):
            one, two = old.get(key), new.get(key)
            if one is None or two is None:
                yield DifferencePart(kind, key, "", one, two, rows.get("key", EditRow.OWNER))
                continue
            for name in one._fields if one is not two else ():
                row, was, now = rows.get(name, EditRow.OWNER), getattr(one, name), getattr(two, name)
                if row in (EditRow.NOTHING, EditRow.LADDER) or was is now:
                    continue
                if _differs(name, was, now):
                    yield DifferencePart(kind, key, name, was, now, row)

    def _ranks(self) -> Iterator[DifferencePart]:
        old, new = self.before.ranks, self.after.ranks
        for part in self._things(Kind.RANK, old, new, RANK_ROWS):
            yield part
            if part.field:
                continue
            # what is the owner's in a rank that is made or removed stands there as well
            rank = part.after or part.before
            for name in OWNERS:
                if content(getattr(rank, name)) != content(type(rank)._field_defaults[name]):
                    yield part._replace(field=name, row=EditRow.OWNER)
        passed = self.ranks_passed()
        for key in passed:
            yield DifferencePart(Kind.RANK, key, "position", old[key].position, new[key].position, EditRow.LADDER)

    def _places(self) -> Iterator[DifferencePart]:
        yield from (
            part if part.field else part._replace(row=EditRow.PARENT)
            for part in self._things(Kind.PLACE, self.before.places, self.after.places, PLACE_ROWS)
            if not (part.key == "site" and part.field == "title")
        )
        for key in self.places_passed():
            yield DifferencePart(Kind.PLACE, key, "order", None, None, EditRow.PLACE)

    def ranks_passed(self) -> list[str]:
        """Return the ranks that stand otherwise to another one than they did, those kept by something outside aside."""
        old, new = self.before.ranks, self.after.ranks
        shared = [key for key in new if key in old]
        return [key for key in _passing([key for key in old if key in new], shared) if not old[key].kept_by]

    def places_passed(self) -> list[str]:
        """Return the places that stand otherwise among their neighbours than they did."""
        passed: list[str] = []
        one, two = _neighbours(self.before), _neighbours(self.after)
        for parent in one.keys() & two.keys() if one != two else ():
            here = set(one[parent]) & set(two[parent])
            passed += _passing([k for k in one[parent] if k in here], [k for k in two[parent] if k in here])
        return sorted(passed, key=list(self.after.places).index) if passed else []


OWNERS = ("unbounded", "kept_by", "after", "apart_from", "limit", "lists")
"""The fields of a rank that are the owner's alone."""


def _differs(name: str, was: Any, now: Any) -> bool:
    if name in ("overrides", "exceptions"):
        return entries(was) != entries(now)
    return bool(content(was) != content(now))


def _neighbours(charter: Charter) -> dict[str | None, list[str]]:
    neighbours: dict[str | None, list[str]] = {}
    for place in charter.places.values():
        neighbours.setdefault(place.parent, []).append(place.key)
    return neighbours


def _passing(old: list[str], new: list[str]) -> list[str]:
    """Return, of two orders of the same keys, those that passed another one, in the new order."""
    if old == new:
        return []
    at = {key: n for n, key in enumerate(old)}
    was = [at[key] for key in new]
    highest, passed = -1, [False] * len(was)
    for n, item in enumerate(was):
        passed[n] = item < highest
        highest = max(highest, item)
    lowest = len(was)
    for n, item in reversed(list(enumerate(was))):
        passed[n] = passed[n] or item > lowest
        lowest = min(lowest, item)
    return [key for key, moved in zip(new, passed, strict=True) if moved]


def bundles_in_rules(charter: Charter) -> set[str]:
    """Return the bundles that the rules name, and all that stand inside these."""
    acts = charter.rules.acts.values()
    todo = [word for act in acts for word in act.words if word in charter.catalogue.bundles]
    bundles: set[str] = set()
    while todo:
        key = todo.pop()
        if key not in bundles:
            bundles.add(key)
            todo += [word for word in charter.catalogue.bundles[key].words if word in charter.catalogue.bundles]
    return bundles
