"""Read a whole charter, and the names that are known even where parts of it are faulty."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, NamedTuple

from ask_above.charter.apart import told_apart
from ask_above.charter.catalogue import Catalogue
from ask_above.charter.charter import Charter
from ask_above.charter.expectations import Expectation, ExpectationError, parse_expectation
from ask_above.charter.names import nearest
from ask_above.charter.reading.catalogue import Source, read_catalogue
from ask_above.charter.reading.context import KnownNames, title_of
from ask_above.charter.reading.document import Document
from ask_above.charter.reading.form import ADD_ON, CHARTER
from ask_above.charter.reading.places import check_conferred, check_kinds, read_places, read_sets
from ask_above.charter.reading.ranks import read_groups, read_perks, read_ranks
from ask_above.charter.reading.rules import read_rules
from ask_above.charter.reading.shapes import BAD
from ask_above.charter.rules import Act, Rules


class Read(NamedTuple):
    """What came of reading: the charter and its names; where anything is faulty the charter is not to be used."""

    charter: Charter
    names: KnownNames


def add_on_files(document: Document) -> list[tuple[int, str]]:
    """Return the add-on files that a charter names, with their number, before anything else is read."""
    names = document.data.get("add-ons") if isinstance(document.data, dict) else None
    return [(n, name) for n, name in enumerate(names if isinstance(names, list) else []) if isinstance(name, str)]


def read_charter(document: Document, add_ons: list[Document]) -> Read | None:
    """Read a charter and its add-ons; faults are noted in the documents. ``None`` where nothing could be made of it."""
    data = CHARTER.read(document.data, (), document)
    if data is BAD:
        return None
    catalogue = read_catalogue((document, data), _read_add_ons(add_ons))
    perks = read_perks(document, data.get("perks", {}))
    ranks = read_ranks(document, data.get("ranks", []), catalogue, perks)
    groups = read_groups(document, data.get("groups", []), ranks)
    rules = read_rules(document, data.get("rules", {}), catalogue)
    # known before places are read, which name ranks and groups, and after them for what names places
    names = KnownNames(ranks, groups, rules.timezone)
    sets = read_sets(document, data.get("override-sets", {}), catalogue, names)
    names.places = read_places(document, data, catalogue, names, sets)
    check_conferred(document, names)
    kinds = tuple(kind for _, kind in data.get("kinds", []))
    check_kinds(document, data, kinds, catalogue)
    charter = Charter(
        key=data.get("key", ""),
        title=title_of(data),
        owner=data.get("owner"),
        catalogue=catalogue,
        ranks=ranks,
        places=names.places,
        rules=rules,
        groups=groups,
        override_sets=sets,
        perks=perks,
        expectations=_expectations(document, data.get("expectations", []), catalogue, names, rules),
        add_ons=tuple(name for _, name in data.get("add-ons", [])),
        kinds=kinds,
    )
    return Read(told_apart(charter), names)


def _read_add_ons(documents: list[Document]) -> list[Source]:
    sources: list[Source] = []
    named: dict[str, str] = {}
    for document in documents:
        data: Any = BAD if document.data is None else ADD_ON.read(document.data, (), document)
        if data is BAD:
            continue
        key = data.get("add-on")
        # two files of one key would answer for each other in every message
        if key in named:
            message = f"the add-on '{key}' is there already, in {named[key]}"
            document.fault(("add-on",), "twice", message, expected="a key of its own for each add-on")
        named[key] = document.name
        sources.append((document, data))
    return sources


def _expectations(
    document: Document, items: list[tuple[int, str]], catalogue: Catalogue, names: KnownNames, rules: Rules
) -> tuple[Expectation, ...]:
    known = name_check(catalogue, names, rules)
    expectations = []
    for n, text in items:
        path = ("expectations", n)
        try:
            expectations.append(parse_expectation(text, known, document.where(path)))
        except ExpectationError as error:
            near = nearest(error.name, _candidates(error.kind, catalogue, names, rules)) if error.name else ()
            expected = "SUBJECT may|may not WHAT [in PLACE] [by @MEMBER] [on DATE], or RANK can never reach CAPABILITY"
            if error.name:
                kind = "capability that moderating takes" if error.kind == "using" else error.kind
                expected = f"the key of a {kind} of this community"
            document.fault(path, "expectation", str(error), expected=expected, nearest=near, offset=error.offset)
    return tuple(expectations)


def _candidates(kind: str, catalogue: Catalogue, names: KnownNames, rules: Rules) -> list[str]:
    match kind:
        case "rank":
            return list(names.ranks)
        case "place":
            return list(names.places)
        case "using":
            return list(rules.act(Act.MODERATE).using)
        case _:
            return [*catalogue.keys, *catalogue.pairs]


def name_check(catalogue: Catalogue, names: KnownNames, rules: Rules) -> Callable[[str, str], None]:
    """Return a check of the names in expectations, which raises ``LookupError`` with what is wrong."""

    def check(kind: str, name: str) -> None:
        if kind == "using":
            full = catalogue.pairs[name][1] if name in catalogue.pairs else name
            if full not in rules.act(Act.MODERATE).using:
                raise LookupError(f"'{name}' is none of the capabilities that moderating takes here")
        elif name not in _candidates(kind, catalogue, names, rules):
            if kind == "rank" and name in names.groups:
                raise LookupError(f"'{name}' is a group; an expectation speaks of ranks and members")
            raise LookupError(f"there is no {kind} '{name}'")

    return check
