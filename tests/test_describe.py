"""Sentences about ranks, members and places; the format as a JSON Schema."""

from __future__ import annotations

import json
import re
from collections.abc import Iterator
from datetime import timedelta
from pathlib import Path
from random import Random
from typing import Any

import pytest
import yaml
from jsonschema import Draft202012Validator

from ask_above import Community, QuestionError, UnknownNameError
from ask_above.ask.describe.claims import doing
from ask_above.ask.describe.describer import Section
from ask_above.charter.moments import instant
from ask_above.charter.names import listed
from ask_above.charter.reading.schema import json_schema
from commands import run
from conftest import DEMO
from generated import NOW, generate
from plain_rules import Plain
from seeds import seeds
from small import community, held, member, place, rank
from standard import as_yaml
from test_cli import demo

__all__ = ["demo"]

ROOT = Path(__file__).parent.parent


@pytest.fixture(scope="module")
def river() -> Community:
    return Community.demo()


def test_a_rank_is_told_by_its_place_its_members_its_rights_and_its_powers(river: Community) -> None:
    said = river.describe("host").text
    for part in (
        "Board host (host): 8th of 12 ranks, below Founding friend",
        "Keeps the talk on the boards friendly.",
        "Dara Fenwick in Common room, Bram Ashby and Freya Ford in Alder Mouth",
        "Grants, beyond what every member may do\n- pin a thread, close a thread, mute a member, rename any member",
        "- moderate Volunteer, Newcomer, Member and Passer-by",
        "- assigned by Steward and River warden",
        "Overrides\n- Alder Mouth: may suspend a member",
    ):
        assert part in said
    assert "everything, everywhere (unbounded)" in river.describe("steward").text
    assert "- nothing\nPower over ranks\n- assigned by" in river.describe("founding-friend").text
    assert "- requires Surveyor" in river.describe("reach-lead").text
    assert "- kept by the gauge feed" in river.describe("relay-bot").text


def test_a_member_is_told_by_what_they_have_from_whom_and_what_others_may_not(river: Community) -> None:
    said = river.describe("dara").text
    assert "- Board host  Common room  since 1 Apr 2025, assigned by Ada Marsh" in said
    assert "May, beyond other members\n- everywhere they apply: borrow a kit" in said
    assert "- Upper gauges and Tide gauges: enter a reading" in said
    assert "owner, may do everything" in river.describe("ines").text
    assert "May not, unlike other members\n- River talk: write posts" in river.describe("otto").text
    assert river.describe("lena").text.startswith("Lena Brook (lena): pending member")
    assert "- Common room: moderate Board host, Volunteer, Newcomer, Member and Passer-by" in said
    given = [rank.title for rank in river.charter.ranks.values() if river.may_assign("ada", rank)]
    assert listed(given) in river.describe("ada").text
    assert "Power over ranks" not in river.describe("tomas").text


def test_what_is_said_of_a_member_is_what_they_may() -> None:
    c = community(
        rank("host", "member.mute"),
        rank("all", "post.write", held_by="members"),
        members=[member("una"), member("bo")],
        assignments=[held("una", "host", "hall", until="2030-01-01")],
    )
    said = c.describe("una").text
    assert "- Host  The Hall  through 1 Jan 2030" in said
    assert "May, beyond other members\n- The Hall, The Desk and stage: keep someone from writing" in said
    assert "May" not in c.describe("bo").text


def test_a_place_is_told_by_its_gate_what_differs_and_who_looks_after_it(river: Community) -> None:
    said = river.describe("landowners").text
    assert "Gate\n- requires any of Upper reach team or River warden or above, and none of Relay bot" in said
    assert "- 8 of 54 active members may do something here" in said
    assert "Overrides\n- Volunteer: may not enter a reading" in river.describe("lower-gauges").text
    assert "Exceptions\n- Otto Kessler: may never write posts" in river.describe("river-talk").text


def test_a_name_that_several_have_is_asked_back() -> None:
    c = community(rank("hall"), members=[member("hall")], places=[place("hall")])
    with pytest.raises(QuestionError, match="write member:hall or rank:hall"):
        c.describe("hall")
    assert c.describe("place:hall").kind == "place"
    with pytest.raises(UnknownNameError, match="hall"):
        c.describe("rank:hal")


def test_the_command_describes_several(demo: Path) -> None:
    done = run("describe", "host", "landowners", cwd=demo)
    assert done.stdout.splitlines()[0] == "Board host (host): 8th of 12 ranks, below Founding friend"
    assert "Landowner contacts (landowners): board in Field work" in " ".join(done.stdout.split())
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
    texts = {"charter.yaml": as_yaml(data), "gauges.yaml": (DEMO / "gauges.yaml").read_text("utf-8")}
    with pytest.raises(ValueError, match=r"charter\.yaml"):
        Community.from_texts(texts)


@pytest.mark.parametrize("seed", seeds(3))
def test_who_comes_to_have_a_rank_is_said_with_where_and_when(seed: int) -> None:
    rng, told = Random(seed), 0
    for c in (generate(rng).open() for _ in range(12)):
        when = NOW - timedelta(days=rng.randrange(900))
        for key, each in c.charter.ranks.items():
            wanted = {
                (c.member(given.member).called, given.place)
                for given in c.register.assignments
                if given.rank == key and given.period.comes_after(instant(when)) and not each.paused
                if c.member(given.member).status == "active"
                if all(holding.rank != each.position for holding in c.names.asked(given.member, instant(when)).holdings)
            }
            lines = c.describe(f"rank:{key}", when=when).text.splitlines()
            said = [line.removeprefix("- later: ") for line in lines if line.startswith("- later: ")]
            assert len(said) == (1 if wanted else 0), lines
            for name, at in wanted:
                where = "" if at == "site" else f" in {c.place(at).called}"
                assert f"{name}{where} from " in said[0]
            assert sum(part.count(" from ") for part in said) >= len(wanted)
            told += len(wanted)
    assert told


def test_the_schema_is_written_for_editors_and_stands_in_the_docs() -> None:
    written = json.loads(run("check", "--schema").stdout)
    assert written == json_schema()
    assert written == json.loads((ROOT / "docs" / "charter.schema.json").read_text("utf-8"))


class TestClaims:
    """What a description says that somebody may, or may not, is so: its lines are read, and put as questions."""

    CLAUSE = re.compile(r"(?P<verb>may not|may never|may)(?P<if>, (?:where|while) [^,]*,)? (?P<what>.+)")

    def claimed(self, c: Community, section: Section, default: str = "site") -> Iterator[tuple[str, bool, bool, str]]:
        """Place, whether it may, whether only if something more is so, and the capability."""
        beyond = {"May, beyond other members": "may ", "May not, unlike other members": "may not "}
        names = {doing(c.decider.compiled, key): key for key in c.charter.catalogue.keys}
        for (line,) in section.lines if section.heading in ("Overrides", *beyond) else ():
            where, _, claims = line.partition(": ")
            for clause in f"{beyond.get(section.heading, '')}{claims}".split("; "):
                read = self.CLAUSE.fullmatch(clause)
                if read is None:
                    assert claims in ("no effect", "as the place above", ""), line
                    continue
                for name in map(names.__getitem__, read["what"].split(", ")):
                    for key in [default] if default != "site" else self.places(c, where, name):
                        yield key, read["verb"] == "may", bool(read["if"]), name

    def places(self, c: Community, said: str, name: str) -> set[str]:
        """The places that words mean: named one by one, or all where something has a meaning but those."""
        compiled = c.decider.compiled
        if said.startswith("everywhere they apply"):
            bit = compiled.catalogue.bit[name]
            all_of_them = {key for key, n in compiled.place_at.items() if compiled.has_meaning(n) & bit}
            return all_of_them - self.places(c, said.partition(", except ")[2], name)
        titles = {place.title: key for key, place in compiled.named.items()} | {"Whole site": "site"}
        return {titles[title] for title in re.split(r", | and ", said) if title}

    def test_a_line_is_read_as_it_is_meant(self, river: Community) -> None:
        (section,) = [each for each in river.describe("host").sections if each.heading == "Overrides"]
        assert list(self.claimed(river, section)) == [("alder-mouth", True, False, "member.suspend")]
        beyond = next(each for each in river.describe("dara").sections if each.heading.startswith("May, "))
        assert ("common", True, False, "x") not in list(self.claimed(river, beyond))
        assert ("upper-gauges", True, False, "reading.correct.own") in list(self.claimed(river, beyond))

    @pytest.mark.parametrize("seed", seeds(40))
    def test_of_ranks_and_of_groups(self, seed: int) -> None:
        made = generate(Random(seed))
        c, plain = made.open(), Plain(made.charter, made.members, made.assignments)
        for rank_ in c.charter.ranks.values():
            for section in c.describe(f"rank:{rank_.key}").sections:
                for where, may, provided, name in self.claimed(c, section):
                    assert plain.may(plain.as_rank(rank_.key), name, where) is (may and not provided), (
                        rank_.key,
                        section,
                    )
        for group in c.charter.groups.values():
            someone = made.charter | {"owner": None}
            somebody = Plain({k: v for k, v in someone.items() if v}, [{"key": "zz", "groups": group.key}], [])
            for section in c.describe(f"group:{group.key}").sections:
                for where, may, provided, name in self.claimed(c, section):
                    said = somebody.may(somebody.person("zz", NOW), name, where)
                    assert said is (may and not provided), (group.key, section)

    @pytest.mark.parametrize("seed", seeds(20))
    def test_of_members(self, seed: int) -> None:
        made = generate(Random(seed))
        c, plain = made.open(), Plain(made.charter, made.members, made.assignments)
        for person in c.register.members.values():
            described = c.describe(f"member:{person.key}", when=NOW)
            for section in described.sections:
                if section.heading == "Ranks" and person.status not in ("active", "pending"):
                    yet_to_come = [line for line in section.lines if "does not count" not in line[2]]
                    assert all(line[2].startswith("from ") for line in yet_to_come), yet_to_come
                for where, may, provided, name in self.claimed(c, section):
                    assert plain.may(plain.person(person.key, NOW), name, where) is (may and not provided), section

    @pytest.mark.parametrize("seed", seeds(20))
    def test_of_places(self, seed: int) -> None:
        made = generate(Random(seed))
        c, plain = made.open(), Plain(made.charter, made.members, made.assignments)
        ranks = {rank_.title: rank_.key for rank_ in c.charter.ranks.values()}
        for where in c.charter.places:
            for section in c.describe(f"place:{where}").sections:
                for line in section.lines if section.heading == "Overrides" else ():
                    holders = [ranks[t] for t in re.split(r", | and ", line[0].partition(": ")[0]) if t in ranks]
                    for _, may, provided, name in self.claimed(c, Section("Overrides", (line,)), "here"):
                        for key in holders:
                            assert plain.may(plain.as_rank(key), name, where) is (may and not provided), line
