"""Lists of people and of assignments as others write them: spreadsheets, no headings, totals, dates in words."""

from __future__ import annotations

from pathlib import Path

import openpyxl
import pytest

from ask_above import Community
from commands import run
from conftest import Place


def take(brook: Place, name: str, text: str, *options: str) -> str:
    (brook.folder / name).write_text(text, "utf-8")
    done = run("import", name, *options, cwd=brook.folder)
    return done.stdout + done.stderr


def test_a_list_without_headings_begins_with_a_person(brook: Place) -> None:
    said = take(
        brook, "p.csv", "Una Heron;una@river.example;13.03.2026\nBo Low;bo@river.example;14.03.2026\n",
        "--status", "active", "--yes",
    )  # fmt: skip
    assert "The first line has no headings; it is read as a person." in said
    una = brook.open().member("Una Heron")
    assert (una.email, una.joined) == ("una@river.example", "2026-03-13")
    assert brook.open().member("Bo Low").email == "bo@river.example"


def test_a_first_line_of_headings_is_no_person(brook: Place) -> None:
    said = take(brook, "p.csv", "Name,Email\nUna Heron,una@river.example\n", "--status", "active", "--plan")
    assert "no headings" not in said
    assert "Import p.csv: 1 new member" in said


@pytest.mark.parametrize("total", ["Total,2 members", "TOTALS,", "2 members,", "Sum,"])
def test_a_line_of_totals_is_asked_about_and_not_taken_for_a_person(brook: Place, total: str) -> None:
    before = len(brook.open().register.members)
    said = take(brook, "p.csv", f"name,email\nUna Heron,una@river.example\n{total}\n", "--status", "active", "--yes")
    assert "looks like a total, not like a person" in said
    assert len(brook.open().register.members) == before


def test_a_spreadsheet_is_read_as_a_list(brook: Place) -> None:
    book = openpyxl.Workbook()
    book.active.append(["Full name", "E-Mail"])
    book.active.append(["Una Heron", "una@river.example"])
    book.save(brook.folder / "people.xlsx")
    assert run("import", "people.xlsx", "--status", "active", "--yes", cwd=brook.folder).returncode == 0
    assert brook.open().member("Una Heron").email == "una@river.example"


@pytest.mark.parametrize(
    ("heads", "cells"),
    [
        ("Member,Rank,Until", "Bram Ashby,Surveyor,31 March 2097"),
        ("NAME;ROLE;ENDS", "bram;SURVEYOR;31.03.2097"),
        ("E-mail;Rank;Through", "bram@wren-valley.example;surveyor;2097-03-31"),
    ],
)
def test_a_list_of_assignments_is_known_by_its_columns_titles_and_dates(brook: Place, heads: str, cells: str) -> None:
    take(brook, "a.csv", f"{heads}\n{cells}\n", "--yes")
    given = [each for each in brook.open().register.of("bram") if each.rank == "surveyor"]
    assert [(each.place, each.period.said_until) for each in given] == [("site", "2097-03-31")]


def test_a_place_is_meant_by_its_title_and_what_nobody_knows_is_a_fault(brook: Place) -> None:
    take(brook, "a.csv", "Member,Rank,Place\nBram Ashby,Surveyor,Field work\n", "--yes")
    assert ("surveyor", "field") in [(each.rank, each.place) for each in brook.open().register.of("bram")]
    said = take(brook, "a.csv", "Member,Rank,Place\nNobody Here,Surveyor,Field work\n", "--yes")
    assert "Nobody Here" in said
    assert "fault" in said


def test_a_list_of_names_addresses_and_ranks_is_taken_in_two_steps_that_it_names(brook: Place) -> None:
    rows = "Bram Ashby,bram@wren-valley.example,Volunteer\nNina Rudd,nina@river.example,Surveyor\n"
    rows += "Tove Eddy,tove@x.example,\n"
    heads = "Name,E-mail,Rank\n"
    said = " ".join(take(brook, "a.csv", f"{heads}{rows}", "--yes").split())
    assert "1 row names no rank: nothing is assigned by it." in said
    assert "There is no member 'Nina Rudd' in the register." in said
    assert "To add the members first: ask-above import a.csv --map Rank=; then import it again." in said
    take(brook, "a.csv", f"{heads}{rows}", "--map", "Rank=", "--status", "active", "--link", "--yes")
    said = take(brook, "a.csv", f"{heads}{rows}", "--yes")
    # who has it already, for as long, is not given it once more
    assert "1 new assignment" in said
    c = brook.open()
    ranks = {key: [each.rank for each in c.register.of(key)] for key in ("bram", "nina-rudd")}
    assert ranks["bram"].count("volunteer") == 1
    assert "surveyor" in ranks["nina-rudd"]


def test_faults_that_are_alike_are_one_with_a_count(brook: Place) -> None:
    rows = "".join(f"P{n},bad{n}\n" for n in range(9))
    said = take(brook, "p.csv", f"name,email\n{rows}", "--status", "active", "--yes")
    assert said.count("is no e-mail address") == 1
    assert "and 8 more like it, on line 3, 4, 5, 6, 7, 8, 9 and 10" in said
    assert "9 faults" in said


@pytest.mark.slow
def test_those_invited_by_a_list_get_a_letter_and_who_has_no_address_is_named(brook: Place) -> None:
    said = take(
        brook, "p.csv", "name,email\nUna Heron,una@river.example\nBo Low,\n",
        "--status", "invited", "--tell", "--yes", "--as", "ines",
    )  # fmt: skip
    assert "Without an address, so without a letter: Bo Low." in said
    (letter,) = (brook.folder / "outbox").glob("*.eml")
    text = letter.read_text("utf-8")
    assert "Ines Moor invites you to join Wren Valley River Watch." in text
    assert "has changed for you" not in text


def test_a_table_may_have_a_title_above_it_and_names_ranks_in_any_case(tmp_path: Path) -> None:
    (tmp_path / "plan.csv").write_text("Our choir,,\n,Leader,Singer\nread scores,x,x\nmute a member,x,\n", "utf-8")
    begun = ["--title", "Choir", "--owner", "Nell Harper", "--zone", "UTC"]
    done = run("new", "choir", "--grid", "plan.csv", "--everyone", "SINGER", *begun, cwd=tmp_path)
    assert done.returncode == 0, done.stderr
    assert "Not in the table yet:" in done.stdout
    assert [rank.title for rank in Community.open(tmp_path / "choir").charter.ranks.values()] == ["Leader", "Singer"]
    key = next(iter(Community.open(tmp_path / "choir").charter.catalogue.keys))
    done = run("charter", "set", f"capabilities.{key}.risk", "high", "--yes", cwd=tmp_path / "choir")
    assert done.returncode == 0, done.stderr
    assert Community.open(tmp_path / "choir").charter.catalogue.capabilities[key].risk == "high"


def test_what_expectations_name_is_removed_with_them_by_the_commands_that_are_printed(brook: Place) -> None:
    import shlex

    refused = run("place", "remove", "photo-wall", "--yes", cwd=brook.folder)
    assert refused.returncode == 2
    for command in refused.stderr.partition("To remove it as well: ")[2].strip().split("; "):
        assert run(*shlex.split(command)[1:], "--yes", cwd=brook.folder).returncode == 0
    assert run("place", "remove", "photo-wall", "--yes", cwd=brook.folder).returncode == 0
    assert "photo-wall" not in brook.open().charter.places


def test_a_second_place_of_a_title_gets_its_sections_key(brook: Place) -> None:
    assert run("place", "add", "Notices", "board", "--into", "field", "--yes", cwd=brook.folder).returncode == 0
    assert brook.open().place("field-notices").parent == "field"
    again = run("place", "add", "Notices", "board", "--into", "field", "--yes", cwd=brook.folder)
    assert again.returncode == 2
