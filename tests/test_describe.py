"""Sentences about ranks, members and places; the format as a JSON Schema."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
import yaml
from jsonschema import Draft202012Validator

from ask_above import Community, QuestionError, UnknownNameError
from ask_above.charter.names import listed
from ask_above.charter.reading.schema import json_schema
from commands import run
from conftest import DEMO
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


def test_who_comes_to_have_a_rank_in_more_places_or_for_longer_is_named_and_of_a_paused_one_that_it_is() -> None:
    given = [held("una", "host"), held("una", "host", "hall", since="2031-01-01"), held("una", "crew")]
    given += [held("bo", "host", "hall"), held("bo", "host", since="2031-01-01")]
    given += [held("cy", "host", until="2030-01-01"), held("cy", "host", since="2031-01-01")]
    people = [member("una"), member("bo"), member("cy")]
    c = community(rank("host"), rank("crew", paused="true"), members=people, assignments=given)
    (later,) = (line for line in c.describe("host").text.splitlines() if "later" in line)
    assert later == "- later: Bo from 1 Jan 2031 and Cy from 1 Jan 2031"
    assert "- Crew  whole site  (does not count: paused)" in c.describe("una").text


def test_the_schema_is_written_for_editors_and_stands_in_the_docs() -> None:
    written = json.loads(run("check", "--schema").stdout)
    assert written == json_schema()
    assert written == json.loads((ROOT / "docs" / "charter.schema.json").read_text("utf-8"))
