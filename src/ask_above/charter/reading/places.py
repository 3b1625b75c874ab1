"""Read places, overrides, exceptions, gates and override sets (rules 1.5, 2.6, 5.3 to 5.5)."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ask_above.charter.catalogue import Catalogue
from ask_above.charter.names import SITE, nearest
from ask_above.charter.places import Gate, GateTerm, Override, OverrideSet, Place
from ask_above.charter.reading.context import KnownNames, known_names, read_words, title_of, unknown
from ask_above.charter.reading.document import Document, Path

Nested = tuple[Path, str | None, dict[str, Any]]


def read_places(
    document: Document, data: dict[str, Any], catalogue: Catalogue, names: KnownNames, sets: dict[str, OverrideSet]
) -> dict[str, Place]:
    """Return the site and every place in it, each after the one it is in."""
    differ = _Differences(document, catalogue, names, sets)
    site = Place(
        SITE,
        SITE,
        title=title_of(data) or SITE,
        where=document.where(("site",), on_key=True),
        **differ.at(("site",), data.get("site", {})),
    )
    places = {SITE: site}
    for path, parent, written in _nested(data.get("places", []), ("places",)):
        key = written["key"]
        # the first one counts, so that what names it is not told to name nothing
        if key in places:
            before = places[key].where
            message = f"the place '{key}' is named twice; it stands on line {before.line} already"
            document.fault((*path, "key"), "twice", message, expected="each place once, wherever it stands")
            continue
        if written.get("kind") == SITE:
            message = "only the site itself is of the kind 'site'"
            document.fault((*path, "kind"), "kind-site", message, expected="another kind, such as board or section")
        places[key] = Place(
            key,
            written.get("kind", ""),
            title=title_of(written),
            about=written.get("about", ""),
            parent=parent or SITE,
            where=document.where((*path, "key"), on_key=True),
            **differ.at(path, written),
        )
    return places


def _nested(items: list[tuple[int, dict[str, Any]]], path: Path) -> Iterator[Nested]:
    """Walk the tree in the order in which it is written, without recursion."""
    # reversed, as the last is taken first: the places come in the order of the file
    todo: list[Nested] = [((*path, n), None, written) for n, written in reversed(items)]
    while todo:
        here, parent, written = todo.pop()
        if "key" not in written:
            continue
        yield here, parent, written
        todo += [((*here, "places", n), written["key"], inner) for n, inner in reversed(written.get("places", []))]


class _Differences:
    """Reads what one place says: overrides, exceptions, gate, like."""

    def __init__(
        self, document: Document, catalogue: Catalogue, names: KnownNames, sets: dict[str, OverrideSet] | None = None
    ) -> None:
        self.document, self.catalogue, self.names, self.sets = document, catalogue, names, sets or {}
        self.holders = {**names.ranks, **names.groups}

    def at(self, path: Path, said: dict[str, Any]) -> dict[str, Any]:
        exceptions = said.get("exceptions", {})
        return {
            "overrides": self.overrides((*path, "overrides"), said.get("overrides", {})),
            "exceptions": tuple(self.entry((*path, "exceptions", key), key, each) for key, each in exceptions.items()),
            "gate": self.gate((*path, "gate"), said["gate"]) if "gate" in said else None,
            "like": known_names(self.document, said.get("like", []), (*path, "like"), "override set", self.sets),
        }

    def overrides(self, path: Path, said: dict[str, Any]) -> tuple[Override, ...]:
        entries = []
        for key, each in said.items():
            here, of = (*path, key), key.removesuffix("+")
            entry = self.entry(here, of, each, above=key.endswith("+"))
            if self.known_holder(here, key, on_key=True):
                entries.append(entry)
        return tuple(entries)

    def known_holder(self, path: Path, written: str, *, on_key: bool = False) -> bool:
        """Note a name that is neither rank nor group, or a range that does not start at a rank."""
        key = written.removesuffix("+")
        if written.endswith("+") and key in self.names.groups:
            message = f"'{key}' is a group; only a rank has ranks above it, so write '{key}' without +"
            self.document.fault(path, "group-range", message, expected="a rank before +", on_key=on_key)
            return False
        if key in self.holders:
            return True
        hint = "; exceptions for one member stand under 'exceptions'" if on_key else ""
        self.document.fault(
            path,
            "unknown-rank-or-group",
            f"there is no rank or group '{key}'{hint}",
            expected="the key of a rank or group",
            nearest=nearest(key, self.holders),
            on_key=on_key,
        )
        return False

    def entry(self, path: Path, of: str, said: dict[str, Any], *, above: bool = False) -> Override:
        words = {
            word: read_words(self.document, said.get(word), (*path, word), self.catalogue)
            for word in ("allow", "deny", "bar")
        }
        # allowing brings along what is implied (2.4), denying takes what is named alone
        given = self.catalogue.close(self.catalogue.expand_all(words["allow"]))
        for word in ("deny", "bar"):
            both = given & self.catalogue.expand_all(words[word])
            if both:
                names = ", ".join(self.catalogue.names(both))
                verb = {"deny": "denies", "bar": "bars"}[word]
                message = f"this entry allows and {verb} {names} (allow brings along what a capability implies)"
                self.document.fault((*path, word), "gives-and-takes", message, expected="one or the other", on_key=True)
        return Override(of, above, words["allow"], words["deny"], words["bar"], self.document.where(path, on_key=True))

    def gate(self, path: Path, said: dict[str, Any]) -> Gate | None:
        lists = {word: self.terms((*path, word), said.get(word, [])) for word in ("any", "all", "none")}
        if not any(word in said for word in lists):
            # a gate whose lists were faulty has had its fault already
            if not any(word in (self._raw(path) or {}) for word in lists):
                message = "an empty gate asks for nothing; write any, all or none, or leave the gate out"
                self.document.fault(path, "empty-gate", message, expected="any: [...], all: [...] or none: [...]")
            return None
        return Gate(**lists, teaser=said.get("teaser", False), where=self.document.where(path, on_key=True))

    def _raw(self, path: Path) -> Any:
        data = self.document.data
        for step in path:
            data = data[step]
        return data

    def terms(self, path: Path, items: list[tuple[int, str]]) -> tuple[GateTerm, ...]:
        read = []
        for n, written in items:
            if self.known_holder((*path, n), written):
                key = written.removesuffix("+")
                read.append(GateTerm(key, group=key in self.names.groups, above=written.endswith("+")))
        return tuple(dict.fromkeys(read))


def read_sets(
    document: Document, data: dict[str, Any], catalogue: Catalogue, names: KnownNames
) -> dict[str, OverrideSet]:
    """Return the override sets."""
    differ = _Differences(document, catalogue, names)
    return {
        key: OverrideSet(
            key, differ.overrides(("override-sets", key), said), document.where(("override-sets", key), on_key=True)
        )
        for key, said in data.items()
    }


def check_conferred(document: Document, names: KnownNames) -> None:
    """Note ranks that a group confers at a place that is not there."""
    for n, said in enumerate(document.data.get("groups") or []):
        confers = said.get("confers") if isinstance(said, dict) else None
        for m, each in enumerate(confers if isinstance(confers, list) else []):
            place = each.get("place") if isinstance(each, dict) else None
            if isinstance(place, str) and place not in names.places:
                unknown(document, ("groups", n, "confers", m, "place"), "place", place, names.places)


def check_kinds(document: Document, data: dict[str, Any], kinds: tuple[str, ...], catalogue: Catalogue) -> None:
    """Hold places, and what capabilities are for, to the kinds of place that the charter lists, where it lists any."""
    if not kinds:
        return
    expected = f"one of {', '.join(kinds)}, as kinds lists them"
    for path, _, said in _nested(data.get("places", []), ("places",)):
        kind = said.get("kind", "")
        if kind and kind not in (*kinds, SITE):
            message = f"'{kind}' is no kind of place here"
            document.fault((*path, "kind"), "unknown-kind", message, expected=expected, nearest=nearest(kind, kinds))
    for key, each in catalogue.capabilities.items():
        for kind in sorted((each.kinds or frozenset()) - {SITE, *kinds}) if each.where.file == document.name else ():
            message = f"{key} is for the kind '{kind}', and there is none"
            path = ("capabilities", each.heading, each.pair or key)
            document.fault(path, "unknown-kind", message, expected=expected, nearest=nearest(kind, kinds), on_key=True)
