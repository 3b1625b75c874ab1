"""What must stay true: the small language, and how it is held to (rules 8.1 to 8.4)."""

from __future__ import annotations

from pathlib import Path

import pytest

from ask_above import Community
from small import community, held, member, rank

EXAMPLE = Path(__file__).parent / "data" / "format-example"
RANKS = (rank("top", "post.write", "rank.assign", "member.mute"), rank("low", "post.write"), rank("out"))
MEMBERS = (member("ada"), member("bo"), member("cy", status="locked"))
ASSIGNED = (held("ada", "top"), held("bo", "low"), held("cy", "out"), held("bo", "out", "hall", since="2030-01-01"))


def holds(text: str, **more: object) -> bool:
    rules = {"authority": {"moderate": {"using": ["member.mute"]}}}
    c = community(*RANKS, members=MEMBERS, assignments=ASSIGNED, expectations=[text], rules=rules, **more)
    return not c.unmet()


@pytest.mark.parametrize(
    ("true", "false"),
    [
        ("low may post.write in desk", "low may not post.write in desk"),
        ("low+ may post.write", "out+ may post.write"),
        ("@ada may rank.assign", "@bo may rank.assign"),
        ("visitor may not post.write", "visitor may post.write"),
        ("every low may post.write", "every top may rank.manage"),
        ("no low may rank.assign", "no top may rank.assign"),
        ("every out may post.write on 2030-02-01 in hall", "every out may rank.assign in hall on 2030-02-01"),
        ("every out may rank.assign", "no low may post.write"),  # nobody active holds out today
        ("top may moderate low using member.mute", "low may moderate out"),
        ("top may moderate @bo in desk", "@bo may moderate @ada"),
        ("top may assign low", "low may assign out"),
        ("@ada may assign low to @bo", "@ada may assign top to @bo"),
        ("@ada may unassign low of @bo", "@ada may unassign low of @bo in desk"),
        ("@ada may not manage low", "top may manage low"),
        ("visitor may not call low", "visitor may call low"),
        ("low may not post.edit by @ada", "low may post.edit by @ada"),
    ],
)
def test_a_sentence_holds_or_does_not(true: str, false: str) -> None:
    assert holds(true)
    assert not holds(false)


def test_a_member_who_is_not_there_is_unmet_and_said() -> None:
    for text in (
        "@zoe may post.write",
        "@zoe may not post.write",
        "@ada may assign low to @zoe",
        "low may post.edit by @zoe",
    ):
        c = community(*RANKS, members=MEMBERS, assignments=ASSIGNED, expectations=[text])
        assert "There is no member @zoe in the register." in str(c.unmet()[0])


def test_one_that_fails_tells_the_whole_answer() -> None:
    c = community(*RANKS, members=MEMBERS, assignments=ASSIGNED, expectations=["low+ may rank.assign"])
    told = str(c.unmet()[0])
    assert "Low may not." in told
    assert "Explanation:" in told
    assert "None of Low's ranks here grants rank.assign" in told


def test_the_example_of_the_format_keeps_its_expectations_and_no_opposite() -> None:
    texts = {path.name: path.read_text("utf-8") for path in EXAMPLE.iterdir()}
    c = Community.from_texts(texts)
    assert len(c.charter.expectations) == 13
    assert not c.unmet()
    turned = texts["charter.yaml"]
    head, _, tail = turned.partition("\nexpectations:")
    lines = []
    for line in tail.splitlines()[1:]:
        if "- every " in line:
            lines.append(line.replace("- every ", "- no "))
        elif "- no " in line:
            lines.append(line.replace("- no surveyor may", "- surveyor may"))
        elif " may not " in line:
            lines.append(line.replace(" may not ", " may "))
        else:
            lines.append(line.replace(" may ", " may not "))
    texts["charter.yaml"] = f"{head}\nexpectations:\n" + "\n".join(lines) + "\n"
    assert len(Community.from_texts(texts).unmet()) == 13
