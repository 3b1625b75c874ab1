"""One piece of advice, the codes there are, and what the pieces are found from."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
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
from ask_above.people.register import Member

WHY: Final[Mapping[str, str]] = {
    "climbs-to-everything": "Members with this rank can climb to every capability.",
    "climbs-to-high-risk": "Members with this rank can climb to a high-risk capability.",
    "meant-for-nobody": "The charter lists it under 'nobody', and somebody has it all the same.",
    "risky-by-default": "Members get a high-risk capability without being chosen.",
    "still-carried": "Members keep the capability through other ranks.",
    "detour": "The one capability can obtain the other, which is not granted.",
    "account-shared": "More than one person may use the account.",
    "sign-ins-unread": "Shared accounts are not found until the file is correct.",
    "heir-gone": "What a former member wrote belongs to someone who has left too.",
    "exception-gone": "The member has left; a new one with this key would get the exception.",
    "too-many-unbounded": "Each of these members may do everything.",
    "too-many-high-risk": "Each further member adds to the risk.",
    "builds-on-higher": "The lower rank grants all that the higher one grants.",
    "wildcard-high-risk": "The pattern matches future add-ons; name high-risk capabilities.",
    "copy-behind": "The copy grants capabilities that its original does not.",
    "uncovered": "No active member may use it in this place.",
    "only-one": "If this member is away, nobody may use it.",
    "moderates-nobody": "No rank that this one should moderate stands below it.",
    "below-everyone": "At least half of the members stand above this moderating rank.",
    "badge-above-power": "The moderating rank below cannot moderate those who have it.",
    "gate-nobody": "Only the owner and members with unbounded ranks may enter.",
    "gate-shuts-keepers": "Members who may change the place may not enter it.",
    "held-behind-gate": "The gate keeps the member out, so the rank has no effect there.",
    "seeing-denied": "Members who may not see the place may act in it; set rules.seeing.",
    "deny-reaches-up": "A deny for an automatic rank also affects higher ranks.",
    "beats-exception": "The nearest place decides; the exception above ends here.",
    "drifted": "The place contradicts its section, perhaps by mistake.",
    "undecided": "No rank grants it and 'nobody' does not list it.",
    "needs-unmet": "The rank lacks what the capability needs; it has no effect.",
    "pending-worse": "Pending members may do less here than visitors.",
    "over-limit": "More members have the rank than its limit allows.",
    "contradictory": "The two assignments contradict each other.",
    "identity-twice": "Other programs cannot tell the two members apart.",
    "look-alike": "The names look alike; people may confuse them.",
    "title-twice": "Two of one name cannot be told apart in lists.",
    "unseen-character": "A name with a hidden character can pass for another.",
    "builds-on-unbounded": "builds-on does not pass on unbounded.",
    "builds-on-overrides": "builds-on does not pass on overrides.",
    "condition-void": "Every member meets the condition, or none does.",
    "joined-by-hand": "An edit by hand assigns no rank; a member added by command gets it.",
    "no-effect-unbounded": "Overrides do not apply to an unbounded rank.",
    "no-effect-repeated": "The place above says the same; later changes there will not apply here.",
    "no-effect-kind": "The capability does not apply in this place or below it.",
    "kind-misspelled": "No capability names this kind; many name a similar one.",
    "same-carried": "Both ranks grant the same and may drift apart by accident.",
    "unheld": "No member has this rank.",
    "never-starts": "The assignment ends before it starts and has no effect.",
    "ended": "The assignment has ended and has no effect.",
    "color-unreadable": "The colour is hard to read on light or dark backgrounds.",
    "color-alike": "The colours are too similar to tell apart.",
    "color-same": "Two ranks have the same colour.",
    "silent-unknown": "No advice has this code; the line has no effect.",
}
"""Every code, the gravest first, and in one sentence why it matters."""


class Piece(NamedTuple):
    """One piece of advice: ``what`` was found, ``why`` it matters, ``mend`` what helps, in words.

    ``commands`` mend it, to be typed; where people have to choose there is none.
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
    """Return the command that takes capabilities out of an entry; none where a word of it brings others too."""
    catalogue, covered, names = compiled.catalogue, 0, list[str]()
    for word in dict.fromkeys((*entry.allow, *entry.deny, *entry.bar)):
        # who is allowed something is allowed what it implies, and would lose that with it
        brought = catalogue.close(catalogue.expand(word)) if word in entry.allow else catalogue.expand(word)
        if brought and not brought & ~mask:
            covered |= brought
            names.append(word)
    return (to_entry(place, entry, f"--leave {','.join(names)}"),) if covered == mask else ()


class Sight:
    """A community at a moment, and what several kinds of advice need of it, worked out once.

    ``among`` are the members who are looked at one by one; all where it is not said. ``names`` says whether those of
    members are looked at: after a change of the charter alone they are the same.
    """

    def __init__(
        self, decider: Decider, at: Instant, among: Sequence[str] | None = None, *, names: bool = True
    ) -> None:
        self.decider, self.at, self.among = decider, at, among
        self.named: Mapping[str, Member] = decider.people.register.members if names else {}
        self.compiled: CompiledCharter = decider.compiled
        self.charter = self.compiled.charter
        self.register = decider.people.register

    @cached_property
    def asked(self) -> list[Asked]:
        """Someone asked as each rank."""
        return [ask_rank(self.compiled, rank) for rank in self.compiled.ranks]

    @cached_property
    def alike(self) -> list[tuple[Asked, list[str]]]:
        """One of each that are equal in all that counts here, and the keys of them all."""
        if self.among is not None:
            keys_here = [key for key in self.among if key in self.register.members]
            return [(self.decider.people.ask(key, self.at), [key]) for key in keys_here]
        return [*self.decider.alike(self.at)]

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
        """The positions of the ranks that grant each capability."""
        carried = self.compiled.carried
        return {
            key: [n for n, mask in enumerate(carried) if mask & bit] for key, bit in self.compiled.catalogue.bit.items()
        }

    @cached_property
    def holders(self) -> list[int]:
        """For how many members each rank is recorded now, the retired not counted."""
        counts = [0] * len(self.compiled.ranks)
        for asked, keys in self.alike:
            if not asked.is_retired:
                for rank in {holding.rank for holding in asked.recorded}:
                    counts[rank] += len(keys)
        return counts

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
        folded = self.decider.ready.alike().items()
        return sum(len(keys) for member_class, keys in folded if member_class.member.is_active)

    @cached_property
    def unbounded_members(self) -> set[str]:
        """The members who hold an unbounded rank on the whole site, and the owner."""
        unbounded = self.compiled.unbounded
        members = {self.charter.owner} if self.charter.owner else set()
        for asked, keys in self.alike if unbounded else ():
            if any(holding.rank in unbounded and holding.place == 0 for holding in asked.holdings):
                members.update(keys)
        return members

    def title(self, key: str) -> str:
        """Return what people call a rank, a group or a member."""
        for known in (self.charter.ranks, self.charter.groups):
            if key in known:
                return known[key].called
        member = self.register.members.get(key)
        return member.called if member else key

    def spoken(self, entry: Override) -> str:
        """Return whom an override or an exception is for."""
        return f"{self.title(entry.of)}{' and above' if entry.above else ''}"

    def at_place(self, place: Place) -> str:
        """Say where."""
        return in_place(self.compiled.named[place.key].called, site=place.parent is None)

    def acting(self, rank: Rank, act: Act) -> bool:
        """Whether a rank grants what an act takes."""
        if rank.unbounded:
            return True
        return bool(self.compiled.granted(rank) & self.compiled.catalogue.mask(self.charter.rules.act(act).using))

    @property
    def file(self) -> Where:
        """The charter as a whole."""
        return Where(self.compiled.ranks[0].where.file, 0, 0) if self.compiled.ranks else NOWHERE
