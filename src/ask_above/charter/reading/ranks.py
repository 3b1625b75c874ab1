"""Read the ladder, groups and perks (rules 3, 4 and 7)."""

from __future__ import annotations

import re
from typing import Any

from ask_above.charter.catalogue import Catalogue
from ask_above.charter.ladder import Perk, PerkValue, Rank, RankList
from ask_above.charter.names import SITE
from ask_above.charter.places import Conferred, Group
from ask_above.charter.reading.context import known_names, loops, read_words, title_of, unknown
from ask_above.charter.reading.document import Document, Path, ordinal
from ask_above.charter.reading.shapes import NO, YES
from ask_above.charter.rules import ACTS, Act

Numbered = tuple[int, dict[str, Any]]

_NUMBER = re.compile(r"-?\d{1,15}(?:\.\d{1,15})?", re.ASCII)
_LISTS = {Act.MODERATE: "moderates", Act.ASSIGN: "assigns", Act.MANAGE: "manages"}


def distinct(document: Document, items: list[Numbered], path: Path, what: str) -> list[Numbered]:
    """Return the items whose key is new, and note those whose key stands twice (rule 1.4)."""
    first: dict[str, int] = {}
    kept = []
    for n, item in items:
        key = item["key"]
        if key in first:
            before = document.where((*path, first[key], "key"))
            spot = f"on line {before.line}" if before.line else f"as the {ordinal(first[key] + 1)}"
            message = f"the {what} '{key}' is named twice; it stands {spot} already"
            document.fault((*path, n, "key"), "twice", message, expected=f"each {what} once")
        else:
            first[key] = n
            kept.append((n, item))
    return kept


def read_ranks(
    document: Document, items: list[Numbered], catalogue: Catalogue, perks: dict[str, Perk]
) -> dict[str, Rank]:
    """Return the ranks, highest first."""
    kept = distinct(document, items, ("ranks",), "rank")
    known = {written["key"]: None for _, written in kept}
    ranks = {
        written["key"]: _rank(document, ("ranks", n), written, position, catalogue, perks, known)
        for position, (n, written) in enumerate(kept)
    }
    numbers = {written["key"]: n for n, written in kept}
    for loop in loops({key: rank.builds_on for key, rank in ranks.items()}):
        message = f"'builds-on' goes round in a loop: {' → '.join(loop)}"
        path: Path = ("ranks", numbers[loop[0]], "builds-on")
        document.fault(path, "loop", message, expected="ranks that build on one another one way only", on_key=True)
    _one_entry(document, kept)
    return ranks


def _rank(
    document: Document,
    path: Path,
    said: dict[str, Any],
    position: int,
    catalogue: Catalogue,
    perks: dict[str, Perk],
    known: dict[str, None],
) -> Rank:
    def ranks(field: str) -> tuple[str, ...]:
        return known_names(document, said.get(field, []), (*path, field), "rank", known)

    held_by, copied = said.get("held-by"), said.get("copied-from")
    if copied is not None and copied not in known:
        unknown(document, (*path, "copied-from"), "rank", copied, known)
    return Rank(
        key=said["key"],
        position=position,
        title=title_of(said),
        about=said.get("about", ""),
        held_by=held_by,
        unbounded=said.get("unbounded", False),
        entry=said.get("entry", False),
        open=said.get("open", False),
        on_joining=said.get("on-joining", False),
        grants=read_words(document, said.get("grants"), (*path, "grants"), catalogue),
        withhold=read_words(document, said.get("withhold"), (*path, "withhold"), catalogue),
        builds_on=ranks("builds-on"),
        copied_from=copied,
        kept_by=said.get("kept-by"),
        limit=said.get("limit"),
        after=ranks("after"),
        apart_from=ranks("apart-from"),
        lists=_lists(document, path, said, known),
        # calling an automatic rank would call everybody, so that has to be said
        call_open=said.get("call", "closed" if held_by else "open") == "open",
        heading=said.get("heading", False),
        color=said.get("color"),
        badge=said.get("badge"),
        prefix=said.get("prefix"),
        perks=_perk_values(document, (*path, "perks"), said.get("perks", {}), perks),
        paused=_paused(document, path, said),
        where=document.where((*path, "key"), on_key=True),
    )


def _paused(document: Document, path: Path, said: dict[str, Any]) -> bool:
    """Return whether a rank is paused, and note one that cannot be: everybody's, and that of those who wait."""
    paused: bool = said.get("paused", False)
    if paused and (said.get("held-by") or said.get("entry")):
        other = "held-by" if said.get("held-by") else "entry"
        message = f"'{said['key']}' is automatic; an automatic rank cannot be paused"
        document.fault((*path, "paused"), "automatic-paused", message, expected=f"'paused' or '{other}', not both")
    return paused


def _lists(document: Document, path: Path, said: dict[str, Any], known: dict[str, None]) -> dict[str, RankList]:
    """Return whom the rank lets one act on, for each act that it says something of (rule 6.4)."""
    lists: dict[str, RankList] = {}
    for act in ACTS:
        here: Path = (*path, _LISTS[act])
        data = said.get(_LISTS[act])
        if data is None:
            continue
        if len(data) != 1:
            both = "both 'only' and 'except' stand here" if data else "neither 'only' nor 'except' stands here"
            document.fault(
                here, "only-or-except", f"{both}; write one of them", expected="only: [...] or except: [...]"
            )
            continue
        ((word, items),) = data.items()
        names = frozenset(known_names(document, items, (*here, word), "rank", known))
        where = document.where(here, on_key=True)
        lists[act] = RankList(names, where=where) if word == "only" else RankList(excluded=names, where=where)
    return lists


def _one_entry(document: Document, kept: list[Numbered]) -> None:
    """Note a second entry rank, and one that is automatic (rule 4.4)."""
    first: str | None = None
    for n, written in kept:
        if not written.get("entry"):
            continue
        path: Path = ("ranks", n, "entry")
        if written.get("held-by"):
            message = f"'{written['key']}' is automatic; the entry rank cannot be automatic"
            document.fault(path, "automatic-entry", message, expected="'entry' or 'held-by', not both")
        if first is not None:
            message = f"'{first}' is the entry rank already; pending members hold one"
            document.fault(path, "two-entries", message, expected="'entry: true' at one rank at most")
        first = first or written["key"]


def read_perks(document: Document, data: dict[str, dict[str, Any]]) -> dict[str, Perk]:
    """Return the perks (rule 7.3)."""
    perks: dict[str, Perk] = {}
    for key, written in data.items():
        settle = written["settle"]
        # what settling starts from: a perk that no rank mentions
        default: PerkValue = {"any": False, "all": False, "topmost": None}.get(settle, 0)
        if "default" in written:
            default = _perk_value(document, ("perks", key, "default"), written["default"], settle)
        where = document.where(("perks", key), on_key=True)
        perks[key] = Perk(key, written.get("about", ""), settle, default, where)
    return perks


def _perk_values(document: Document, path: Path, data: dict[str, str], perks: dict[str, Perk]) -> dict[str, PerkValue]:
    values: dict[str, PerkValue] = {}
    for key, text in data.items():
        if key in perks:
            values[key] = _perk_value(document, (*path, key), text, perks[key].settle)
        else:
            unknown(document, (*path, key), "perk", key, perks, on_key=True)
    return values


def _perk_value(document: Document, path: Path, text: str, settle: str) -> PerkValue:
    """Read a value as the perk settles it: yes or no, a number, or text."""
    if settle == "topmost":
        return text
    if settle in ("any", "all"):
        if text.lower() not in YES | NO:
            message = f"'{text}' is neither yes nor no; the perk settles by '{settle}'"
            document.fault(path, "bad-perk-value", message, expected="true or false")
        return text.lower() in YES
    if not _NUMBER.fullmatch(text):
        message = f"'{text}' is no number; the perk settles by '{settle}'"
        document.fault(path, "bad-perk-value", message, expected="a number, such as 30 or 2.5")
        return 0
    return float(text) if "." in text else int(text)


def read_groups(document: Document, items: list[Numbered], ranks: dict[str, Rank]) -> dict[str, Group]:
    """Return the groups, with the ranks they confer where the charter wrote it; places are checked later."""
    kept = []
    for n, written in distinct(document, items, ("groups",), "group"):
        if written["key"] in ranks:
            where = ranks[written["key"]].where
            spot = f" (line {where.line})" if where.line else ""
            message = (
                f"'{written['key']}' is a rank already{spot}; a group needs another key, they share one name space"
            )
            document.fault(("groups", n, "key"), "rank-and-group", message, expected="a key that no rank has")
        else:
            kept.append((n, written))
    known = {written["key"]: n for n, written in kept}
    groups = {written["key"]: _group(document, ("groups", n), written, known, ranks) for n, written in kept}
    for loop in loops({key: group.includes for key, group in groups.items()}):
        message = f"groups include one another in a loop: {' → '.join(loop)}"
        path: Path = ("groups", known[loop[0]], "includes")
        document.fault(path, "loop", message, expected="groups that include one another one way only", on_key=True)
    return groups


def _group(
    document: Document, path: Path, said: dict[str, Any], known: dict[str, int], ranks: dict[str, Rank]
) -> Group:
    confers = []
    for n, conferred in said.get("confers", []):
        rank, here = conferred["rank"], (*path, "confers", n)
        short = isinstance(document.data["groups"][path[1]]["confers"][n], str)
        spot: Path = here if short else (*here, "rank")
        if rank not in ranks:
            unknown(document, spot, "rank", rank, ranks)
        elif ranks[rank].automatic:
            message = f"'{rank}' is automatic ('held-by: {ranks[rank].held_by}'); no group confers it"
            document.fault(spot, "automatic-conferred", message, expected="a rank without 'held-by'")
        else:
            confers.append(Conferred(rank, conferred.get("place", SITE)))
    return Group(
        key=said["key"],
        title=title_of(said),
        about=said.get("about", ""),
        includes=known_names(document, said.get("includes", []), (*path, "includes"), "group", known),
        confers=tuple(confers),
        where=document.where((*path, "key"), on_key=True),
    )
