"""What a change makes of a charter and a register, to the spot: where a rank or place stands, and what goes along."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from itertools import permutations, product
from pathlib import Path
from tempfile import mkdtemp
from typing import Any

import pytest

from ask_above import Community
from ask_above.change import (
    Assign,
    CharterAdd,
    CharterRemove,
    CharterSet,
    EditError,
    GroupRename,
    HandOver,
    MemberAdd,
    MemberGroups,
    MemberSet,
    PlaceMove,
    PlaceRename,
    RankAdd,
    RankMove,
    RankRemove,
    Say,
    Unassign,
)
from ask_above.change.importing import ImportAssignments
from ask_above.change.telling import sentences
from ask_above.files.csv_rows import read_rows
from ask_above.people.reading import ASSIGNMENT_COLUMNS
from conftest import DEMO
from small import community, held, member, rank, texts

Kept = Callable[..., Community]


@pytest.fixture
def valley(tmp_path: Path) -> Path:
    folder = tmp_path / "valley"
    shutil.copytree(DEMO, folder)
    return folder


@pytest.fixture
def kept(tmp_path: Path) -> Kept:
    """Make a small community that is kept in a folder."""

    def make(*ranks: dict[str, Any], **charter: Any) -> Community:
        folder = Path(mkdtemp(dir=tmp_path))
        for name, text in texts(*ranks, **charter).items():
            (folder / name).write_text(text, "utf-8")
        return Community.open(folder)

    return make


class TestWhereThingsStand:
    def test_a_rank_moves_to_just_where_it_is_said(self, kept: Kept) -> None:
        here = kept(*(rank(key) for key in "abcd"), rank("everyone", held_by="members"))
        for key, other in permutations("abcd", 2):
            rest = [each for each in "abcd" if each != key]
            at = rest.index(other)
            above = here.plan(RankMove(key, above=other)).after.charter
            below = here.plan(RankMove(key, below=other)).after.charter
            assert [*above.ranks][:4] == [*rest[:at], key, *rest[at:]]
            assert [*below.ranks][:4] == [*rest[: at + 1], key, *rest[at + 1 :]]

    @pytest.mark.slow
    def test_a_place_moves_to_the_end_of_where_it_goes_its_own_section_too(self, valley: Path) -> None:
        here = Community.open(valley)
        places = here.charter.places
        inside = {key: [each for each in places if places[each].parent == key] for key in places}
        for key, into in product([*inside["commons"], *inside["journal"]], ["commons", "journal", "site"]):
            after = here.plan(PlaceMove(key, into, keep=True)).after.charter.places
            was = [each for each in inside[into] if each != key]
            assert [each for each in after if after[each].parent == into] == [*was, key]


class TestWhatGoesAlong:
    def test_a_rank_is_removed_with_all_that_names_it(self, kept: Kept) -> None:
        here = kept(
            rank("chief", "member.mute", moderates={"only": ["helper", "guest"]}),
            rank("helper", "post.write"),
            rank("guest"),
            rank("everyone", "place.see", held_by="members"),
            groups=[{"key": "team", "confers": ["helper", {"rank": "guest", "place": "yard"}]}, {"key": "two"}],
            places=[
                {
                    "key": "yard",
                    "kind": "board",
                    "overrides": {"helper": {"deny": ["post.write"]}, "guest": {"allow": ["post.write"]}},
                }
            ],
            members=[member("tom", groups="team")],
            assignments=[held("tom", "helper")],
        )
        charter = here.plan(RankRemove("helper")).after.charter
        assert "helper" not in charter.ranks
        assert [each.rank for each in charter.groups["team"].confers] == ["guest"]
        assert charter.ranks["chief"].lists["moderate"].only == frozenset({"guest"})
        assert [each.label for each in charter.places["yard"].overrides] == ["guest"]

    def test_a_rank_that_entries_start_at_is_not_removed(self, kept: Kept) -> None:
        here = kept(
            rank("helper"),
            rank("everyone", "place.see", held_by="members"),
            places=[{"key": "yard", "kind": "board", "overrides": {"helper+": {"allow": ["post.write"]}}}],
        )
        with pytest.raises(EditError, match="Entries for helper\\+ start at this rank"):
            here.plan(RankRemove("helper"))

    def test_an_expectation_names_a_renamed_place_anew_and_keeps_a_rank_of_that_name(self, kept: Kept) -> None:
        here = kept(
            rank("yard", "post.write"),
            rank("everyone", "place.see", held_by="members"),
            places=[{"key": "yard", "kind": "board"}],
            expectations=["yard may post.write in yard"],
        )
        after = here.plan(PlaceRename("yard", new_key="court")).after
        assert [str(each) for each in after.charter.expectations] == ["yard may post.write in court"]

    def test_a_group_of_another_name_is_that_in_every_member_and_keeps_the_others(self, kept: Kept) -> None:
        here = kept(
            rank("everyone", "place.see", held_by="members"),
            groups=[{"key": "one"}, {"key": "two"}],
            members=[member("tom", groups="one; two"), member("tim", groups="two")],
        )
        members = here.plan(GroupRename("two", new_key="second")).after.register.members
        assert (members["tom"].groups, members["tim"].groups) == (("one", "second"), ("second",))

    def test_an_assignment_that_is_there_is_not_taken_over_again(self, kept: Kept) -> None:
        here = kept(
            rank("helper"),
            rank("worker"),
            rank("everyone", "place.see", held_by="members"),
            members=[member("tom")],
            assignments=[held("tom", "worker"), held("tom", "helper", since="2026-01-01")],
        )
        text = b"member,rank,place,from\ntom,worker,,\ntom,helper,,2026-01-01\ntom,helper,,2026-02-01\n"
        rows = read_rows("a.csv", text, ASSIGNMENT_COLUMNS, ())
        plan = here.plan(ImportAssignments(rows))
        assert plan.what == "import a.csv: 1 new assignment"


class TestWhatIsSaid:
    def test_a_rank_that_is_new_or_gone_is_called_by_its_title(self, kept: Kept) -> None:
        here = kept(
            rank("helper", "post.write"),
            rank("everyone", "place.see", held_by="members"),
            members=[member("tom")],
            assignments=[held("tom", "helper")],
        )
        gone = here.plan(RankRemove("helper"))
        assert "Unassign Helper from Tom on the whole site" in sentences(gone.difference)
        new = here.plan(RankAdd("scribe", {"title": "Scribe of the day"}), Assign("tom", "scribe"))
        assert "Assign Scribe of the day to Tom on the whole site" in sentences(new.difference)

    def test_what_is_not_held_there_is_said_with_where_it_is(self, kept: Kept) -> None:
        here = kept(
            rank("helper"),
            rank("aide"),
            rank("everyone", "place.see", held_by="members"),
            members=[member("tom")],
            assignments=[held("tom", "helper", "yard"), held("tom", "aide", "hall")],
        )
        with pytest.raises(EditError, match=r"They have it at: yard$"):
            here.plan(Unassign("tom", "helper"))

    @pytest.mark.parametrize(("status", "said"), [("active", "add Ulla (active)"), ("invited", "invite Ulla")])
    def test_somebody_new_is_added_or_invited(self, kept: Kept, status: str, said: str) -> None:
        here = kept(rank("everyone", "place.see", held_by="members"))
        assert here.plan(MemberAdd("ulla", {"name": "Ulla", "email": "u@wren.example"}, status)).what == said


class TestWithinReach:
    """Who has it at one place alone has it not for the site; nor does one's own key make another's record one's own."""

    @pytest.fixture
    def local(self, kept: Kept) -> Community:
        return kept(
            rank("boss", unbounded="true"),
            rank("warden", "rank.manage", "rank.assign", "member.mute", "post.write"),
            rank("helper", "post.write"),
            rank("everyone", "place.see", held_by="members"),
            owner="zoe",
            rules={
                "authority": {
                    "moderate": {"using": ["member.mute"]},
                    "assign": {"using": "rank.assign"},
                    "manage": {"using": "rank.manage"},
                },
                "accounts": {"using": "member.mute"},
            },
            bundles={"pack": ["post.write"]},
            groups=[{"key": "team"}],
            members=[member("zoe"), member("ann"), member("lea"), member("tom"), member("pia", groups="team")],
            assignments=[held("zoe", "boss"), held("lea", "warden", "yard"), held("tom", "warden")],
        )

    @pytest.mark.parametrize(
        "edit", [RankAdd("aide", {"grants": ["post.write"]}, below="helper"), CharterSet("bundles.pack", ["place.see"])]
    )
    def test_ranks_and_bundles_are_the_whole_sites(self, local: Community, edit: RankAdd | CharterSet) -> None:
        assert local.plan(edit, by="lea").refusals
        assert not local.plan(edit, by="tom").refusals

    @pytest.mark.parametrize(("field", "own"), [("name", True), ("phone", True), ("email", False)])
    def test_ones_own_name_is_ones_own_and_no_others(self, local: Community, field: str, own: bool) -> None:
        for actor, target in product(["ann", "lea"], ["ann", "lea", "zoe"]):
            refused = local.plan(MemberSet(target, {field: "u@wren.example"}), by=actor).refusals
            assert bool(refused) is not (own and actor == target)

    def test_one_may_leave_a_group_and_not_join_one(self, local: Community) -> None:
        assert not local.plan(MemberGroups("pia", take=["team"]), by="pia").refusals
        assert local.plan(MemberGroups("ann", put=["team"]), by="ann").refusals


def test_a_capability_of_a_set_is_the_right_of_every_place_that_is_like_it(kept: Kept) -> None:
    """Who changes a bundle needs to be allowed to change what is said wherever a set with it holds (rule 6.10)."""
    here = kept(
        rank("boss", unbounded="true"),
        rank("warden", "rank.manage", "post.write"),
        rank("everyone", "place.see", held_by="members"),
        owner="zoe",
        rules={"authority": {"manage": {"using": "rank.manage"}}, "overrides": {"using": "rank.call"}},
        bundles={"pack": ["post.write"], "spare": ["post.write"]},
        override_sets={"quiet": {"everyone": {"deny": ["pack"]}}},
        places=[
            {"key": "yard", "kind": "board", "like": ["quiet"]},
            {"key": "hall", "kind": "board", "overrides": {"everyone": {"deny": ["post.pin"]}}},
        ],
        members=[member("zoe"), member("tom")],
        assignments=[held("zoe", "boss"), held("tom", "warden")],
    )
    assert here.plan(CharterSet("bundles.pack", ["place.see"]), by="tom").refusals
    assert not here.plan(CharterSet("bundles.spare", ["place.see"]), by="tom").refusals


def test_what_is_said_of_one_member_stays_beside_what_is_said_of_another(valley: Path) -> None:
    here = Community.open(valley)
    edits = [Say("rota", who, word, ["place.pin"], True) for who, word in (("tove", "deny"), ("ada", "allow"))]
    said = here.plan(*edits).after.charter.places["rota"].exceptions
    assert {each.label: (*each.allow, *each.deny) for each in said} == {"tove": ("place.pin",), "ada": ("place.pin",)}
    assert [each.label for each in said if each.allow] == ["ada"]


class TestWordsWithinReach:
    """Rule 9.7: what is said of ranks that nobody holds is held to what its author holds there."""

    @pytest.fixture
    def worded(self, kept: Kept) -> Community:
        return kept(
            rank("boss", unbounded="true"),
            rank("warden", "rank.call", "post.write"),
            rank("helper"),
            rank("everyone", "place.see", held_by="members"),
            owner="zoe",
            rules={"overrides": {"using": "rank.call", "over": "below"}},
            override_sets={"quiet": {"helper": {"deny": ["post.write"]}}},
            places=[
                {"key": "yard", "kind": "board", "overrides": {"helper": {"deny": ["post.pin"]}}},
                {"key": "hall", "kind": "board", "overrides": {"helper": {"bar": ["post.pin"]}}},
            ],
            members=[member("zoe"), member("lea")],
            assignments=[held("zoe", "boss"), held("lea", "warden")],
        )

    @pytest.mark.parametrize(
        ("edit", "said"),
        [
            (Say("yard", "helper", "clear"), "no longer take"),
            (Say("hall", "helper", "clear"), "no longer take"),
            (Say("yard", "helper", "allow", ["post.pin"]), "give"),
            (Say("yard", "helper", "allow", ["post.write"]), ""),
            (Say("yard", "helper", "bar", ["post.publish"]), ""),
        ],
    )
    def test_what_its_author_does_not_hold_is_neither_given_nor_freed(
        self, worded: Community, edit: Say, said: str
    ) -> None:
        found = [each for each in worded.plan(edit, by="lea").refusals if each.rule == "9.7e"]
        assert bool(found) is bool(said)
        assert all(f"would {said} post.pin" in each.why for each in found)
        assert not worded.plan(edit, by="zoe").refusals

    @pytest.mark.parametrize(("named", "refused"), [("helper", False), ("warden", True), ("boss", True)])
    def test_a_set_names_only_who_stands_below(self, worded: Community, named: str, *, refused: bool) -> None:
        edit = CharterSet("override-sets.quiet", {named: {"deny": ["place.see"]}})
        assert ("9.7c" in {each.rule for each in worded.plan(edit, by="lea").refusals}) is refused


@pytest.mark.parametrize(("one", "refused"), [("2027-01-01", False), ("2026-12-31", False), ("2027-01-02", True)])
def test_what_a_rank_comes_after_has_begun_when_it_begins(kept: Kept, one: str, *, refused: bool) -> None:
    here = kept(
        rank("second", "post.write", after=["first"]),
        rank("first", "post.write"),
        rank("everyone", "place.see", held_by="members"),
        owner="zoe",
        members=[member("zoe"), member("tom")],
        assignments=[held("tom", "first", since=one)],
    )
    plan = here.plan(Assign("tom", "second", since="2027-01-01"), by="zoe")
    assert bool(plan.refusals) is refused


def test_a_list_that_is_not_there_yet_is_made_as_a_list_and_what_is_removed_is_all_that_is(kept: Kept) -> None:
    here = kept(rank("everyone", "place.see", held_by="members"), bundles={"one": ["place.see"], "two": ["post.write"]})
    after = here.plan(CharterAdd("expectations", "everyone may place.see in yard")).after.charter
    assert [str(each) for each in after.expectations] == ["everyone may place.see in yard"]
    assert [*here.plan(CharterRemove("bundles.one")).after.charter.catalogue.bundles] == ["two"]


@pytest.mark.parametrize("moderating", [True, False])
def test_whoever_takes_over_manages_ranks_on_the_whole_site_alone_and_moderates_with_nothing_too(
    *, moderating: bool
) -> None:
    rules = {"authority": {"moderate": {"using": "member.mute"}}} if moderating else {}
    c = community(rank("step", "post.write"), members=[member("ines"), member("bo")], owner="ines", rules=rules)
    may = {shift.act: shift for shift in c.plan(HandOver("bo")).effect.acts if shift.actors == ("bo",) and shift.gains}
    assert (may["manage"].targets, may["manage"].places) == (("step",), ("site",))
    assert may["moderate"].targets == ("none", "step")
    assert may["moderate"].using == (("member.mute",) if moderating else ())
    assert len(may["moderate"].places) == len(c.charter.places)
