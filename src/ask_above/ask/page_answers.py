"""The answers that a page holds: each made once, so that the page has only to look them up (rule 5).

People who answer alike share a *row*, places that answer alike share a *layer*, and questions that are answered for
the same reasons share a *form*: a place's kind and what is said on the way down to it about what the question rests on.
"""

from __future__ import annotations

from base64 import b64encode
from collections.abc import Callable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, NamedTuple

import numpy as np

from ask_above.ask.tables import power_cells
from ask_above.ask.tour import OPEN, seen_by, states, tour
from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.table import Sweep, unpack
from ask_above.charter.moments import Instant
from ask_above.charter.names import upper
from ask_above.charter.rules import Act
from ask_above.decide.classes import ClassState
from ask_above.decide.decider import VISITOR, Decider
from ask_above.decide.explain import Explainer
from ask_above.decide.profile import Asked, Sort, ask_anybody, ask_rank, ask_visitor
from ask_above.decide.words import LateWord, in_place, say

if TYPE_CHECKING:
    from numpy.typing import NDArray

HOLE = "\0"
"""Stands in a text of the page where the name of the person goes."""
ACTOR, TARGET = "\1", "\2"
"""Stand in a reason on power over ranks where the title of the one rank goes, and of the other."""
NEW_MEMBER = "new member"
"""The page's key for somebody with the automatic ranks alone; no member's key has a space."""
_MOST_TOLD, _FIRST_TOLD = 22_000, 12_000
"""Up to how many questions all are explained; of more so many, as each takes a fifth of a millisecond."""
_MOST_REASONS = 4
"""How many reasons stand against power over one rank."""
_MOST_IN_DETAIL = 40
"""Of how many ranks it is said which capabilities stand in the way of handing a rank on."""
_MOST_TOURED = 30_000
"""For how many rows times places it is worked out what the place changes."""
_MOST_CELLS = 4_000_000
"""How many ranks times capabilities times places are answered for: no browser would be quick with more."""
_MOST_NUMBERS = 1 << 16
"""How many accounts and forms have a number of two bytes; the last form stands for all beyond, which are not told."""


class Person(NamedTuple):
    """Somebody the page answers for: a member, a rank, a visitor.

    ``title`` is how they are listed, ``label`` what a sentence calls them, and ``first`` at its beginning; ``row`` is
    where their answers are.
    """

    key: str
    title: str
    label: str
    first: str
    sort: str
    row: int


def page_answers(
    decider: Decider,
    at: Instant,
    *,
    members: bool = True,
    plain_places: bool = True,
    told: Callable[[int, int], None] | None = None,
    most: int | None = None,
) -> tuple[dict[str, Any], list[int]] | None:
    """Return the answers as plain data that goes into JSON, and a place of each layer.

    Without ``members`` ranks and visitors alone are answered for; without ``plain_places`` those places are left out
    that say nothing themselves. ``told`` is called now and then with how many rows are done, and of how many. ``None``
    where they are sure to take more than ``most`` bytes.
    """
    maker = _Maker(decider, at, members=members, plain_places=plain_places)
    return None if most is not None and maker.least > most else maker.data(told or (lambda _done, _of: None))


class _Maker:
    def __init__(self, decider: Decider, at: Instant, *, members: bool, plain_places: bool) -> None:
        self.decider, self.compiled, self.at = decider, decider.compiled, at
        self.persons: list[Person] = []
        self.asked_rows: list[Asked] = []
        self._rows: dict[object, int] = {}
        compiled = self.compiled
        for rank in compiled.ranks:
            self._add(f"rank:{rank.key}", rank.called, "rank", ask_rank(compiled, rank))
        self._add(NEW_MEMBER, "A new member", "other", ask_anybody(compiled))
        self._add(VISITOR, "A visitor", "other", ask_visitor(compiled))
        self.ranks = len(self.asked_rows)
        for asked in decider.people.all(at) if members else ():
            self._add(asked.key or "", asked.label, "member", asked)
        # the page has to open in a browser: beyond so many cells places are left out, and it says how many
        most = max(1, _MOST_CELLS // max(1, len(compiled.ranks) * len(compiled.catalogue.keys)))
        self.places = [n for n, _ in enumerate(compiled.places) if plain_places or n == 0 or self._says(n)][:most]
        self._explainers: dict[tuple[int, int], Explainer] = {}
        self.texts: dict[str, int] = {}
        self.accounts: dict[tuple[int, ...], int] = {}

    def _add(self, key: str, title: str, sort: str, asked: Asked) -> None:
        # who is no member is told with all steps, and these name how a rank is held
        form = asked.profile, asked.rules_all, "" if asked.profile else asked.status, asked.sort is Sort.MEMBER
        row = self._rows.setdefault(form, len(self.asked_rows))
        if row == len(self.asked_rows):
            self.asked_rows.append(asked._replace(label=HOLE))
        self.persons.append(Person(key, title, asked.label, upper(asked.label), sort, row))

    @property
    def least(self) -> int:
        """How many bytes the answers take at least: a bit each, six in a letter."""
        return len(self.asked_rows) * len(self._layers()[1]) * len(self.compiled.catalogue.keys) // 6

    def data(self, told: Callable[[int, int], None]) -> tuple[dict[str, Any], list[int]]:
        numbers, firsts = self._layers()
        catalogue, compiled = self.compiled.catalogue, self.compiled
        sees = seen_by(self.decider, self.asked_rows)
        words = [self._of_row(row, sees[row], told) for row in range(len(self.asked_rows))]
        shapes, tables = self._told(firsts)
        data = {
            "persons": list(map(list, self.persons)),
            "places": [
                [
                    compiled.places[n].key,
                    compiled.places[n].called,
                    in_place(compiled.places[n].called, site=n == 0),
                    len(compiled.chains[n]) - 1,
                    number,
                ]
                for n, number in zip(self.places, numbers, strict=True)
            ],
            "capabilities": [
                [
                    key,
                    catalogue.capabilities[key].about,
                    catalogue.capabilities[key].heading,
                    catalogue.capabilities[key].risk,
                ]
                for key in catalogue.keys
            ],
            "pairs": {bare: [catalogue.keys.index(key) for key in pair] for bare, pair in catalogue.pairs.items()},
            "seeing": catalogue.keys.index(compiled.charter.rules.seeing) if compiled.charter.rules.seeing else 0,
            "can": _base64(self._can(firsts)),
            "states": [state for state, _, _ in words],
            "changes": [change for _, change, _ in words],
            "notes": [note for _, _, note in words],
            "shapes": shapes,
            "told": tables,
            "accounts": list(self.accounts),
            "texts": list(self.texts),
            "marked": min(len(self.asked_rows), _MOST_TOURED // len(compiled.places)),
            "leftOut": len(compiled.places) - len(self.places),
        }
        return data, firsts

    # -- places that answer alike

    def _says(self, place: int) -> bool:
        here = self.compiled.places[place]
        return bool(here.overrides or here.exceptions or here.like or here.gate)

    def _layers(self) -> tuple[list[int], list[int]]:
        """Return the number of each place's layer, and a place of each layer."""
        held = {where for asked in self.asked_rows if asked.profile for _, where in asked.profile.placed}
        speaking = {n for n in range(len(self.compiled.places)) if n in held or self._says(n)}
        known: dict[object, int] = {}
        numbers, firsts = list[int](), list[int]()
        for n in self.places:
            # places that say nothing answer like the one above, unless their kind differs: one layer for all of them
            chain = tuple(each for each in self.compiled.chains[n] if each in speaking)
            number = known.setdefault((self.compiled.places[n].kind, chain, n == 0), len(known))
            if number == len(firsts):
                firsts.append(n)
            numbers.append(number)
        return numbers, firsts

    # -- what can be used, by rows, layers and capabilities

    def _can(self, firsts: Sequence[int]) -> NDArray[np.uint8]:
        states = [
            ClassState(None if asked.rules_all else asked.profile, owner=asked.rules_all) for asked in self.asked_rows
        ]
        sweep = Sweep(self.compiled.keep(CompiledPlaces), states)
        order = sorted(firsts)
        bits = sweep.at(order)
        can = unpack(bits).reshape(len(order), -1, sweep.words * 64)[:, :, : len(states)]
        return np.packbits(can[np.searchsorted(order, firsts)].transpose(2, 0, 1), axis=2, bitorder="little")

    # -- the tree of places, as each row finds it

    def _of_row(
        self, row: int, sees: Sequence[bool] | None, told: Callable[[int, int], None]
    ) -> tuple[str, dict[int, list[list[int]]], dict[str, int]]:
        """Return how each place shows itself, what it changes, and the notes on what can be used."""
        told(row, len(self.asked_rows))
        asked, number = self.asked_rows[row], {key: n for n, key in enumerate(self.compiled.catalogue.keys)}
        # how a place shows itself costs little for everybody; what it changes for each person does not
        if (row + 1) * len(self.compiled.places) > _MOST_TOURED:
            shown = states(self.decider, asked, sees)
            return "".join(shown[place][0] for place in self.places), {}, {}
        stops = tour(self.decider, asked, self.at, sees=sees).stops
        changes, notes = {}, dict[str, int]()
        for n, place in enumerate(self.places):
            stop = stops[place]
            if stop.more or stop.less:
                changes[n] = [[number[key] for key in side] for side in (stop.more, stop.less)]
            for key in stop.can if stop.state == OPEN else ():
                for note in self.decider.notes(asked, key, place):
                    notes[f"{n} {number[key]}"] = self._text(note)
        return "".join(stops[place].state[0] for place in self.places), changes, notes

    # -- why

    def _text(self, text: str) -> int:
        return self.texts.setdefault(text, len(self.texts))

    def _told(self, firsts: Sequence[int]) -> tuple[list[str], list[list[Any]]]:
        """Return the forms of all questions, and row by row the account of each form."""
        shapes: dict[frozenset[int], int] = {}
        made: list[tuple[NDArray[np.uint16], list[tuple[int, int]]]] = []
        which: list[int] = []
        wanted: list[tuple[int, int]] = []
        for row, asked in enumerate(self.asked_rows):
            spots = frozenset(where for _, where in asked.profile.placed) - {0} if asked.profile else frozenset[int]()
            which.append(shapes.setdefault(spots, len(made)))
            if which[-1] == len(made):
                made.append(self._shape(firsts, spots))
            wanted += [(n, row) for n in range(min(len(made[which[-1]][1]), _MOST_TOLD))]
            if row >= self.ranks and len(wanted) > _MOST_TOLD:
                break
        tables: list[list[int]] = [[] for _ in which]
        # where there are too many, the places in front are told for every rank
        wanted.sort(key=lambda each: (each[1] >= self.ranks, each[0]))
        for n, row in wanted if len(wanted) <= _MOST_TOLD else wanted[:_FIRST_TOLD]:
            if len(self.accounts) < _MOST_NUMBERS:
                tables[row].append(self._account(row, *made[which[row]][1][n]))
        told = [[number, _base64(np.array(table, np.uint16))] for number, table in zip(which, tables, strict=True)]
        return [_base64(shape) for shape, _ in made], told

    def _shape(self, firsts: Sequence[int], spots: frozenset[int]) -> tuple[NDArray[np.uint16], list[tuple[int, int]]]:
        """Return the form of each question, layers by capabilities, and one question of each form."""
        compiled = self.compiled
        keys = compiled.catalogue.keys
        shape = np.empty((len(firsts), len(keys)), dtype=np.uint16)
        known: dict[object, int] = {}
        asked: list[tuple[int, int]] = []
        for layer, place in enumerate(firsts):
            chain = [(each, self._touch(each)) for each in compiled.chains[place]]
            for capability, key in enumerate(keys):
                rests = compiled.rests(key, place)
                heard = tuple(each for each, touch in chain if touch is None or each in spots or touch & rests)
                form = capability, compiled.places[place].kind, place == 0, heard
                number = known.setdefault(form, len(known))
                # numbers of 16 bits: what does not fit shares the last one, which has no account
                shape[layer, capability] = min(number, _MOST_NUMBERS - 1)
                if len(asked) < len(known) < _MOST_NUMBERS:
                    asked.append((capability, place))
        return shape, asked

    def _touch(self, place: int) -> int | None:
        """Return all that a place's words are about; ``None`` where it has a gate, which is about everything."""
        compiled = self.compiled
        if compiled.places[place].gate is not None:
            return None
        words = [*compiled.words_at(place).values(), *map(compiled.word_of, compiled.places[place].exceptions)]
        touched = 0
        for word in words:
            touched |= word.allow | word.deny | word.bar
        return touched

    def _account(self, row: int, capability: int, place: int) -> int:
        explainer = self._explainers.get((row, place))
        if explainer is None:
            explainer = self._explainers[row, place] = self.decider.explainer(self.asked_rows[row], place)
        account = explainer.account(self.compiled.catalogue.keys[capability])
        steps = (self._text(step.text) for step in account.steps) if row < self.ranks else ()
        return self.accounts.setdefault((self._text(account.reason), *steps), len(self.accounts))


def power_data(decider: Decider, at: Instant) -> dict[str, Any]:
    """Return what every rank may do to every rank on the whole site (rule 6.13), with the reasons of each no.

    For each act there is one number a cell, row by row: -1 for yes, else which of ``accounts`` has the numbers of the
    ``texts`` that say why not.
    """
    ranks, texts, accounts = decider.compiled.charter.ranks, dict[str, int](), dict[tuple[int, ...], int]()
    acts: dict[str, list[int]] = {}
    # what takes work to say is said where there are few enough cells to read
    late = len(ranks) <= _MOST_IN_DETAIL
    most = _MOST_REASONS if late else _MOST_REASONS // 2
    for act in (Act.MODERATE, Act.ASSIGN, Act.MANAGE):
        acts[act] = cells = []
        for cell in power_cells(decider, act, 0, at, enough=most):
            titles = ranks[cell.actor].called, ranks[cell.target].called
            said = [say(step.code, _with_holes(step.words, *titles, late=late)) for step in cell.against[:most]]
            account = tuple(texts.setdefault(text, len(texts)) for text in said)
            cells.append(accounts.setdefault(account, len(accounts)) if said else -1)
    return {
        "ranks": [[rank.called, upper(rank.called)] for rank in ranks.values()],
        "acts": acts,
        "accounts": list(accounts),
        "texts": list(texts),
    }


def _with_holes(words: Mapping[str, object], actor: str, target: str, *, late: bool) -> dict[str, object]:
    """Return the words of a step without the titles; those that take work to say are said where ``late``."""
    holes = {actor: ACTOR, target: TARGET}
    spoken = {
        name: "some capabilities" if isinstance(word, LateWord) and not late else str(word)
        for name, word in words.items()
    }
    return {name: holes.get(word, word) for name, word in spoken.items()}


def _base64(array: NDArray[Any]) -> str:
    return b64encode(array.tobytes()).decode()
