"""What the words of places may say: whom they name (rule 9.7c), and what they give (rule 9.7e)."""

from __future__ import annotations

from collections.abc import Iterator
from functools import cached_property
from typing import NamedTuple

from ask_above.change.parts import Kind, entries
from ask_above.change.refusal import Refusal
from ask_above.change.turns import Spot, Turns
from ask_above.charter.charter import Charter
from ask_above.charter.names import upper
from ask_above.charter.rules import ActRule, Over
from ask_above.decide.profile import Asked, ask_anybody, ask_member, ask_rank
from ask_above.decide.walk import standing
from ask_above.people.register import Member


class HolderWords(NamedTuple):
    """What a place says for one holder: what its words give, deny and bar, bundles and patterns worked out."""

    gives: int = 0
    denies: int = 0
    bars: int = 0


class OverrideEffect:
    """What a change says at places, and what of it is out of an actor's reach."""

    def __init__(self, turns: Turns) -> None:
        self.turns, self.old, self.new = turns, turns.old, turns.new

    @cached_property
    def _said(self) -> list[tuple[Spot, dict[str, tuple[HolderWords, HolderWords]]]]:
        """Return for each spot what its words are, before and after, by holder, where they differ."""
        parts = self.turns.difference.parts
        anywhere = any(part.kind in (Kind.SET, Kind.BUNDLE) for part in parts)
        places = {part.key for part in parts if part.kind is Kind.PLACE}
        differing = []
        for spot in self.turns.spots if anywhere or places else ():
            key = (self.old if spot.gone else self.new).compiled.places[spot.before if spot.gone else spot.after].key
            # a place of which nothing differs says what it said, unless something that it names is said anew
            if not anywhere and key not in places:
                continue
            before = words_at(self.old.compiled.charter, key)
            after = {} if spot.gone else words_at(self.new.compiled.charter, key)
            differ = {
                label: (before.get(label, HolderWords()), after.get(label, HolderWords()))
                for label in dict.fromkeys((*after, *before))
                if before.get(label) != after.get(label)
            }
            if differ:
                differing.append((spot, differ))
        return differing

    def gives(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield words that give, or take no more, what the actor does not hold at their place (rule 9.7e)."""
        members = self.new.people.register.members
        for spot, differ in self._said:
            gated, ungated = (self.turns.own(actor, spot.before, gated=each).mask for each in (True, False))
            for label, (before, after) in differ.items():
                if label.startswith("@") and label[1:] not in members and after != HolderWords():
                    sentence = f"An exception for {label[1:]}, who is not in the register, is the owner's to write."
                    yield Refusal("9.7e", sentence)
                given = after.gives & ~before.gives
                freed = before.denies & ~after.denies | before.bars & ~after.bars
                beyond = (given | freed) & ~(gated & ungated)
                if rule.hand_on == "held" and beyond:
                    verb = "give" if given & beyond else "no longer take"
                    sentence = f"{upper(self.turns.at(spot))} words for {label} would {verb} {self.turns.some(beyond)}"
                    yield Refusal("9.7e", f"{sentence}, which {actor.label} does not hold there.")

    def names(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield those whom words name and who do not stand below the actor (rule 9.7c)."""
        if rule.over is Over.ANYONE:
            return
        yield from self._named_in_sets(actor, rule)
        for spot, differ in self._said:
            for label, (before, after) in differ.items():
                if label.endswith("+"):
                    yield from self._ranging(actor, rule, spot, label[:-1], (before, after))
                    continue
                named = self._holder(label)
                if named is not None and not self.turns.below(actor, rule, named, spot.before):
                    said = f"What is said {self.turns.at(spot)} names {named.label}"
                    yield Refusal("9.7c", f"{said}, who does not stand below {actor.label} there.")

    def _named_in_sets(self, actor: Asked, rule: ActRule) -> Iterator[Refusal]:
        """Yield those whom override sets name, wherever these speak, and who do not stand below on the whole site."""
        for part in self.turns.difference.parts:
            if part.kind is not Kind.SET or part.field == "key":
                continue
            one, two = (
                entries(() if each is None else getattr(each, "overrides", each)) for each in (part.before, part.after)
            )
            for label in dict.fromkeys((*two, *one)):
                named = None if one.get(label) == two.get(label) or label.endswith("+") else self._holder(label)
                if named is not None and not self.turns.below(actor, rule, named, 0):
                    yield Refusal(
                        "9.7c", f"The set {part.key} names {named.label}, who does not stand below {actor.label}."
                    )

    def _holder(self, label: str) -> Asked | None:
        """Return whom a word speaks of, as they stood before; ``None`` for what was not there."""
        compiled, people = self.old.compiled, self.old.people
        if label.startswith("@"):
            known = label[1:] in people.register.members
            return people.ask(label[1:], self.turns.now) if known else ask_anybody(compiled)
        if label in compiled.charter.ranks:
            return ask_rank(compiled, compiled.charter.ranks[label])
        if label in compiled.charter.groups:
            group = compiled.charter.groups[label]
            asked = ask_member(compiled, Member("", groups=(label,)), [], self.turns.now, excepted=False)
            return asked._replace(label=f"somebody in {group.title or label}")
        return None

    def _ranging(
        self, actor: Asked, rule: ActRule, spot: Spot, rank: str, both: tuple[HolderWords, HolderWords]
    ) -> Iterator[Refusal]:
        """Yield who is covered by a range, gains or loses by it, and does not stand below."""
        before, after = both
        mask = (before.gives ^ after.gives) | (before.denies ^ after.denies) | (before.bars ^ after.bars)
        compiled, last = self.old.compiled, self.old.compiled.rank_at.get(rank)
        for turn in self.turns.all if last is not None else ():
            if turn.spot != spot or not (turn.gained | turn.lost) & mask:
                continue
            for subject in self.turns.of(turn.pairs):
                covered = standing(compiled, self.turns.subjects.pairs[subject.pair][0], spot.before) <= (last or 0)
                if subject.joined or not covered or not subject.loses or subject.new:
                    continue
                if not self.turns.below(actor, rule, subject.asked, spot.before):
                    words, who = f"{rank}+ {self.turns.at(spot)} speaks of", self.turns.other(subject, actor)
                    if subject.keys == (actor.key,):
                        yield Refusal(
                            "9.7c",
                            f"{words} {who} too, and nobody says such of themselves: name the ranks below one by one.",
                        )
                    else:
                        yield Refusal("9.7c", f"{words} {who}, who does not stand below {actor.label} there.")
                    return


def words_at(charter: Charter, place: str) -> dict[str, HolderWords]:
    """Return what a place says of whom, by its own entries, its exceptions and the sets it is like (rule 9.7e)."""
    here, catalogue = charter.places.get(place), charter.catalogue
    words: dict[str, HolderWords] = {}
    if here is None:
        return words
    entries = [(override.label, override) for override in here.overrides]
    entries += [(override.label, override) for key in here.like for override in charter.override_sets[key].overrides]
    entries += [(f"@{exception.of}", exception) for exception in here.exceptions]
    for label, entry in entries:
        known = words.get(label, HolderWords())
        said = known.gives | known.denies  # the first that says something of a capability is the word; bars add up
        words[label] = HolderWords(
            known.gives | catalogue.close(catalogue.expand_all(entry.allow)) & ~said,
            known.denies | catalogue.expand_all(entry.deny) & ~said,
            known.bars | catalogue.expand_all(entry.bar),
        )
    return words
