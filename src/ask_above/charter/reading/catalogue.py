"""Read the catalogue: capabilities from the charter and its add-ons, and bundles (rules 2.1 to 2.8)."""

from __future__ import annotations

from typing import Any

from ask_above.charter.catalogue import NO_WORDS, Bundle, Capability, Catalogue
from ask_above.charter.names import is_capability
from ask_above.charter.reading.context import Items, loops, one_capability, read_words
from ask_above.charter.reading.document import Document, Path

Source = tuple[Document, dict[str, Any]]
Spot = tuple[Document, Path]
RELATIONS = ("implies", "needs", "leads-to")


def read_catalogue(charter: Source, add_ons: list[Source]) -> Catalogue:
    """Return the catalogue of a charter and its add-ons."""
    declared: dict[str, Capability] = {}
    spots: dict[str, Spot] = {}
    for document, data in [charter, *add_ons]:
        for heading, capabilities in data.get("capabilities", {}).items():
            for key, said in capabilities.items():
                path: Path = ("capabilities", heading, key)
                found = _declared(document, path, said, data.get("add-on"))
                if _are_new({key, *(capability.key for capability in found)}, spots, document, path):
                    declared |= {capability.key: capability for capability in found}
    # first all names, of every file, then what they lead to: an add-on may imply what another declares
    catalogue = Catalogue(_by_heading(declared))
    catalogue = _without_bad_relations(catalogue, spots)
    document, data = charter
    bundles = _read_bundles(document, data.get("bundles", {}), catalogue)
    nobody = [one_capability(document, name, ("nobody", n), catalogue) for n, name in data.get("nobody", [])]
    return Catalogue(catalogue.capabilities, bundles, frozenset(name for name in nobody if name))


def _declared(document: Document, path: Path, said: dict[str, Any], add_on: str | None) -> list[Capability]:
    """Return the one capability that an entry declares, or the two where it is authored (rule 2.3)."""
    _, heading, key = path
    if not is_capability(str(key)):
        message = f"'{key}' cannot be the key of a capability"
        expected = "words of small letters, digits, - and _, joined by dots, at least one dot: post.write"
        document.fault(path, "bad-key", message, expected=expected, on_key=True)
        return []
    kinds = said.get("kinds")
    one = Capability(
        key=str(key),
        about=said.get("about", ""),
        heading=str(heading),
        kinds=None if kinds is None else frozenset(kind for _, kind in kinds),
        risk=said.get("risk", "low"),
        implies=_targets(said, "implies"),
        needs=_targets(said, "needs"),
        leads_to=_targets(said, "leads-to"),
        add_on=add_on,
        where=document.where(path, on_key=True),
    )
    if not said.get("authored"):
        return [one]
    about, on_all = own_and_all(one.about)
    own = one._replace(key=f"{key}.own", about=about, pair=str(key))
    # who may do it to everybody's things may do it to their own (2.3)
    return [own, one._replace(key=f"{key}.all", about=on_all, pair=str(key), implies=(*one.implies, own.key))]


def own_and_all(about: str) -> tuple[str, str]:
    """Return what an authored capability permits on own things and on all: said apart with `` | ``, or in brackets."""
    own, apart, everybody = about.partition(" | ")
    if apart:
        return own.strip(), everybody.strip()
    return (f"{about} (own)", f"{about} (all)") if about else ("", "")


def _targets(said: dict[str, Any], relation: str) -> tuple[str, ...]:
    return tuple(dict.fromkeys(name for _, name in said.get(relation, ())))


def _are_new(names: set[str], spots: dict[str, Spot], document: Document, path: Path) -> bool:
    """Note a capability that is declared twice, or a bare name that is declared beside its pair (rule 1.4)."""
    for name in sorted(names & spots.keys()):
        first, where = spots[name]
        before = f"line {first.where(where, on_key=True).line} of {first.name}"
        message = f"the capability '{name}' is declared already, on {before}"
        document.fault(path, "twice", message, expected="each capability once, add-ons included", on_key=True)
        return False
    spots |= dict.fromkeys(names, (document, path))
    return True


def _by_heading(declared: dict[str, Capability]) -> dict[str, Capability]:
    """Bring together what stands under one heading, headings in the order in which they first appear."""
    headings = {capability.heading: n for n, capability in reversed(list(enumerate(declared.values())))}
    return dict(sorted(declared.items(), key=lambda item: headings[item[1].heading]))


def _without_bad_relations(catalogue: Catalogue, spots: dict[str, Spot]) -> Catalogue:
    """Note relations to what is not there, and loops in them (rule 2.2); return the catalogue without."""
    clean: dict[str, Capability] = {}
    seen: set[tuple[str, Path]] = set()
    for key, capability in catalogue.capabilities.items():
        document, path = spots[key]
        first = (document.name, path) not in seen
        seen.add((document.name, path))
        # an authored capability is two here and one in the file: what is wrong with it is told once
        if first and not _relations_hold(document, path, catalogue):
            clean[key] = capability._replace(implies=(), needs=(), leads_to=())
        else:
            implies, needs, leads_to = (
                tuple(target for target in targets if target in catalogue.bit)
                for targets in (capability.implies, capability.needs, capability.leads_to)
            )
            clean[key] = capability._replace(implies=implies, needs=needs, leads_to=leads_to)
    edges = {key: (*capability.implies, *capability.needs) for key, capability in clean.items()}
    knots = loops(edges)
    for loop in knots:
        document, path = spots[loop[0]]
        message = f"'implies' and 'needs' go round in a loop: {' → '.join(loop)}"
        document.fault(path, "loop", message, expected="a relation that leads on and never back", on_key=True)
    if knots:
        # nothing may follow a loop, and the rest of the file is still to be read for its faults
        clean = {key: capability._replace(implies=(), needs=()) for key, capability in clean.items()}
    return Catalogue(clean)


def _relations_hold(document: Document, path: Path, catalogue: Catalogue) -> bool:
    data = document.data["capabilities"][path[1]][path[2]]
    if not isinstance(data, dict):
        return True
    good = True
    for relation in RELATIONS:
        for n, name in enumerate(data.get(relation) or ()):
            if is_capability(str(name)) and not one_capability(document, name, (*path, relation, n), catalogue):
                good = False
    return good


def _read_bundles(document: Document, data: dict[str, Items], catalogue: Catalogue) -> dict[str, Bundle]:
    """Return the bundles, those in a loop empty (rule 2.7)."""
    edges = {key: [word for _, word in items if word in data] for key, items in data.items()}
    empty: set[str] = set()
    for loop in loops(edges):
        path: Path = ("bundles", loop[0])
        message = f"bundles go round in a loop: {' → '.join(loop)}"
        document.fault(path, "loop", message, expected="bundles that contain one another one way only", on_key=True)
        empty.update(loop)
    bundles: dict[str, Bundle] = {}
    # bundles may name one another in any order, so all their names are known before one is read
    named = Catalogue(catalogue.capabilities, {key: Bundle(key, NO_WORDS) for key in data})
    for key, items in data.items():
        words = read_words(document, items, ("bundles", key), named)
        bundles[key] = Bundle(key, NO_WORDS if key in empty else words, document.where(("bundles", key), on_key=True))
    return bundles
