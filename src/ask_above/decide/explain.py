"""Why someone may or may not do something: the steps of rule 5, told; and where a rank says what it grants.

The layers, gates and bars come from :mod:`ask_above.decide.walk`, from which every answer comes; this module only adds
whose words they were.
"""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Final

from ask_above.charter.ladder import Rank
from ask_above.charter.names import few, listed
from ask_above.charter.places import Gate, GateTerm, Override
from ask_above.charter.where import Where
from ask_above.decide.answer import Account, Step
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.layers import LayerName, Word
from ask_above.decide.profile import Asked, Holding, How, Profile, Sort
from ask_above.decide.walk import Held, Layer, closed_gate, held, layers, meets_term, ranks_at
from ask_above.decide.words import HELD_BY, assigned, in_file, in_place
from ask_above.people.register import Register, Status

_NONE: Final[frozenset[str]] = frozenset()


def source_of(compiled: CompiledCharter, rank: Rank, capability: str) -> tuple[Where, str]:
    """Return where a rank has a capability from, and how it says so: builds-on, then bundle or pattern."""
    catalogue = compiled.catalogue
    words = catalogue.carriers(rank.grants, capability)
    if words:
        best = capability if capability in words else words[0]
        return rank.grants.where, _through(compiled, best, capability)
    for key in rank.builds_on:
        base = compiled.charter.ranks[key]
        if compiled.carried[base.position] & catalogue.bit[capability]:
            where, how = source_of(compiled, base, capability)
            return where, f", through {base.called}{how}"
    return rank.where, ""


def _through(compiled: CompiledCharter, word: str, capability: str) -> str:
    """Say which word of ``grants`` it is that brings a capability, where it is not its own name."""
    if word == capability:
        return ""
    catalogue = compiled.catalogue
    what = "the bundle " if word in catalogue.bundles else "the pattern " if word.endswith("*") else ""
    direct = catalogue.expand(word) & catalogue.bit[capability]
    return f", by {what}{word}" if direct else f", implied by {what}{word}"


class Explainer:
    """Tells how answers on somebody at a place came about, one capability after another."""

    def __init__(self, compiled: CompiledCharter, register: Register, asked: Asked, place: int) -> None:
        self.compiled, self.register, self.asked, self.place = compiled, register, asked, place
        self.profile = asked.profile or Profile()
        self.capability, self.rests = "", 0
        self.steps: list[Step] = []

    def account(self, capability: str, *, notes: tuple[str, ...] = ()) -> Account:
        """Return the whole account of the answer on a capability."""
        self.capability, self.rests, self.steps = capability, self.compiled.rests(capability, self.place), []
        reason = self._tell()
        allowed = not any(step.holds is False for step in self.steps)
        about = self.compiled.catalogue.capabilities[self.capability].about
        said = "may" if allowed else "may not"
        title = self._title(self.place)
        spot = in_place(title, site=self.place == 0)
        answer = f"{'Yes' if allowed else 'No'}: {self.asked.label} {said} use {self.capability} {spot}"
        sentence = f"{answer} ({about[:1].lower()}{about[1:]})." if about else f"{answer}."
        names = frozenset(self.compiled.catalogue.names(self.rests))
        return Account(sentence, reason, tuple(self.steps), notes if allowed else (), names)

    def _tell(self) -> str:
        asked = self.asked
        if asked.rules_all:
            self._add("4.5", "owner", {"who": asked.label}, gives=self.rests)
            return self._use(self.compiled.catalogue.everything)
        if asked.profile is None:
            return self._add("4.4", "status", {"who": asked.label, "status": asked.status}, holds=False).text
        if asked.status == Status.PENDING and asked.sort is Sort.MEMBER:
            self._add("4.4", "pending", {"who": asked.label})
        self._ranks()
        if not self._held.unbounded:
            self.steps += self._gates
            if self._gates and self._gates[-1].holds is False:
                return self._gates[-1].text
            self._places()
        return self._use(self._held.mask)

    def _add(
        self,
        rule: str,
        code: str,
        words: Mapping[str, str],
        *,
        gives: int = 0,
        takes: int = 0,
        holds: bool | None = None,
    ) -> Step:
        step = Step(rule, code, words, self._named(gives), self._named(takes), holds)
        self.steps.append(step)
        return step

    def _named(self, mask: int) -> frozenset[str]:
        return frozenset(self.compiled.catalogue.names(mask)) if mask else _NONE

    # -- ranks and what they grant (rules 3 and 4)

    # what follows is the same whatever is asked about

    @cached_property
    def _held(self) -> Held:
        return held(self.compiled, self.profile, self.place)

    @cached_property
    def _layers(self) -> list[Layer]:
        return [*layers(self.compiled, self.profile, self.place)]

    @cached_property
    def _here(self) -> list[tuple[int, int]]:
        """The ranks held there, highest first, and what each withholds."""
        ranks, expand = self.compiled.ranks, self.compiled.catalogue.expand_all
        return [(n, expand(ranks[n].withhold)) for n in ranks_at(self.compiled, self.profile, self.place)]

    @cached_property
    def _holdings(self) -> list[Step]:
        """The steps of how each rank is held there."""
        chain = self.compiled.chains[self.place]
        there = [holding for holding in self.asked.holdings if holding.place in chain]
        return [self._holding(holding) for rank, _ in self._here for holding in there if holding.rank == rank]

    def _ranks(self) -> None:
        self.steps += self._holdings
        if not self._here:
            self._add("4.8", "no-ranks", {"who": self.asked.label})
        unbounded = [position for position, _ in self._here if position in self.compiled.unbounded]
        if unbounded:
            self._add("3.4", "unbounded", {"rank": self.compiled.ranks[unbounded[0]].called}, gives=self.rests)
            return
        carried = False
        for position, withheld in self._here:
            if withheld & self.rests:
                self._withheld(position, withheld & self.rests)
            both = self.compiled.carried[position] & self.rests
            carried = carried or bool(both & self._bit)
            if both:
                self._carried(position, both)
        if self._here and not carried:
            self._add("3.1", "not-carried", {"who": self.asked.label, "what": self.capability})

    @property
    def _bit(self) -> int:
        return self.compiled.catalogue.bit[self.capability]

    def _holding(self, holding: Holding) -> Step:
        rank, place = self.compiled.ranks[holding.rank], self.compiled.places[holding.place]
        where = in_place(place.called, site=holding.place == 0)
        match holding.how:
            case How.AUTOMATIC:
                return Step("4.1", "automatic", {"rank": rank.called, "by": HELD_BY[rank.held_by or "members"]})
            case How.CONFERRED:
                group = self.compiled.charter.groups[holding.group or ""].called
                return Step("4.3", "conferred", {"rank": rank.called, "group": group, "place": where})
            case How.ASSIGNED if holding.assignment:
                giver = self.register.members.get(holding.assignment.by)
                by = giver.called if giver else holding.assignment.by
                words = assigned(holding.assignment, by)
                return Step("4.2", "assigned", {"rank": rank.called, "place": where, **words})
            case How.ENTRY:
                return Step("4.4", "entry", {"rank": rank.called})
            case _:
                return Step("4.9", "asked", {"rank": rank.called})

    def _carried(self, position: int, both: int) -> None:
        rank = self.compiled.ranks[position]
        names = self.compiled.catalogue.names(both)
        source, how = source_of(self.compiled, rank, names[0] if not both & self._bit else self.capability)
        self._add(
            "3.1",
            "carried",
            {"rank": rank.called, "what": listed(names), "how": how, "file": in_file(source)},
            gives=both,
        )

    def _withheld(self, position: int, both: int) -> None:
        rank, what = self.compiled.ranks[position], listed(self.compiled.catalogue.names(both))
        self._add("3.3", "withheld", {"rank": rank.called, "what": what, "file": in_file(rank.withhold.where)})

    # -- places (rules 5.3 to 5.5)

    @cached_property
    def _gates(self) -> list[Step]:
        """The steps of the gates on the way, up to the first that is closed."""
        closed, steps = closed_gate(self.compiled, self.profile, self.place), list[Step]()
        for here in self.compiled.chains[self.place]:
            gate = self.compiled.places[here].gate
            if gate is None:
                continue
            words = {"place": self._title(here), "who": self.asked.label, "file": in_file(gate.where)}
            if here == closed:
                words["asks"] = gate_asks(self.compiled, gate)
                return [*steps, Step("5.3", "gate-closed", words, holds=False)]
            met = [term for term in (*gate.any, *gate.all) if meets_term(self.compiled, self.profile, here, term)]
            words["by"] = f" through {listed(term_name(self.compiled, term) for term in met)}" if met else ""
            steps.append(Step("5.3", "gate-open", words))
        return steps

    def _places(self) -> None:
        bars: list[tuple[Layer, str, Word, int]] = []
        for layer in self._layers:
            self._layer(layer)
            bars += [(layer, key, word, word.bar & self.rests) for key, word in layer.speakers if word.bar & self.rests]
        # told last, as they count last: whatever was said before is shown, and then what it comes to
        for layer, key, _, taken in bars:
            entry = next((each for each in self._entries(layer, key) if self.compiled.word_of(each).bar & taken), None)
            words = {"place": self._title(layer.place), "holder": self._holder(layer, key)}
            what = listed(self.compiled.catalogue.names(taken))
            file = in_file(entry.where) if entry else ""
            self._add("5.5", "barred", {"what": what, "file": file, **words}, takes=taken)

    def _entries(self, layer: Layer, key: str) -> list[Override]:
        if layer.name is LayerName.MEMBER:
            entry = self.compiled.exception(layer.place, key)
            return [entry] if entry else []
        return [voice.entry for voice in self.compiled.voices(layer.place, key)]

    def _layer(self, layer: Layer) -> None:
        """Tell what one layer gives and takes of what the question rests on, and whose word it was."""
        for capability in self.compiled.catalogue.names(self.rests):
            bit = self.compiled.catalogue.bit[capability]
            speaking = [(key, word) for key, word in layer.speakers if (word.allow | word.deny) & bit]
            if not speaking:
                continue
            denied = bool(layer.deny & bit)
            allowed = bool(layer.allow & bit)
            unheard = self.profile.pending and layer.name in (LayerName.GROUP, LayerName.MEMBER) and not denied
            key = next(key for key, word in speaking if bool(word.deny & bit) == denied)
            other = [self._holder(layer, name) for name, word in speaking if bool(word.deny & bit) != denied]
            entry = self._speaking(layer, key, bit)
            words = {
                "place": self._title(layer.place),
                "holder": self._holder(layer, key),
                "what": capability,
                "file": in_file(entry.where) if entry else "",
                "against": f", which overrides what {listed(other)} says" if other else "",
            }
            rule = f"5.4{layer.name}"
            if unheard:
                self._add(rule, "allowed-pending", words)
            elif denied:
                self._add(rule, "denied", words, takes=bit)
            elif allowed:
                self._add(rule, "allowed", words, gives=bit)

    def _speaking(self, layer: Layer, key: str, bit: int) -> Override | None:
        """Return the entry that spoke for someone on a capability: the first that says something."""
        for entry in self._entries(layer, key):
            word = self.compiled.word_of(entry)
            if (word.allow | word.deny) & bit:
                return entry
        return None

    def _holder(self, layer: Layer, key: str) -> str:
        if layer.name is LayerName.MEMBER:
            member = self.register.members.get(key)
            return f"{member.called if member else key} (exception)"
        if layer.name is LayerName.GROUP:
            return f"the group {self.compiled.charter.groups[key].called}"
        return self.compiled.charter.ranks[key].called

    def _title(self, place: int) -> str:
        return self.compiled.places[place].called

    # -- use (rule 5.6)

    def _use(self, mask: int) -> str:
        compiled, names = self.compiled, self.compiled.catalogue.names
        kind = compiled.places[self.place].kind
        here = "to the site itself" if self.place == 0 else f"to places of kind {kind}"
        capability = compiled.catalogue.capabilities[self.capability]
        missing = self.rests & ~mask
        reason = ""
        for lacking in names(missing):
            if lacking == self.capability:
                self._add("5.6", "not-held", {"who": self.asked.label, "what": lacking}, holds=False)
            else:
                words = {"what": self.capability, "missing": lacking, "why": self._why_missing(lacking)}
                self._add("5.6", "rests-on", {"who": self.asked.label, **words}, holds=False)
            if lacking == self.capability:
                reason = self._last_word(lacking) or self._nothing_gives(lacking)
            elif not reason:
                reason = self.steps[-1].text
        if not capability.has_meaning_in(kind):
            where = meaningful_places(compiled, capability.kinds or frozenset())
            words = {"what": self.capability, "kind": here, "where": where}
            return self._add("5.6", "no-meaning", words, holds=False).text
        if missing:
            return reason
        others = [name for name in names(self.rests) if name != self.capability]
        rest = f" and all that it needs ({', '.join(others)})" if others else ""
        words = {"who": self.asked.label, "what": self.capability, "rest": rest, "kind": here}
        self._add("5.6", "usable", words, holds=True)
        return self._last_word(self.capability, given=True) or self.steps[-1].text

    def _last_word(self, capability: str, *, given: bool = False) -> str | None:
        for step in reversed(self.steps):
            if capability in (step.gives if given else step.takes):
                return step.text
        return None

    def _nothing_gives(self, capability: str) -> str:
        return f"None of {self.asked.label}'s ranks here grants {capability}, and no override or exception allows it."

    def _why_missing(self, capability: str) -> str:
        last = self._last_word(capability)
        if last is not None:
            return f"{last[0].lower()}{last[1:]}".rstrip(".")
        return "no rank here grants it, and no override or exception allows it"


def term_name(compiled: CompiledCharter, term: GateTerm) -> str:
    """Name one thing that a gate requires."""
    holder = compiled.charter.ranks.get(term.key) or compiled.charter.groups[term.key]
    return f"{holder.called} or above" if term.above else holder.called


def gate_asks(compiled: CompiledCharter, gate: Gate) -> str:
    """Say what a gate requires."""
    parts = []
    for word, terms in (("any of", gate.any), ("all of", gate.all), ("none of", gate.none)):
        if terms:
            names = listed((term_name(compiled, term) for term in terms), "and" if word == "all of" else "or")
            parts.append(f"{word} {names}")
    return f"it requires {', and '.join(parts)}"


def meaningful_places(compiled: CompiledCharter, kinds: frozenset[str]) -> str:
    """Say where a capability applies."""
    titles = [place.called for place in compiled.places if place.kind in kinds and place.kind != "site"]
    if "site" in kinds:
        titles.insert(0, "the site itself")
    applies = f"it applies to places of kind {listed(sorted(kinds), 'or')}"
    if kinds == {"site"}:
        return "it applies to the site itself"
    if not titles:
        return f"{applies}; there is none"
    return f"{applies}: {few(titles, 6)}"
