"""A charter from a table: capabilities down, ranks across, ticks in between."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from ask_above.ask.sheet import YES, meaning_of
from ask_above.beginnings.start import Answers
from ask_above.charter.names import RESERVED, is_capability
from ask_above.people.recognising import key_from


class Wish(NamedTuple):
    """A capability as a table has it: under which heading, its key, what it says, and who is ticked."""

    heading: str
    key: str
    about: str
    ticked: tuple[bool, ...]


class TickTable(NamedTuple):
    """A table as it was understood: the ranks from left to right, and the capabilities."""

    ranks: tuple[str, ...]
    wishes: tuple[Wish, ...]
    faults: tuple[str, ...]

    @property
    def highest_first(self) -> bool:
        """Whether the leftmost rank seems to be the highest: the one with more ticks of the outermost two."""
        first, last = (sum(wish.ticked[n] for wish in self.wishes) for n in (0, -1))
        return first >= last


def read(lines: Sequence[Sequence[str]]) -> TickTable:
    """Read a table; a line whose other cells are empty, before one where some are not, is a heading."""
    lines = [line for line in lines if any(cell.strip() for cell in line)]
    while len(lines) > 1 and sum(bool(cell.strip()) for cell in lines[0]) == 1:  # a title above the table
        lines = lines[1:]
    heads = [" ".join(cell.split()) for cell in lines[0]] if lines else []
    at = [n for n, head in enumerate(heads) if n and head]
    faults = [] if at else ["The first line names no rank: leave its first cell empty, and write the ranks after it."]
    wishes: list[Wish] = []
    heading = "Site"
    filled = [[line[k].strip() if k < len(line) else "" for k in at] for line in lines[1:]]
    for n, (line, cells) in enumerate(zip(lines[1:], filled, strict=True), 2):
        text = " ".join(line[0].split()) if line else ""
        followed = n - 1 < len(filled) and any(filled[n - 1])
        if text and not any(cells) and followed and not is_capability(text):
            heading = text
            continue
        meant = [meaning_of(cell) for cell in cells]
        faults += [f"Line {n}: '{cell}' is no tick." for cell, what in zip(cells, meant, strict=True) if what is None]
        if not text:
            faults.append(f"Line {n} names no capability.")
        else:
            key = _key(heading, text, {wish.key for wish in wishes})
            wishes.append(Wish(heading, key, text, tuple(what == YES for what in meant)))
    if not wishes and not faults:
        faults.append("No line names a capability.")
    return TickTable(tuple(heads[n] for n in at), tuple(wishes), tuple(faults))


def _key(heading: str, said: str, taken: set[str]) -> str:
    key = said if is_capability(said) else f"{key_from(heading) or 'site'}.{key_from(said) or 'thing'}"
    found, n = key, 2
    while found in taken:
        found, n = f"{key}-{n}", n + 1
    return found


def charter(
    table: TickTable,
    answers: Answers,
    *,
    highest_first: bool,
    everyone: str | None,
    using: Mapping[str, str] | None = None,
) -> str:
    """Return the charter of a table; ``everyone`` is the rank that every member has, ``using`` what acts take."""
    order = list(range(len(table.ranks)))
    order = order if highest_first else order[::-1]
    keys: dict[int, str] = {}
    for n in order:
        key = key_from(table.ranks[n]) or "rank"
        while key in keys.values() or key in RESERVED:
            key += "-rank"
        keys[n] = key
    lines = [
        f"# The charter of {answers.title}, made from a table.",
        "# Read it from top to bottom, and correct it.",
        "",
        "charter: 1",
        f"key: {answers.key}",
        f"title: {_quoted(answers.title)}",
        f"owner: {answers.owner_key}   # the owner stands above all",
        "",
        "rules:",
        f"  timezone: {answers.zone}",
        "  advice:",
        "    # just begun: remove this when the ranks are assigned",
        "    silent: {unheld: only begun}",
        *(["  authority:"] if using else []),
        *(f"    {act}: {{using: {key}}}" for act, key in (using or {}).items()),
        "",
        "capabilities:   # add to each, where it is so: risk: high; kinds: [room]; needs: [...]",
    ]
    for heading in dict.fromkeys(wish.heading for wish in table.wishes):
        lines.append(f"  {_quoted(heading)}:")
        lines += [f"    {w.key}: {_quoted(w.about)}" for w in table.wishes if w.heading == heading]
    nobody = [w.key for w in table.wishes if not any(w.ticked)]
    lines += ["", f"nobody: [{', '.join(nobody)}]   # ticked for no rank"] if nobody else []
    lines += ["", "ranks:   # highest first: the order is power"]
    for n in order:
        lines += [f"  - key: {keys[n]}", f"    title: {_quoted(table.ranks[n])}"]
        if table.ranks[n] == everyone:
            lines.append("    held-by: members   # automatic for every member")
        grants = [w.key for w in table.wishes if w.ticked[n]]
        lines += [f"    grants: [{', '.join(grants)}]"] if grants else []
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    return json.dumps(text, ensure_ascii=False)
