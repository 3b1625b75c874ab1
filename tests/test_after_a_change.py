"""A community after a change answers as if it had just been opened; what was asked before does not linger."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from datetime import UTC, datetime
from itertools import product
from random import Random
from typing import Any

import pytest

from ask_above import AskAboveError, Community
from ask_above.bulk.table import Sweep
from ask_above.change import Assign, Edit, Grant, MemberStatus
from ask_above.charter.catalogue import Words
from ask_above.charter.places import Gate, GateTerm, Override
from conftest import Place
from generated import Generated, generate
from random_changes import several_edits
from seeds import seeds
from small import community, held, member, place, rank


@pytest.fixture
def warm() -> Community:
    """A place in a place, two members, every question asked once."""
    c = community(
        rank("w", "post.write", "post.pin", "member.mute"),
        rank("v", "post.write"),
        rank("everyone", "place.see", held_by="members"),
        members=[member("ada"), member("bo"), member("cy")],
        assignments=[held("ada", "w"), held("bo", "v")],
        places=[place("outer", places=[place("inner")]), place("other")],
    )
    ask(c)
    return c


def ask(c: Community) -> dict[tuple[str, str, str], bool]:
    """All answers, asked twice: the second time they are at hand."""
    questions = [
        (who, what, where)
        for who in ("ada", "bo", "cy", "rank:w", "visitor")
        for what in ("place.see", "post.write", "post.pin")
        for where in c.charter.places
    ]
    for who, what, where in questions:
        c.may(who, what, at=where)
    return {each: c.may(each[0], each[1], at=each[2]).allowed for each in questions}


def changed(c: Community, key: str, **fields: Any) -> Community:
    places = {**c.charter.places, key: c.charter.places[key]._replace(**fields)}
    return c.after(charter=c.charter._replace(places=places))


DENY = (Override("w", deny=Words(("post.write",))),)
CHANGES: dict[str, tuple[str, dict[str, Any]]] = {
    "an override": ("outer", {"overrides": DENY}),
    "an override further in": ("inner", {"overrides": DENY}),
    "one for the whole site": ("site", {"overrides": DENY}),
    "an exception": ("outer", {"exceptions": (Override("bo", allow=Words(("post.pin",))),)}),
    "a gate": ("outer", {"gate": Gate(any=(GateTerm("w"),))}),
    "a gate further in": ("inner", {"gate": Gate(none=(GateTerm("v"),))}),
}


@pytest.mark.parametrize("what", CHANGES)
def test_what_a_place_says_counts_at_once_there_and_below_and_nowhere_else(warm: Community, what: str) -> None:
    key, fields = CHANGES[what]
    before = ask(warm)
    after = changed(warm, key, **fields)
    answers = ask(after)
    assert answers == ask(Community(after.charter, after.register))
    assert answers != before
    touched = {each[2] for each, yes in answers.items() if before[each] is not yes}
    below = {"outer": {"outer", "inner"}, "inner": {"inner"}, "site": set(after.charter.places)}[key]
    assert touched <= below
    assert ask(warm) == before
    # and back again: nothing of the change is left
    assert ask(changed(after, key, **{name: getattr(warm.charter.places[key], name) for name in fields})) == before


def test_a_change_of_one_place_leaves_what_another_change_made(warm: Community) -> None:
    one = changed(warm, "outer", overrides=DENY)
    ask(one)
    both = changed(one, "other", overrides=DENY)
    assert not both.may("ada", "post.write", at="inner")
    assert not both.may("ada", "post.write", at="other")
    assert one.may("ada", "post.write", at="other")


class TestAskedTwice:
    """A question asked again gives what it would give if it had never been asked: after any change, at any moment."""

    @pytest.mark.parametrize("seed", seeds(3))
    @pytest.mark.slow
    def test_after_changes_of_every_kind(self, brook: Place, seed: int) -> None:
        rng, c = Random(seed), brook.open()
        asked = [*self.questions(c, rng, 120)]
        for question in asked:
            self.answer(c, question)
        tried = 0
        while tried < 12:
            try:
                plan = c.plan(*several_edits(rng, c))
            except AskAboveError:
                continue
            tried += 1
            after = c.after(charter=plan.after.charter, register=plan.after.register)
            fresh = Community(plan.after.charter, plan.after.register)
            for question in asked:
                wanted = self.answer(fresh, question)
                assert [self.answer(after, question) for _ in range(2)] == [wanted] * 2, question
        assert [self.answer(c, question) for question in asked] == [self.answer(brook.open(), q) for q in asked]

    @pytest.mark.parametrize("seed", seeds(3))
    def test_at_every_edge_of_a_period_whichever_way_the_clock_goes(
        self, seed: int, monkeypatch: pytest.MonkeyPatch
    ) -> None:
        rng, asked = Random(seed), list[Any]()
        while not asked:
            c = generate(rng).open()
            moments = self.around_edges(c)
            everything = product(
                {each.member for each in c.register.assignments}, c.charter.catalogue.keys, c.charter.places
            )
            asked = [(*each, None) for each in everything if self.turns(c, each, moments)]
        asked = rng.sample(asked, min(len(asked), 12))
        for moment in [*moments, *reversed(moments), *rng.sample(moments, len(moments))]:
            monkeypatch.setattr("ask_above.community.time", lambda moment=moment: moment / 1e6)
            when, fresh = datetime.fromtimestamp(moment / 1e6, UTC), Community(c.charter, c.register)
            for question in asked:
                wanted = self.answer(fresh, question, when)
                assert [self.answer(c, question) for _ in range(2)] == [wanted] * 2, (question, when)
                assert [self.answer(c, question, when) for _ in range(2)] == [wanted] * 2, (question, when)

    def around_edges(self, c: Community) -> list[int]:
        """The microseconds at which a period starts or ends, with the one before and the one after."""
        periods = [given.period for given in c.register.assignments]
        edges = {edge for period in periods for edge in (period.start, period.end) if edge is not None}
        return [edge + step for edge in sorted(edges) for step in (-1, 0, 1)]

    def turns(self, c: Community, question: tuple[str, str, str], moments: list[int]) -> bool:
        """Whether the answer is now yes, now no."""
        who, capability, at = question
        return (
            len(
                {
                    c.decider.may(c.decider.asked(who, moment), capability, c.names.place_number(at)).allowed
                    for moment in moments
                }
            )
            > 1
        )

    def questions(self, c: Community, rng: Random, count: int) -> Iterator[tuple[Any, str, str, str | None]]:
        """Anybody, by key, as themselves or as a rank; a capability by its full name or what it is short for."""
        catalogue, members = c.charter.catalogue, c.register.members
        who = ["visitor", *members, *members.values(), *(f"rank:{key}" for key in c.charter.ranks)]
        for _ in range(count):
            capability = rng.choice([*catalogue.keys, *catalogue.pairs])
            yield rng.choice(who), capability, rng.choice([*c.charter.places]), rng.choice([None, *members])

    def answer(self, c: Community, question: tuple[Any, str, str, str | None], when: datetime | None = None) -> Any:
        """Yes or no with its reason, or what is wrong with the question."""
        who, capability, at, author = question
        try:
            answer = c.may(who, capability, at=at, author=author, when=when)
        except AskAboveError as wrong:
            return type(wrong)
        return answer.allowed, answer.reason

    def test_the_table_of_answers_is_bounded(self, warm: Community, monkeypatch: pytest.MonkeyPatch) -> None:
        monkeypatch.setattr("ask_above.decide.again.MOST_KEPT", 4)
        c, asked = Community(warm.charter, warm.register), ask(warm)
        for question, wanted in [*asked.items(), *asked.items()]:
            who, what, where = question
            assert c.may(who, what, at=where).allowed is wanted
            assert len(c._of_now.stretch[2]) <= 4


class TestTheWayToAnAnswer:
    def test_what_a_rank_withholds_is_told_where_it_matters_alone(self) -> None:
        c = community(
            {**rank("w", "post.write", "post.pin"), "withhold": ["post.publish", "post.pin"]},
            members=[member("ada")],
            assignments=[held("ada", "w")],
        )
        steps = c.may("ada", "post.publish").steps
        said = [step.text for step in steps if step.code == "withheld"]
        assert len(said) == 1
        assert "post.publish" in said[0]
        assert "post.pin" not in said[0]
        assert not [step for step in c.may("ada", "post.write").steps if step.code == "withheld"]

    def test_that_no_rank_carries_it_is_told_where_none_does(self) -> None:
        c = community(rank("w", "post.write"), members=[member("ada")], assignments=[held("ada", "w")])
        codes = {name: [step.code for step in c.may("ada", name).steps] for name in ("post.write", "member.mute")}
        assert "not-carried" in codes["member.mute"]
        assert "not-carried" not in codes["post.write"]
        assert "not-carried" not in [step.code for step in c.may("rank:w", "post.write").steps]


class TestTheSameTurnsAgain:
    """People come and go under one charter: what they gain and lose is that of whoever plans it for the first time."""

    @pytest.mark.parametrize("seed", seeds(4))
    def test_what_was_planned_before_changes_no_effect(self, seed: int) -> None:
        rng = Random(seed)
        assert sum(self.agreeing(rng, generate(rng)) for _ in range(4))

    def agreeing(self, rng: Random, made: Generated) -> int:
        """Plan changes of members twice over, beside those in a community of its own; count what turns anything."""
        c, texts = made.open(), made.texts()
        states, ranks = ["active", "locked", "retired"], [*c.charter.ranks]
        moves: list[Edit] = [MemberStatus(m, state) for m in c.register.members for state in states]
        moves += [Assign(m, rng.choice(ranks), rng.choice([*c.charter.places])) for m in c.register.members]
        planned = 0
        for edit in rng.sample(moves, len(moves)) * 2:
            with suppress(AskAboveError):
                effect, fresh = c.plan(edit).effect, Community.from_texts(texts).plan(edit).effect
                assert [*effect.rows()] == [*fresh.rows()], edit
                planned += bool(effect.shifts)
        return planned

    def test_they_are_worked_out_once(self, warm: Community, monkeypatch: pytest.MonkeyPatch) -> None:
        edits: list[Edit] = [MemberStatus("bo", "locked"), Assign("bo", "w")]
        effects = [[*warm.plan(edit).effect.rows()] for edit in edits]
        monkeypatch.setattr(Sweep, "write", None)
        assert [[*warm.plan(edit).effect.rows()] for edit in edits] == effects
        monkeypatch.undo()
        changed = warm.plan(Grant("v", ["post.pin"]))
        assert changed.effect.shifts
        changed.apply()
        after = warm.again()
        monkeypatch.setattr(Sweep, "write", None)
        with pytest.raises(TypeError):
            _ = after.plan(edits[0]).effect.shifts
