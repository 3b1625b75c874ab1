"""A community after a change answers as if it had just been opened; what was asked before does not linger."""

from __future__ import annotations

from typing import Any

import pytest

from ask_above import Community
from ask_above.charter.catalogue import Words
from ask_above.charter.places import Gate, GateTerm, Override
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
