"""One piece of advice, the codes there are, and what the pieces are found from."""

from __future__ import annotations

from collections.abc import Mapping
from functools import cached_property
from typing import Final, NamedTuple

import numpy as np

from ask_above.bulk.places import CompiledPlaces
from ask_above.bulk.table import Sweep
from ask_above.charter.ladder import Rank
from ask_above.charter.moments import Instant
from ask_above.charter.places import Override, Place
from ask_above.charter.rules import Act
from ask_above.charter.where import NOWHERE, Where
from ask_above.decide.classes import ClassState
from ask_above.decide.compiled import CompiledCharter
from ask_above.decide.decider import Decider
from ask_above.decide.profile import Asked, ask_rank
from ask_above.decide.words import in_place

WHY: Final[Mapping[str, str]] = {
    "still-carried": "A right that is taken from everyone is still there for those whose other ranks carry it.",
    "deny-reaches-up": "A deny for a rank that everyone holds also takes from the ranks above what they carry.",
    "builds-on-higher": "A lower rank receives everything that the higher one carries, now and later.",
    "builds-on-unbounded": "Being unbounded does not come along with builds-on; the rank gets less than it seems.",
    "builds-on-overrides": "Overrides do not come along with builds-on; where there are any the two ranks differ.",
    "moderates-nobody": "Whoever moderates reaches only those below; this rank reaches none of those it is meant for.",
    "below-everyone": "Whoever moderates reaches only those below, and nearly everyone holds a rank above this one.",
    "badge-above-power": "The order is power: whoever holds the badge cannot be moderated from the rank below it.",
    "meant-for-nobody": "Somebody has it although the charter says that nobody is meant to.",
    "needs-unmet": "A capability does nothing without what it needs; its holders can use it nowhere.",
    "no-effect-unbounded": "Places do not stop holders of an unbounded rank; the entry has no effect on them.",
    "no-effect-repeated": "The entry says what is so without it; a later change above will not come through here.",
    "no-effect-kind": "The capability has no meaning in this place or in any place in it.",
    "beats-exception": "The nearest place has the last word, so the exception ends where this entry begins.",
    "drifted": "The place says the opposite of what its section says; nobody may know whether it is meant.",
    "seeing-denied": "Whoever may not see the place can still do other things in it; name it in rules.seeing.",
    "undecided": "Nobody has decided who should have it; an unbounded rank has it all the same.",
    "wildcard-high-risk": "A pattern takes in what add-ons bring later; high risk is better named.",
    "risky-by-default": "High risk is given to people whom nobody has chosen.",
    "detour": "The power of the one can be used to obtain the other, which the rank was not given.",
    "climbs-to-everything": "Whoever holds it can come to do everything, by what the charter lets them do.",
    "climbs-to-high-risk": "Whoever holds it can come to have what it was not given.",
    "too-many-unbounded": "Every holder can do everything, whatever else is set.",
    "too-many-high-risk": "The more people can do it, the likelier it goes wrong.",
    "over-limit": "The rank's limit keeps anyone from being given it; who may stay is open.",
    "uncovered": "Nobody can do what the place needs when it is needed.",
    "only-one": "If this member is away, nobody can.",
    "same-carried": "Two ranks that carry the same differ in name only, and drift apart by accident.",
    "unheld": "A rank that nobody holds is either forgotten or waits for somebody.",
    "copy-behind": "A copy keeps what its original has lost since; nobody is told.",
    "gate-nobody": "Nobody but the owner and holders of unbounded ranks can enter.",
    "held-behind-gate": "The rank is held for a place whose gate shuts its holder out; it does nothing there.",
    "gate-shuts-keepers": "Those who may change the place, by their rank, cannot enter it.",
    "ended": "The assignment is over; it only makes the list longer.",
    "never-starts": "The assignment ends before it begins, so it never counts.",
    "contradictory": "Both stand in the list, and only one of them can be meant.",
    "pending-worse": "Someone who has signed up finds less than before; they will think that something is broken.",
    "condition-void": "A condition that rests on a rank everybody gets holds of everybody, or of nobody.",
    "joined-by-hand": "Nothing is added to what stands in a file; by command, joining brings these ranks along.",
    "identity-twice": "Other programs cannot tell the two apart; neither is recognised by it.",
    "exception-gone": "The exception outlives the person; a new member with the same key would inherit it.",
    "kind-misspelled": "A capability for one kind of place has no effect in another; nobody will see why.",
    "unseen-character": "Two names that look alike can differ in it, and somebody may pass for somebody else.",
    "look-alike": "Whoever reads the one takes it for the other, and somebody may pass for somebody else.",
    "color-unreadable": "Names in this colour cannot be read by everyone on a light or on a dark ground.",
    "color-alike": "The two colours cannot be told apart; people will take one rank for the other.",
    "color-same": "Two ranks share one colour; people cannot tell who is who.",
    "silent-unknown": "The code means nothing here; what it was meant to silence is told.",
}
"""Every code, and in one sentence why it matters."""


class Piece(NamedTuple):
    """One piece of advice: ``what`` is the finding, ``why`` it matters, ``mend`` what would help, in words.

    ``commands`` are what would mend it, to be typed; what would take a choice of people has none.
    ``concerned`` are keys of ranks, groups or members, those of members with @ in front.
    """

    code: str
    where: Where
    what: str
    mend: str
    concerned: tuple[str, ...] = ()
    commands: tuple[str, ...] = ()

    @property
    def why(self) -> str:
        """Why it matters, in one sentence."""
        return WHY[self.code]


def to_entry(place: Place, entry: Override, words: str, *, personal: bool = False) -> str:
    """Return the command that changes an override or an exception of a place: ``words`` are its options."""
    personal = personal or any(exception is entry for exception in place.exceptions)
    return f"ask-above place {'except' if personal else 'override'} {place.key} {entry.label} {words}"


def leave(compiled: CompiledCharter, place: Place, entry: Override, mask: int) -> tuple[str, ...]:
    """Return the command that takes capabilities out of an entry; none where a pattern or bundle brings others too."""
    catalogue, covered, names = compiled.catalogue, 0, list[str]()
    for word in dict.fromkeys((*entry.allow, *entry.deny, *entry.bar)):
        brought = catalogue.expand(word)
        if brought and not brought & ~mask:
            covered |= brought
            names.append(word)
    return (to_entry(place, entry, f"--leave {','.join(names)}"),) if covered == mask else ()


class Sight:
    """A community at a moment, and what several kinds of advice need of it, worked out once."""

    def __init__(self, decider: Decider, at: Instant) -> None:
        self.decider, self.at = decider, at
        self.compiled: CompiledCharter = decider.compiled
        self.charter = self.compiled.charter
        self.register = decider.people.register

    @cached_property
    def asked(self) -> list[Asked]:
        """Someone asked as each rank."""
        return [ask_rank(self.compiled, rank.position) for rank in self.compiled.ranks]

    @cached_property
    def alike(self) -> list[tuple[Asked, list[str]]]:
        """One of each that are equal in all that counts here, and the keys of them all."""
        folded = self.decider.ready.alike().values()
        return [(self.decider.people.ask(keys[0], self.at), keys) for keys in folded]

    @cached_property
    def usable_anywhere(self) -> list[int]:
        """What someone asked as each rank can use at any place at all."""
        states = [ClassState(asked.profile, owner=False) for asked in self.asked]
        sweep = Sweep(self.decider.compiled.keep(CompiledPlaces), states)
        total = np.zeros((len(self.compiled.catalogue.keys), sweep.words), dtype=np.uint64)
        for _, words in sweep.run():
            total |= words
        bits = np.unpackbits(total.view(np.uint8), axis=1, bitorder="little")
        return [sum(1 << n for n in np.flatnonzero(bits[:, row]).tolist()) for row in range(len(states))]

    @cached_property
    def carriers(self) -> dict[str, list[int]]:
        """The positions of the ranks that carry each capability."""
        carried = self.compiled.carried
        return {
            key: [n for n, mask in enumerate(carried) if mask & bit] for key, bit in self.compiled.catalogue.bit.items()
        }

    @cached_property
    def holders(self) -> list[int]:
        """For how many members each rank is recorded now, the retired not counted."""
        found = [0] * len(self.compiled.ranks)
        for asked, keys in self.alike:
            if not asked.is_retired:
                for rank in {holding.rank for holding in asked.recorded}:
                    found[rank] += len(keys)
        return found

    def holding(self, rank: Rank) -> list[str]:
        """Return the members for whom a rank is recorded now, the retired not counted, by key."""
        among = (
            keys
            for asked, keys in self.alike
            if not asked.is_retired and any(each.rank == rank.position for each in asked.recorded)
        )
        return sorted(key for keys in among for key in keys)

    @cached_property
    def active(self) -> int:
        """How many members are active."""
        return sum(len(keys) for asked, keys in self.alike if asked.is_active)

    @cached_property
    def unbounded_members(self) -> set[str]:
        """The members who hold an unbounded rank on the whole site, and the owner."""
        unbounded = self.compiled.unbounded
        found = {self.charter.owner} if self.charter.owner else set()
        for asked, keys in self.alike if unbounded else ():
            if any(holding.rank in unbounded and holding.place == 0 for holding in asked.holdings):
                found.update(keys)
        return found

    def title(self, key: str) -> str:
        """Return what people call a rank, a group or a member."""
        for known in (self.charter.ranks, self.charter.groups):
            if key in known:
                return known[key].title or key
        member = self.register.members.get(key)
        return member.called if member else key

    def at_place(self, place: Place) -> str:
        """Say where."""
        return in_place(self.compiled.named[place.key].title, site=place.parent is None)

    def acting(self, rank: Rank, act: Act) -> bool:
        """Tell whether a rank carries what an act takes."""
        if rank.unbounded:
            return True
        return bool(
            self.compiled.carried[rank.position] & self.compiled.catalogue.mask(self.charter.rules.act(act).using)
        )

    @property
    def file(self) -> Where:
        """The charter as a whole."""
        return Where(self.compiled.ranks[0].where.file, 0, 0) if self.compiled.ranks else NOWHERE
