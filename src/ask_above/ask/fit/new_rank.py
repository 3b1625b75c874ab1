"""A rank made for a need, where none that is there fits: as a piece of a charter."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from ask_above.ask.fit.search import Fitter, Fitting, Need
from ask_above.change.draft import Edit
from ask_above.change.places import Say, SetGate
from ask_above.change.ranks import RankAdd
from ask_above.change.typed import typed
from ask_above.charter import changes
from ask_above.charter.catalogue import Words
from ask_above.charter.charter import Charter
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.places import GateTerm
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Profile, ask_anybody
from ask_above.decide.walk import closed_gate, held
from ask_above.printing import prints

KEY = "new-rank"


@prints
class Proposal(NamedTuple):
    """A new rank that gives what is needed.

    ``rank`` are the lines to put into ``ranks``, directly below ``below``. ``overrides`` are pairs of a place and the
    line for its overrides, ``gates`` of a place and the gate to give it. ``fitting`` says what is beyond the need even
    so; ``commands`` make the rank.
    """

    key: str
    below: str | None
    rank: str
    overrides: tuple[tuple[str, str], ...]
    gates: tuple[tuple[str, str], ...]
    fitting: Fitting
    charter: Charter
    commands: tuple[str, ...]

    def __repr__(self) -> str:
        return f"<Proposal: {self.key}, of weight {self.fitting.weight}>"


def propose(decider: Decider, needs: Sequence[Need], never: Sequence[Need], at: Instant) -> Proposal | None:
    """Return a new rank for these needs; ``None`` where no rank can give them."""
    for maker in _attempts(decider, needs, never):
        changed = Decider(maker.charter, decider.people.register)
        fitter = Fitter(changed, needs, never, at)
        rank = changed.compiled.rank_at[maker.key]
        if fitter.meets((rank,)):
            fitting = fitter.fitting((rank,))
            lines = maker.text(), maker.lines(), maker.gate_lines()
            return Proposal(maker.key, maker.below, *lines, fitting, maker.charter, maker.commands())
    return None


def _attempts(decider: Decider, needs: Sequence[Need], never: Sequence[Need]) -> Iterator[_Maker]:
    """Yield ranks to try, the humblest first.

    One that grants what is needed, low on the ladder; one that places allow it to, where a word for everybody stands
    over what ranks grant; then higher ones, where a range such as ``warden+`` gives it. What everybody has and this
    rank must never have is denied to it.
    """
    ranks, charter = decider.compiled.ranks, decider.compiled.charter
    given = [rank.key for rank in ranks if not rank.automatic and not rank.entry]
    entries = [entry for place in charter.places.values() for entry in place.overrides]
    entries += [entry for override_set in charter.override_sets.values() for entry in override_set.overrides]
    starts = sorted({decider.compiled.rank_at[entry.of] for entry in entries if entry.above}, reverse=True)
    heights = [given[-1] if given else None, *(ranks[n - 1].key if n else None for n in starts)]
    for below in dict.fromkeys(heights):
        yield _Maker(decider, needs, never, below)
        yield _Maker(decider, needs, never, below, by_places=True)


class _Maker:
    def __init__(
        self,
        decider: Decider,
        needs: Sequence[Need],
        never: Sequence[Need],
        below: str | None,
        *,
        by_places: bool = False,
    ) -> None:
        self.decider, self.compiled, self.by_places = decider, decider.compiled, by_places
        self.base = ask_anybody(self.compiled).profile or Profile()
        charter = self.compiled.charter
        self.key = next(
            key
            for key in (KEY, *(f"{KEY}-{n}" for n in range(2, len(charter.ranks) + len(charter.groups) + 3)))
            if key not in charter.ranks and key not in charter.groups
        )
        self.grants: list[str] = []
        self.allows: dict[int, list[str]] = {}
        self.denies: dict[int, list[str]] = {}
        self.gates: list[int] = []
        for need in needs:
            self._give(need)
        for need in never:
            self._keep_out(need)
        self.below = below
        self.charter = self._made(charter)

    def _give(self, need: Need) -> None:
        """Note what the rank must grant, or be allowed at one place, for a need."""
        bit = self.compiled.catalogue.bit[need.capability]
        places = [n for n in range(len(self.compiled.places)) if self.compiled.has_meaning(n) & bit]
        if need.place is None:
            open_ones = [n for n in places if closed_gate(self.compiled, self.base, n) is None]
            place = min(open_ones or places, key=lambda n: len(self._missing(need.capability, n)), default=0)
            target = self.allows.setdefault(place, []) if self.by_places else self.grants
            target += [name for name in self._missing(need.capability, place) if name not in target]
            return
        missing = self._missing(need.capability, need.place)
        carried = need.place == 0 and not self.by_places
        target = self.grants if carried else self.allows.setdefault(need.place, [])
        target += [name for name in missing if name not in target]
        shut = closed_gate(self.compiled, self.base, need.place)
        if shut is not None and shut not in self.gates:
            self.gates.append(shut)

    def _keep_out(self, need: Need) -> None:
        """Note where the rank has to be denied what everybody else has there."""
        bit, places = self.compiled.catalogue.bit[need.capability], range(len(self.compiled.places))
        for n in places if need.place is None else [need.place]:
            above = self.compiled.chains[n][:-1]
            already = any(need.capability in self.denies.get(k, ()) for k in above)
            said = any(word.allow & bit for word in self.compiled.words_at(n).values())
            if held(self.compiled, self.base, n, gated=False).mask & bit and (said or not already):
                self.denies.setdefault(n, []).append(need.capability)

    def _missing(self, capability: str, place: int) -> list[str]:
        """Return what someone without the rank lacks for a capability, less what the rest of it implies."""
        catalogue = self.compiled.catalogue
        names = catalogue.names(
            self.compiled.rests(capability, place) & ~held(self.compiled, self.base, place, gated=False).mask
        )
        close = catalogue.close
        return [n for n in names if not any(o != n and close(catalogue.bit[o]) & catalogue.bit[n] for o in names)]

    def _made(self, charter: Charter) -> Charter:
        rank = Rank(self.key, 0, "New rank", grants=Words(tuple(self.grants)))
        keys = list(charter.ranks)
        at = keys.index(self.below) + 1 if self.below else 0
        changed = charter._replace(ranks={**charter.ranks, self.key: rank})
        changed = changes.in_order(changed, [*keys[:at], self.key, *keys[at:]])
        for place, names in self.allows.items():
            if names:
                changed = changes.saying(changed, self.compiled.places[place].key, self.key, "allow", names)
        for place, names in self.denies.items():
            changed = changes.saying(changed, self.compiled.places[place].key, self.key, "deny", names)
        for place in self.gates:
            gate = changed.places[self.compiled.places[place].key].gate
            if gate is not None and gate.any:
                wider = gate._replace(any=(*gate.any, GateTerm(self.key)))
                changed = changes.with_gate(changed, self.compiled.places[place].key, wider)
        return changed

    def commands(self) -> tuple[str, ...]:
        """Return the commands that make the rank, its overrides and what gates have to admit."""
        first = next(iter(self.compiled.charter.ranks), None)
        fields = {"title": "New rank", **({"grants": self.grants} if self.grants else {})}
        edits: list[Edit] = [RankAdd(self.key, fields, None if self.below else first, self.below)]
        for word, said in (("allow", self.allows), ("deny", self.denies)):
            edits += [Say(self.compiled.places[n].key, self.key, word, names) for n, names in said.items() if names]
        for n in self.gates:
            key = self.compiled.places[n].key
            gate = self.charter.places[key].gate
            if gate is not None and GateTerm(self.key) in gate.any:
                terms = {"any": gate.any, "all": gate.all, "none": gate.none}
                edits.append(SetGate(key, {w: list(map(str, t)) for w, t in terms.items()} | {"teaser": gate.teaser}))
        return tuple(map(typed, edits))

    def text(self) -> str:
        """Return the rank's entry."""
        lines = [f"- key: {self.key}", "  title: New rank"]
        if self.grants:
            lines.append(f"  grants: [{', '.join(self.grants)}]")
        return "\n".join(lines)

    def lines(self) -> tuple[tuple[str, str], ...]:
        """Return the entries for the overrides of places."""
        entries = []
        for n in sorted({**self.allows, **self.denies}):
            words = (("allow", self.allows.get(n)), ("deny", self.denies.get(n)))
            said = ", ".join(f"{word}: [{', '.join(names)}]" for word, names in words if names)
            entries += [(self.compiled.places[n].key, f"{self.key}: {{{said}}}")] if said else []
        return tuple(entries)

    def gate_lines(self) -> tuple[tuple[str, str], ...]:
        """Return the gates that have to let the rank in."""
        gates = []
        for n in self.gates:
            gate = self.charter.places[self.compiled.places[n].key].gate
            if gate is not None and GateTerm(self.key) in gate.any:
                parts = [
                    f"{word}: [{', '.join(map(str, terms))}]"
                    for word, terms in (("any", gate.any), ("all", gate.all), ("none", gate.none))
                    if terms
                ]
                parts += ["teaser: true"] if gate.teaser else []
                gates.append((self.compiled.places[n].key, f"gate: {{{', '.join(parts)}}}"))
        return tuple(gates)
