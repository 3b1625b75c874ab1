"""Sentences about ranks, members and places; the format as a JSON Schema."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import Any

import pytest
import yaml
from jsonschema import Draft202012Validator

from ask_above import Community, QuestionError, UnknownNameError
from ask_above.ask.describe.sentences import doing
from ask_above.charter.names import listed
from ask_above.charter.reading.schema import json_schema
from commands import run
from conftest import DEMO
from generated import NOW, generate
from plain_rules import Plain
from seeds import seeds
from small import community, held, member, place, rank
from test_cli import demo

__all__ = ["demo"]

ROOT = Path(__file__).parent.parent


@pytest.fixture(scope="module")
def river() -> Community:
    return Community.demo()


def test_a_rank_is_told_by_its_place_its_holders_its_rights_and_its_powers(river: Community) -> None:
    said = str(river.describe("host"))
    for part in (
        "Board host is the 8th of 12 ranks, directly below Founding friend.",
        "Keeps the talk on the boards friendly.",
        "Dara Fenwick in Common room, Bram Ashby and Freya Ford in Alder Mouth.",
        "With it one may, beyond what every member may: keep a thread at the top of a place; close a thread to answers",
        "It may moderate Volunteer, Newcomer, Member and Passer-by.",
        "Steward and River warden may give it.",
        "In Alder Mouth it may keep a member out for a week.",
    ):
        assert part in said
    assert "It may do everything everywhere" in str(river.describe("steward"))
    assert "It carries nothing of its own. It has no power over other ranks." in str(river.describe("founding-friend"))
    assert "Only who is Surveyor can be given it." in str(river.describe("reach-lead"))
    assert "It is kept by" in str(river.describe("relay-bot"))


def test_a_member_is_told_by_what_they_hold_from_whom_and_what_others_may_not(river: Community) -> None:
    said = str(river.describe("dara"))
    assert "They are Board host in Common room from 1 April 2025, given by Ada Marsh." in said
    assert "In Upper gauges and Tide gauges they may, beyond others, enter a gauge or water-quality reading." in said
    assert "is the owner and may do everything everywhere" in str(river.describe("ines"))
    assert "In River talk they may not, unlike others, start a thread or answer one." in str(river.describe("otto"))
    assert "the account is pending" in str(river.describe("lena"))
    assert "In Common room they may moderate Board host, Volunteer, Newcomer, Member and Passer-by." in said
    given = [rank.title for rank in river.charter.ranks.values() if river.may_assign("ada", rank)]
    assert f"give {listed(given)} and change" in str(river.describe("ada"))
    assert "may moderate" not in str(river.describe("tomas"))


def test_what_is_said_of_a_member_is_what_they_may() -> None:
    c = community(
        rank("host", "member.mute"),
        rank("all", "post.write", held_by="members"),
        members=[member("una"), member("bo")],
        assignments=[held("una", "host", "hall", until="2030-01-01")],
    )
    said = str(c.describe("una"))
    assert "They are Host in The Hall through 1 January 2030." in said
    assert "they may, beyond others, keep someone from writing" in said
    assert "They may do what every member may." in str(c.describe("bo"))


def test_a_place_is_told_by_its_gate_what_differs_and_who_looks_after_it(river: Community) -> None:
    said = str(river.describe("landowners"))
    assert "It has a gate: it asks for any of Upper reach team or River warden or above, and none of Relay bot." in said
    assert "8 of 54 active members can do something here." in said
    assert "Here Volunteer may not enter a gauge or water-quality reading." in str(river.describe("lower-gauges"))
    assert "By an exception Otto Kessler may never start a thread or answer one." in str(river.describe("river-talk"))


def test_a_name_that_several_have_is_asked_back() -> None:
    c = community(rank("hall"), members=[member("hall")], places=[place("hall")])
    with pytest.raises(QuestionError, match="write member:hall or rank:hall"):
        c.describe("hall")
    assert c.describe("place:hall").kind == "place"
    with pytest.raises(UnknownNameError, match="hall"):
        c.describe("rank:hal")


def test_the_command_describes_several(demo: Path) -> None:
    done = run("describe", "host", "landowners", cwd=demo)
    assert done.stdout.splitlines()[0] == "Board host"
    assert "Landowner contacts is a board in Field work." in " ".join(done.stdout.split())
    rows = json.loads(run("describe", "host", "dara", "--format", "json", cwd=demo).stdout)
    assert [(row["kind"], row["key"]) for row in rows] == [("rank", "host"), ("member", "dara")]
    assert "Nearest: warden" in run("describe", "wardn", cwd=demo).stderr


# -- the format as a JSON Schema


def faults(data: Any) -> list[str]:
    return [error.message for error in Draft202012Validator(json_schema()).iter_errors(data)]


def read(path: Path) -> Any:
    return yaml.safe_load(path.read_text("utf-8"))


@pytest.mark.parametrize("folder", [DEMO, ROOT / "tests" / "data" / "format-example"], ids=lambda path: path.name)
def test_the_schema_lets_what_is_well_formed_stand(folder: Path) -> None:
    Draft202012Validator.check_schema(json_schema())
    assert faults(read(folder / "charter.yaml")) == []


@pytest.mark.parametrize(
    ("path", "value"),
    [
        (("colour",), "red"),
        (("ranks", 0, "granst"), ["post.write"]),
        (("ranks", 0, "limit"), "many"),
        (("ranks", 0, "held-by"), "everyone"),
        (("ranks", 0, "grants"), "post.write"),
        (("ranks", 0, "key"), "Not A Key"),
        (("ranks", 0, "key"), "visitor"),
        (("ranks", 0, "unbounded"), "perhaps"),
        (("places", 0, "gate"), {"any": []}),
        (("places", 0, "places", 0, "kind"), ["board"]),
        (("places", 0, "overrides"), {"member": {"permit": ["post.write"]}}),
        (("rules", "authority", "assign", "over"), "everybody"),
        (("rules", "authority", "moderate", "hand-on"), "any"),
        (("capabilities", "Posts", "post.write"), {"about": "Write", "risk": "severe"}),
        (("charter",), 2),
        (("owner",), ["ines"]),
    ],
)
def test_the_schema_finds_what_reading_finds(path: tuple[Any, ...], value: Any) -> None:
    data = read(DEMO / "charter.yaml")
    at = data
    for step in path[:-1]:
        at = at[step]
    at[path[-1]] = value
    assert faults(data)
    texts = {"charter.yaml": yaml.safe_dump(data), "gauges.yaml": (DEMO / "gauges.yaml").read_text("utf-8")}
    with pytest.raises(ValueError, match=r"charter\.yaml"):
        Community.from_texts(texts)


def test_the_schema_is_written_for_editors_and_stands_in_the_docs() -> None:
    written = json.loads(run("check", "--schema").stdout)
    assert written == json_schema()
    assert written == json.loads((ROOT / "docs" / "charter.schema.json").read_text("utf-8"))


class TestClaims:
    """What a description says that somebody may, or may not, is so: its sentences are read, and put as questions."""

    PLACE = re.compile(r"(?P<where>(?:On|In|Everywhere) .+?) (?:it|they) (?P<rest>may.+)\.")
    CLAUSE = re.compile(r"(?P<verb>may not|may never|may)(?P<if>, (?:where|while) [^,]*,)?(?:,[^,]*,)? (?P<what>.+)")

    def claimed(self, c: Community, sentence: str) -> Iterator[tuple[str, bool, bool, str]]:
        """Place, whether it may, whether only if something more is so, and the capability."""
        found = self.PLACE.fullmatch(sentence)
        if found is None:
            return
        names = {doing(c.decider.compiled, key): key for key in c.charter.catalogue.keys}
        for clause in re.split(r", and (?=may)", found["rest"]):
            read = self.CLAUSE.fullmatch(clause)
            assert read is not None, sentence
            if re.match("moderate |give |change ", read["what"]):  # on whom, which is asked of powers
                continue
            for name in map(names.__getitem__, read["what"].split("; ")):
                for where in self.places(c, found["where"], name):
                    yield where, read["verb"] == "may", bool(read["if"]), name

    def places(self, c: Community, said: str, name: str) -> set[str]:
        """The places that words mean: named one by one, or all where something has a meaning but those."""
        compiled = c.decider.compiled
        if said.startswith("Everywhere it can be done"):
            bit = compiled.catalogue.bit[name]
            all_of_them = {key for key, n in compiled.place_at.items() if compiled.has_meaning(n) & bit}
            return all_of_them - self.places(c, said.partition(" but ")[2], name)
        titles = {place.title: key for key, place in compiled.named.items()}
        inside = re.sub(r"^(On|on) the whole site(?: and)?", "", said).strip().removeprefix("In ").removeprefix("in ")
        found = {titles[title] for title in re.split(r", | and ", inside) if title}
        return found | ({"site"} if "the whole site" in said else set())

    def test_a_sentence_is_read_as_it_is_meant(self, river: Community) -> None:
        sentence = "In Alder Mouth it may keep a member out for a week."
        assert sentence in str(river.describe("host"))
        assert list(self.claimed(river, sentence)) == [("alder-mouth", True, False, "member.suspend")]

    @pytest.mark.parametrize("seed", seeds(40))
    def test_of_ranks_and_of_groups(self, seed: int) -> None:
        made = generate(Random(seed))
        c, plain, count = made.open(), Plain(made.charter, made.members, made.assignments), 0
        for rank_ in c.charter.ranks.values():
            for sentence in c.describe(f"rank:{rank_.key}").sentences:
                for where, may, provided, name in self.claimed(c, sentence):
                    count += 1
                    assert plain.may(plain.as_rank(rank_.key), name, where) is (may and not provided), (
                        rank_.key,
                        sentence,
                    )
        for group in c.charter.groups.values():
            someone = made.charter | {"owner": None}
            somebody = Plain({k: v for k, v in someone.items() if v}, [{"key": "zz", "groups": group.key}], [])
            for sentence in c.describe(f"group:{group.key}").sentences:
                for where, may, provided, name in self.claimed(c, sentence):
                    said = somebody.may(somebody.person("zz", NOW), name, where)
                    assert said is (may and not provided), (group.key, sentence)

    @pytest.mark.parametrize("seed", seeds(20))
    def test_of_members(self, seed: int) -> None:
        made = generate(Random(seed))
        c, plain = made.open(), Plain(made.charter, made.members, made.assignments)
        for person in c.register.members.values():
            described = c.describe(f"member:{person.key}", when=NOW)
            for sentence in described.sentences:
                if person.status not in ("active", "pending"):
                    assert not sentence.startswith("They are "), sentence
                for where, may, provided, name in self.claimed(
                    c, sentence.replace(", beyond others,", "").replace(", unlike others,", "")
                ):
                    assert plain.may(plain.person(person.key, NOW), name, where) is (may and not provided), sentence

    @pytest.mark.parametrize("seed", seeds(20))
    def test_of_places(self, seed: int) -> None:
        made = generate(Random(seed))
        c, plain = made.open(), Plain(made.charter, made.members, made.assignments)
        ranks = {rank_.title: rank_.key for rank_ in c.charter.ranks.values()}
        for where, spot in c.charter.places.items():
            for sentence in c.describe(f"place:{where}").sentences:
                found = re.fullmatch(r"Here (.+?) (may.+)\.", sentence)
                if found is None:
                    continue
                holders = [ranks[title] for title in re.split(r", | and ", found[1]) if title in ranks]
                for _, may, provided, name in self.claimed(c, f"On the whole site it {found[2]}."):
                    for key in holders:
                        assert plain.may(plain.as_rank(key), name, where) is (may and not provided), (
                            spot.key,
                            sentence,
                        )
