"""The grid as a sheet that people fill in, and what was filled in as edits.

A cell says ``yes`` or ``no`` where the charter says so itself: a rank is granted or withheld a capability, a place
allows or denies it. In brackets stands what comes from elsewhere: from other ranks, bundles, the places above.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Final, NamedTuple

from ask_above.change.draft import Edit, EditError
from ask_above.change.places import Say
from ask_above.change.ranks import RankSet
from ask_above.charter.ladder import Rank
from ask_above.charter.names import nearest
from ask_above.decide.decider import Decider
from ask_above.decide.profile import ask_rank
from ask_above.people.directory import Directory, NameKind, folded

YES, NO, AS_IT_COMES = "yes", "no", "as it comes"
CHOICES: Final = (YES, NO, AS_IT_COMES)
COMES: Final = {True: "(yes)", False: "(no)"}
BARRED, NO_MEANING = "(barred)", "-"
KEYS: Final = "Keys"
"""What the line of ranks' keys begins with; the titles beside it are for people."""
HEADS: Final = ("Heading", "Capability", "What it lets one do")

_TICKS: Final = {"yes", "y", "x", "✓", "✔", "☑", "1", "true", "on", "ja", "oui", "+"}
_CROSSES: Final = {"no", "n", "✗", "✘", "0", "false", "off", "nein", "non"}
_COMES: Final = {"", "as it comes", "(yes)", "(no)", "-", "(barred)", "–", "?"}


class GridSheet(NamedTuple):
    """A sheet: the ranks across by their keys, and for each capability the cell of each rank."""

    place: str | None
    ranks: tuple[str, ...]
    cells: Mapping[str, Mapping[str, str]]


class Filled(NamedTuple):
    """What was filled in: the edits that it comes to, and what of the sheet could not be understood."""

    edits: list[Edit]
    faults: list[str]


def sheet(decider: Decider, place: str | None) -> GridSheet:
    """Return the sheet of what ranks grant, or of what differs at a place."""
    compiled = decider.compiled
    ranks = tuple(rank.key for rank in compiled.ranks)
    columns = {
        rank.key: _carried(decider, rank) if place is None else _at_place(decider, rank, compiled.place_at[place])
        for rank in compiled.ranks
    }
    return GridSheet(place, ranks, {key: {r: columns[r][key] for r in ranks} for key in compiled.catalogue.keys})


def _carried(decider: Decider, rank: Rank) -> dict[str, str]:
    compiled = decider.compiled
    carried = compiled.catalogue.everything if rank.unbounded else compiled.granted(rank)
    said = dict.fromkeys(rank.grants.words, YES) | dict.fromkeys(rank.withhold.words, NO)
    return {key: said.get(key, COMES[bool(carried & bit)]) for key, bit in compiled.catalogue.bit.items()}


def _at_place(decider: Decider, rank: Rank, place: int) -> dict[str, str]:
    compiled = decider.compiled
    here = compiled.places[place]
    usable = decider.usable(ask_rank(compiled, rank), place)
    own = next((override for override in here.overrides if override.label == rank.key), None)
    reads: dict[str, str] = {}
    if own is not None:
        reads = dict.fromkeys(own.allow.words, YES) | dict.fromkeys(own.deny.words, NO)
        reads |= dict.fromkeys(own.bar.words, BARRED)
    meaning = compiled.has_meaning(place)
    return {
        key: reads.get(key, COMES[bool(usable & bit)] if meaning & bit or here.kind == "section" else NO_MEANING)
        for key, bit in compiled.catalogue.bit.items()
    }


def meaning_of(text: str) -> str | None:
    """Return what a cell says: yes, no, or as it comes; ``None`` where it says none of these.

    >>> [meaning_of(each) for each in ("x", "✓", "No", "", "(yes)", "perhaps")]
    ['yes', 'yes', 'no', 'as it comes', 'as it comes', None]
    """
    said = " ".join(text.casefold().split())
    if said in _TICKS:
        return YES
    return NO if said in _CROSSES else AS_IT_COMES if said in _COMES else None


def filled(decider: Decider, made_from: GridSheet, lines: Sequence[Sequence[str]]) -> Filled:
    """Return what the lines of a sheet that was filled in come to, beside the sheet that it was made from.

    Nothing that the sheet does not hold is touched. A line of keys says which rank each column is, else the first line
    that names ranks, by title or key. A line is a capability's by its key, else by the sentence that says what it is;
    lines before the ranks, and headings, are passed over. What is said twice, and not alike, is a fault.
    """
    charter = decider.compiled.charter
    faults: list[str] = []
    heads = _Heads(Directory(charter, decider.people.register), lines, faults)
    sentences = [folded(capability.about) for capability in charter.catalogue.capabilities.values()]
    by_sentence = {
        folded(each.about): key
        for key, each in charter.catalogue.capabilities.items()
        if sentences.count(folded(each.about)) == 1
    }
    cells: dict[tuple[str, str], tuple[str, str, int]] = {}
    for n, line in enumerate(lines[heads.line + 1 :], heads.line + 2):
        name = line[heads.at].strip() if heads.at < len(line) else ""
        key = name if name in made_from.cells else by_sentence.get(folded(name))
        if not name or (key is None and not any(cell.strip() for cell in line[heads.at + 1 :])):
            continue
        if key is None:
            near = nearest(name, made_from.cells)
            faults.append(f"Line {n}: there is no capability '{name}'." + (f" Nearest: {near[0]}." if near else ""))
            continue
        for column, rank in heads.ranks:
            text = line[column] if column < len(line) else ""
            meant = meaning_of(text)
            if meant is None:
                faults.append(f"Line {n}, {rank}: '{text}' is neither yes, no, nor {AS_IT_COMES}.")
                continue
            before = cells.setdefault((rank, key), (meant, text, n))
            if before[0] != meant:
                faults.append(f"Lines {before[2]} and {n} differ on {key} for {rank}: '{before[1]}' and '{text}'.")
    if not (cells or faults):
        faults.append("It has no line of a capability below a line that names ranks.")
    changes: dict[str, dict[str, str]] = {}
    for (rank, key), (meant, text, _) in cells.items():
        was = made_from.cells[key].get(rank)
        if was is not None and meant != meaning_of(was) and text != was:
            changes.setdefault(rank, {})[key] = meant
    return Filled([*_edits(decider, made_from.place, changes, faults)], faults)


class _Heads:
    """Which line names the ranks, the column of capabilities, and which columns are which ranks."""

    def __init__(self, directory: Directory, lines: Sequence[Sequence[str]], faults: list[str]) -> None:
        self.directory = directory
        keyed = next((line for line in lines[:1] if line and folded(line[0]) == folded(KEYS)), ())
        self.line = 1 if keyed else self._line(lines)
        heads = lines[self.line] if self.line < len(lines) else ()
        names = [folded(head) for head in heads]
        self.at = names.index("capability") if "capability" in names else 0
        self.ranks: list[tuple[int, str]] = []
        for n, head in enumerate(heads):
            key = keyed[n].strip() if n < len(keyed) else ""
            if n == self.at or not (key or head.strip()) or names[n] in map(folded, HEADS):
                continue
            try:
                self.ranks.append((n, self._rank(key or head.strip(), by_key=bool(key))))
            except EditError as error:
                faults.append(str(error))

    def _line(self, lines: Sequence[Sequence[str]]) -> int:
        ranks = self.directory.charter.ranks.values()
        named = {folded(name) for rank in ranks for name in (rank.key, rank.called) if name}
        return next((n for n, line in enumerate(lines) if any(folded(cell) in named for cell in line[1:])), 0)

    def _rank(self, name: str, *, by_key: bool) -> str:
        ranks = self.directory.charter.ranks
        titled = [rank.key for rank in ranks.values() if folded(rank.called) == folded(name) and rank.key != name]
        if name in ranks:
            if titled and not by_key:
                raise EditError(f"'{name}' is the key of one rank and the title of {titled[0]}: say the key of each.")
            return name
        known = None if by_key else self.directory.find(name, NameKind.RANK)
        if known is None:
            near = self.directory.nearest(name, NameKind.RANK)
            raise EditError(f"The column '{name}' names no rank." + (f" Nearest: {near[0]}." if near else ""))
        return known.key


def _edits(
    decider: Decider, place: str | None, said: Mapping[str, Mapping[str, str]], faults: list[str]
) -> Iterator[Edit]:
    for key, cells in said.items():
        rank = decider.compiled.charter.ranks[key]
        if rank.unbounded:
            faults.append(f"{rank.called} may do everything; what a sheet says of it has no effect.")
        elif place is None:
            edit = _carrying(rank, cells)
            if edit.fields:
                yield edit
        else:
            for word, meant in (("clear", AS_IT_COMES), ("allow", YES), ("deny", NO)):
                names = tuple(name for name, cell in cells.items() if cell == meant)
                if names:
                    yield Say(place, key, word, names)


def _carrying(rank: Rank, cells: Mapping[str, str]) -> RankSet:
    """Return the edit by which a rank is granted and withheld what a sheet says."""
    grants = [word for word in rank.grants.words if cells.get(word) in (None, YES)]
    grants += [name for name, cell in cells.items() if cell == YES and name not in grants]
    withhold = [word for word in rank.withhold.words if cells.get(word) in (None, NO)]
    withhold += [name for name, cell in cells.items() if cell == NO and name not in withhold]
    fields = {"grants": grants or None, "withhold": withhold or None}
    had = {"grants": rank.grants.words, "withhold": rank.withhold.words}
    return RankSet(rank.key, {name: value for name, value in fields.items() if tuple(value or ()) != had[name]})


def check(found: Filled) -> list[Edit]:
    """Return the edits of a sheet; raises :class:`EditError` with all that is wrong with it."""
    if found.faults:
        raise EditError("The sheet cannot be taken as it stands; nothing was done. " + " ".join(found.faults))
    return found.edits
