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
        "Bram Ashby and Freya Ford in a part of the site.",
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
