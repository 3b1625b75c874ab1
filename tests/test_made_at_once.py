"""What takes one command: a place with all in it, a member with a rank, every rank of somebody, one perk."""

from __future__ import annotations

import csv
from email import message_from_string, policy
from pathlib import Path
from random import Random

import pytest

from ask_above import Community, EditError
from ask_above.change import PlaceCopy, RankSet
from ask_above.decide.profile import ask_rank
from commands import run
from conftest import DEMO, Place
from generated import generate
from seeds import seeds
from small import community, held, member, rank, texts


class TestACopyOfAPlace:
    @pytest.mark.parametrize("seed", seeds(12))
    def test_says_what_the_place_says_and_so_does_all_in_it(self, tmp_path: Path, seed: int) -> None:
        for name, text in generate(Random(seed)).texts().items():
            (tmp_path / name).write_text(text)
        c = Community.open(tmp_path)
        for key in [key for key in c.charter.places if key != "site"]:
            plan = c.plan(PlaceCopy(key, "anew"))
            compiled = plan.after.decider.compiled
            below = [compiled.places[n].key for n in compiled.below[compiled.place_at[key]]]
            copied = {each: "anew" if each == key else f"anew-{each}" for each in below}
            assert set(copied.values()) <= set(compiled.place_at)
            decider, ranks = plan.after.decider, range(len(compiled.ranks))
            for old, new in copied.items():
                at, there = compiled.place_at[old], compiled.place_at[new]
                for n in ranks:  # who holds a rank for the old place alone is no holder at the new one
                    asked = ask_rank(compiled, compiled.ranks[n])
                    assert decider.usable(asked, at) == decider.usable(asked, there), (key, old, compiled.ranks[n].key)

    @pytest.mark.slow
    def test_is_made_by_its_title_and_can_be_undone(self, brook: Place) -> None:
        before = brook.charter
        done = run("place", "copy", "alder-mouth", "Lower Alder", "--into", "field", "--yes", cwd=brook.folder)
        assert done.returncode == 0, done.stderr
        c = brook.open()
        assert c.place("lower-alder").parent == "field"
        assert c.place("lower-alder-alder-board").title == c.place("alder-board").title
        assert not [given for given in c.register.assignments if given.place.startswith("lower-alder")]
        # told apart by their sections
        shown = run("may", "dara", "post.write", "--at", "lower-alder-alder-board", cwd=brook.folder).stdout
        assert "Alder board (Lower Alder)" in shown
        assert run("undo", "--yes", cwd=brook.folder).returncode == 0
        assert brook.charter == before

    def test_needs_a_key_that_is_free_and_is_none_of_the_site(self, brook: Place) -> None:
        c = brook.open()
        for edit, words in (
            (PlaceCopy("commons", "field"), "There is a place 'field' already"),
            (PlaceCopy("site", "other"), "cannot be copied"),
            (PlaceCopy("commons", "other", None, {"kind": "board"}), "has the kind"),
        ):
            with pytest.raises(EditError, match=words):
                c.plan(edit)


class TestTitlesThatSeveralPlacesHave:
    def test_are_told_with_their_section_wherever_they_are_told(self) -> None:
        chat = {"title": "Chat", "kind": "board"}
        c = community(
            rank("w", "post.write", "place.see"),
            members=[member("ada")],
            assignments=[held("ada", "w", "a")],
            places=[
                {"key": "north", "title": "North", "kind": "section", "places": [{"key": "a", **chat}]},
                {"key": "south", "title": "South", "kind": "section", "places": [{"key": "b", **chat}]},
                {"key": "c", **chat},
            ],
        )
        titles = [place.called for place in c.decider.compiled.places[1:]]
        assert titles == ["North", "Chat (North)", "South", "Chat (South)", "Chat (c)"]
        assert "in Chat (North)" in str(c.may("ada", "post.write", at="a"))
        assert "in Chat (South)" in c.may("ada", "post.write", at="b").account.sentence
        assert "Chat (North)" in c.describe("w").text
        assert [c.place(key).title for key in "abc"] == ["Chat"] * 3
        # a change of one title changes what tells the others apart
        places = {**c.charter.places, "b": c.charter.places["b"]._replace(title="Talk")}
        after = c.after(charter=c.charter._replace(places=places))
        assert [place.called for place in after.decider.compiled.places[1:]] == [
            "North", "Chat (North)", "South", "Talk", "Chat (c)"
        ]  # fmt: skip


class TestARankGivenAtOnce:
    @pytest.mark.parametrize("words", [("add", "ida", "Ida Reed"), ("invite", "ida", "Ida Reed", "ida@river.example")])
    def test_with_a_new_member_where_and_until_when(self, brook: Place, words: tuple[str, ...]) -> None:
        given = ("--rank", "host", "--at", "river-talk", "--until", "2097-03-31")
        done = run("member", *words, *given, "--yes", cwd=brook.folder)
        assert done.returncode == 0, done.stderr
        c = brook.open()
        (one,) = [each for each in c.register.of("ida") if each.rank == "host"]
        assert (one.place, one.period.said_until) == ("river-talk", "2097-03-31")
        assert len(c.journal()) == 2  # taken over from the files, and this

    def test_with_letting_somebody_in(self, brook: Place) -> None:
        assert (
            run("member", "vouch", "lena", "--rank", "host", "in", "commons", "--yes", cwd=brook.folder).returncode == 0
        )
        c = brook.open()
        assert c.member("lena").is_active
        assert [each.place for each in c.register.of("lena") if each.rank == "host"] == ["commons"]

    def test_where_and_until_when_say_nothing_without_a_rank(self, brook: Place) -> None:
        done = run("member", "add", "ida", "--at", "river-talk", "--plan", cwd=brook.folder)
        assert done.returncode == 2
        assert "Which rank?" in done.stderr


class TestEveryRankTakenAtOnce:
    def test_everywhere_or_at_one_place(self, brook: Place) -> None:
        c = brook.open()
        had = {(each.rank, each.place) for each in c.register.of("dara")}
        assert ("host", "commons") in had
        assert len(had) > 2
        assert run("unassign", "*", "dara", "--at", "commons", "--yes", cwd=brook.folder).returncode == 0
        assert {(each.rank, each.place) for each in brook.open().register.of("dara")} == had - {("host", "commons")}
        assert run("unassign", "*", "dara", "--yes", cwd=brook.folder).returncode == 0
        assert [each for each in brook.open().register.of("dara") if each.period.end is None] == []
        done = run("unassign", "*", "dara", "--yes", cwd=brook.folder)
        assert done.returncode == 2
        assert "no assigned rank" in done.stderr


class TestPerks:
    @pytest.fixture
    def shed(self, tmp_path: Path) -> Community:
        files = texts(
            {**rank("keeper", "post.write"), "perks": {"days": 30}},
            rank("guest", "post.write"),
            members=[member("ada", email="ada@river.example"), member("bo")],
            assignments=[held("ada", "guest")],
            perks={"days": {"about": "Days", "settle": "most", "default": 0}, "free": {"settle": "any"}},
        )
        for name, text in files.items():
            (tmp_path / name).write_text(text)
        return Community.open(tmp_path)

    def test_one_is_set_and_taken_out_by_itself(self, shed: Community) -> None:
        folder = shed.home.folder
        assert run("rank", "set", "guest", "perks.days=7", "perks.free=true", "--yes", cwd=folder).returncode == 0
        now = Community.open(folder)
        assert {key: held_.value for key, held_ in now.perks("ada").items()} == {"days": 7, "free": True}
        assert run("rank", "set", "guest", "perks.days=", "--yes", cwd=folder).returncode == 0
        assert Community.open(folder).rank("guest").perks == {"free": True}
        assert run("rank", "set", "guest", "perks.free=", "--yes", cwd=folder).returncode == 0
        assert Community.open(folder).rank("guest").perks == {}
        assert "perks" not in run("charter", "get", "ranks.guest", cwd=folder).stdout
        wrong = run("rank", "set", "guest", "perks.dayz=7", "--yes", cwd=folder)
        assert wrong.returncode == 2
        assert "days" in wrong.stderr

    def test_a_plan_says_for_whom_one_turns_and_so_does_a_letter(self, shed: Community) -> None:
        plan = shed.plan(RankSet("guest", {"perks.days": "7"}))
        assert [(turned.members, turned.before, turned.after) for turned in plan.perks] == [(("ada",), 0, 7)]
        folder = shed.home.folder
        out = run("rank", "set", "guest", "perks.days=7", "--tell", "--yes", cwd=folder).stdout
        assert "Ada: Days: 7 (was 0)." in out
        (letter,) = (folder / "outbox").glob("*-ada.eml")
        assert "Days: 7 (was 0)." in letter.read_text()

    def test_they_are_told_of_ranks_and_of_people(self, shed: Community) -> None:
        assert "Perks\n- Days: 30" in shed.describe("keeper").text
        assert "Their ranks bring" not in shed.describe("member:ada").text
        shed.plan(RankSet("guest", {"perks.days": "7"})).apply()
        now = Community.open(shed.home.folder)
        assert "Perks\n- Days: 7" in now.describe("member:ada").text
        assert now.compare("rank:keeper", "rank:guest").perks == ("Days: 30 and 7",)
        assert "Days: 7" in run("member", "show", "ada", cwd=shed.home.folder).stdout


class TestWhoAndWhere:
    def rows(self, place: Place, *words: str) -> list[dict[str, str]]:
        return list(csv.DictReader(run(*words, "--format", "csv", cwd=place.folder).stdout.splitlines()))

    def test_who_may_elsewhere_is_what_each_place_says(self, brook: Place) -> None:
        c = brook.open()
        frame = c.who("post.publish", anywhere=True)
        one_by_one = {(key, place) for place in c.charter.places for key in c.who("post.publish", at=place).member}
        assert set(zip(frame.member, frame.place, strict=True)) == one_by_one
        assert {place for _, place in one_by_one} == {"front-page", "review", "alder-journal"}
        out = run("who", "post.publish", cwd=brook.folder).stdout
        assert out.startswith("None of 60 members may use post.publish on the whole site")
        assert "In Alder journal: Ines Moor and Olaf Tarn." in " ".join(out.split())

    def test_who_has_what_is_of_high_risk(self, brook: Place) -> None:
        rows = list(
            csv.DictReader(run("who", "--risk", "high", "--format", "csv", cwd=brook.folder).stdout.splitlines())
        )
        c = brook.open()
        risky = {key for key, each in c.charter.catalogue.capabilities.items() if each.risk == "high"}
        found = {(row["capability"], row["member"], row["place"]) for row in rows}
        wanted = {(name, who, at) for name in risky for at in c.charter.places for who in c.who(name, at=at).member}
        assert found == wanted
        assert run("who", "--risk", "high", "post.write", cwd=brook.folder).returncode == 2

    def test_holders_are_listed_with_where_and_until_when(self, brook: Place) -> None:
        c = brook.open()
        rows = self.rows(brook, "member", "list", "--holding", "editor")
        assert {row["key"]: row["where"] for row in rows} == {
            "kofi": "in River journal",
            "liesl": "in River journal",
            "arne": "in River journal through 31 Jan 2027",
        }
        assert "Members\n- Board host: Dara Fenwick" in c.describe("commons").text
        assert run("member", "lock", "kofi", "--yes", cwd=brook.folder).returncode == 0
        assert "1 of them is not active" in run("member", "list", "--holding", "editor", cwd=brook.folder).stdout
        said = brook.open().describe("editor").text
        assert "Liesl Minnow in River journal" in said
        assert "- 1 member more whose status does not count" in said

    def test_a_group_of_groups_counts_who_is_in_them(self, brook: Place) -> None:
        rows = {
            row["group"]: row
            for row in csv.DictReader(run("group", "list", "--format", "csv", cwd=brook.folder).stdout.splitlines())
        }
        assert rows["field-teams"]["members"] == "13"


def test_what_is_kept_of_somebody_is_the_same_whatever_they_are_called(brook: Place) -> None:
    run("member", "note", "bram", "Knows the mill", "--yes", cwd=brook.folder)
    shown = [
        run("member", "show", who, "--everything", "--format", "json", cwd=brook.folder).stdout
        for who in ("bram", "Bram Ashby", "@bram")
    ]
    assert shown[0] == shown[1] == shown[2]
    assert '"rank": "host"' in shown[0]
    assert "Knows the mill" in shown[0]


class TestLetters:
    """A letter names the rank and says what is one's own in the second person; an invitation says who invites."""

    def read(self, place: Place, who: str) -> str:
        (letter,) = (place.folder / "outbox").glob(f"*-{who}.eml")
        content = message_from_string(letter.read_text("utf-8"), policy=policy.default).get_content()
        return str(content)

    @pytest.mark.slow
    def test_who_invites_and_to_be_what(self, brook: Place) -> None:
        words = ("member", "invite", "zed", "Zed Rill", "zed@river.example", "--rank", "volunteer", "--as", "ada")
        assert run(*words, "--message", "See you at the weir", "--tell", "--yes", cwd=brook.folder).returncode == 0
        # one invitation, whatever else is told then or later
        assert run("member", "set", "zed", "phone=+44 1", "--tell", "--yes", cwd=brook.folder).returncode == 0
        text = self.read(brook, "zed")
        assert "Ada Marsh invites you to join Wren Valley River Watch." in text
        assert "You will have the rank Volunteer on the whole site." in text
        assert "See you at the weir" in text
        assert "has changed" not in text

    def test_which_rank_is_given_and_which_is_taken(self, brook: Place) -> None:
        assert run("assign", "surveyor", "tove", "--tell", "--yes", cwd=brook.folder).returncode == 0
        text = self.read(brook, "tove")
        assert "You have the rank Surveyor on the whole site." in text
        assert "correct your own readings" in text
        assert "one's own" not in text
        assert run("unassign", "host", "bram", "--tell", "--yes", cwd=brook.folder).returncode == 0
        assert "You no longer have the rank Board host on the whole site." in self.read(brook, "bram")


@pytest.mark.parametrize("at", ["site", "landowners"])
def test_who_may_call_on_whom_stands_in_a_table(at: str) -> None:
    c = Community.demo()
    table = c.powers("call", at=at)
    for actor in c.charter.ranks:
        for target in c.charter.ranks:
            assert table.loc[actor, target] == c.may_call(f"rank:{actor}", target, at=at).allowed, (actor, target)
    out = run("powers", "call", "--at", at, "--format", "csv", "--community", str(DEMO)).stdout.splitlines()
    assert len(out) == 1 + len(c.charter.ranks) ** 2


class TestAListWithARank:
    LIST = "key,name,email,joined\nzoe,Zoe Weir,zoe@r.example,03/04/2026\ntove,Tove Eddy,,\n"
    RANK = ("--rank", "host", "in", "commons", "--until", "2097-01-01")

    def test_all_in_it_are_given_it_new_or_not_and_once(self, brook: Place) -> None:
        (brook.folder / "list.csv").write_text(self.LIST)
        words = ("import", "list.csv", "--status", "active", "--days-first", *self.RANK, "--yes")
        for _ in range(2):
            done = run(*words, cwd=brook.folder)
            assert done.returncode == 0, done.stderr
        c = brook.open()
        assert c.member("zoe").joined == "2026-04-03"
        for who in ("zoe", "tove"):
            (one,) = [given for given in c.register.of(who) if given.rank == "host"]
            assert (one.place, one.period.said_until) == ("commons", "2097-01-01")
        assert len(c.journal()) == 2  # the second time nothing is news

    def test_dates_that_could_be_two_days_are_asked_about(self, brook: Place) -> None:
        (brook.folder / "list.csv").write_text(self.LIST)
        done = run("import", "list.csv", "--status", "active", "--yes", cwd=brook.folder)
        assert done.returncode == 2
        assert "--days-first" in done.stderr

    def test_whoever_may_not_give_it_may_not_import_it(self, brook: Place) -> None:
        (brook.folder / "list.csv").write_text("key,name\nzoe,Zoe Weir\n")
        words = ("import", "list.csv", "--status", "active", "--rank", "steward", "--as", "ada", "--yes")
        done = run(*words, cwd=brook.folder)
        assert done.returncode in (1, 2)
        assert "zoe" not in brook.open().register.members
        automatic = run("import", "list.csv", "--status", "active", "--rank", "member", "--yes", cwd=brook.folder)
        assert "is automatic" in automatic.stderr

    def test_the_page_is_written_where_the_option_says(self, brook: Place) -> None:
        assert run("report", "--out", "page.md", cwd=brook.folder).returncode == 0
        assert (brook.folder / "page.md").read_text().startswith("#")
        assert run("report", "a.md", "--out", "b.md", cwd=brook.folder).returncode == 2
