"""Whoever has never read a page gets there: names, sentences, moments, beginnings, sheets."""

from __future__ import annotations

import csv
import json
import shutil
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import click
import openpyxl
import pytest

from ask_above import AmbiguousNameError, Community, FaultyFilesError, UnknownNameError
from ask_above.beginnings.start import KINDS
from ask_above.change import Assign, Grant, GroupRemove, MemberGroups, PlaceRename, Say
from ask_above.cli.main import COMMANDS, main
from ask_above.cli.sentence import MEANT, UNDER, sentence
from commands import run
from conftest import DEMO
from small import community, member, place, rank
from test_cli_changes import asked


@pytest.fixture
def here(tmp_path: Path) -> Path:
    shutil.copytree(DEMO, tmp_path / "river")
    return tmp_path / "river"


# -- a hundred things that people type first: done, or the right sentence named

BEGUN = ["--title", "Choir", "--owner", "Nell Harper", "--zone", "UTC"]

TYPED = [
    # by name, in any case
    ("may 'bram ashby' post.write in 'river talk'", 0, "Yes: Bram Ashby may use post.write in River talk"),
    ("may BRAM post.write in River talk", 0, "Yes: Bram Ashby"),
    ("may 'board host' place.pin in river-talk", 0, "Yes: Board host"),
    ("may host place.pin in river_talk", 0, "Yes: Board host"),
    ("may @bram place.pin --at 'River Talk'", 0, "Yes: Bram Ashby"),
    ("may member:bram place.pin in river-talk", 0, "Yes: Bram Ashby"),
    ("may visitor place.see in notices", 0, "Yes: a visitor"),
    ("may rank:host thread.close in notices", 0, "Yes: Board host"),
    ("compare host warden in field", 0, "Board host and River warden, side by side"),
    ("compare 'Board host' bram", 0, "Board host and Bram Ashby, side by side"),
    ("compare volunteer", 0, "Volunteer"),
    ("describe 'Bram Ashby'", 0, "Bram Ashby (bram): active member since 17 Jan 2019"),
    ("describe 'River talk'", 0, "River talk"),
    ("tour 'Board host'", 0, "as Board host finds it"),
    ("tour Bram beside Petra", 0, "Bram Ashby"),
    ("climb 'River warden'", 0, "Climb from River warden"),
    ("where bram post.write", 0, "Bram Ashby may use post.write in"),
    ("who post.write in 'river talk'", 0, "may use post.write in River talk"),
    ("who moderate 'Tomas Reed' in field", 0, "may moderate"),
    ("powers moderate in 'River talk'", 0, "River talk"),
    ("grid in notices", 0, "Capabilities usable, by rank, in Notices"),
    ("fit rota.plan in 'Patrol rota'", 0, "The best single rank"),
    ("cover member.mute in 'river talk'", 0, "River talk"),
    ("member show 'Bram Ashby'", 0, "bram"),
    # changes by name
    ("assign Surveyor 'Bram Ashby' --plan", 0, "Assign Surveyor to Bram Ashby"),
    ("assign surveyor bram in 'Field work' --plan", 0, "Assign Surveyor to Bram Ashby in Field work"),
    ("unassign 'Board host' 'bram ashby' --plan", 0, "Unassign Board host from Bram Ashby"),
    ("rank grant 'board host' kit.lend --plan", 0, "Grant kit.lend to Board host"),
    ("rank rename 'Board host' Talk host --plan", 0, "Rename Board host to Talk host"),
    ("rank rename host title='Talk host' --plan", 0, "Rename Board host to Talk host"),
    ("rank rename host --title 'Talk host' --plan", 0, "Rename Board host to Talk host"),
    ("rank rename host to Talk host --plan", 0, "Rename Board host to Talk host"),
    ("charter add capabilities.Posts post.quote='Quote a post' --plan", 0, "Set capabilities.Posts.post.quote"),
    ("charter add capabilities Hives --plan", 2, "ask-above charter set capabilities.KEY VALUE"),
    ("charter add expectations a=b --plan", 2, "say the item without 'a='"),
    ("capability add post.quote", 2, "ask-above charter set capabilities.HEADING.KEY SENTENCE"),
    ("rank add 'Plot steward' --above member --plan", 0, "Its key is plot-steward"),
    ("place add 'North field' section --plan", 0, "Add the place North field"),
    ("place add tide-talk board --title 'Tide talk' --plan", 0, "Add the place Tide talk"),
    ("group add 'Night watch' --plan", 0, "Its key is night-watch"),
    ("rank add '???' --plan", 2, "cannot be the key of a rank"),
    ("place gate rota --only 'lower-team, board host' --plan", 0, "Patrol rota"),
    ("may bram post.edit of 'Dara Fenwick' in 'River talk'", 1, "may not use post.edit.all in River talk"),
    ("member add 'Ida Reed' --plan", 0, "Add Ida Reed (active)"),
    ("member add ida 'Ida Reed' --plan", 0, "Add Ida Reed (active)"),
    ("member add ida 'Ida Reed' --name Ida --plan", 2, "Say it once"),
    ("rank move host --top --plan", 0, "Move Board host above Steward"),
    ("rank move host --up --plan", 0, "Move Board host above Founding friend"),
    ("rank move host --down --plan", 0, "Move Board host below"),
    ("rank move host above surveyor --plan", 0, "Move Board host above Surveyor"),
    ("rank move host --bottom --plan", 0, "Move Board host below"),
    ("rank move steward --top --plan", 2, "Steward stands at the top already."),
    ("rank move passer-by --bottom --plan", 2, "Passer-by stands at the bottom already."),
    (
        "place override 'River talk' 'board host' --deny place.pin --plan",
        0,
        "Deny place.pin to Board host in River talk",
    ),
    ("place except notices 'Bram Ashby' --allow place.pin --plan", 0, "Bram Ashby"),
    ("place rename notices News board --plan", 0, "Rename Notices to News board"),
    ("place rename notices --key news --plan", 0, "key news"),
    ("place move 'Photo wall' into field --keep --plan", 0, "Photo wall"),
    ("group list", 0, "Upper reach team"),
    ("group add night-watch title='Night watch' --plan", 0, "Add the group Night watch"),
    ("group rename upper-team Upper folk --plan", 0, "Rename Upper reach team to Upper folk"),
    ("group set 'Upper reach team' about='Above the weir' --plan", 0, "Set about of the group Upper reach team"),
    ("rank set host builds-on='Reach lead' --plan", 0, "builds on Reach lead"),
    ("rank set host assigns=only:'Board host',volunteer --plan", 0, "Set assigns of Board host"),
    ("member put tove 'Lower reach team' --plan", 0, "Put Tove Eddy into Lower reach team"),
    ("member take petra upper-team --plan", 0, "Take Petra Lind out of Upper reach team"),
    ("member lock 'Bram Ashby' --plan", 0, "Bram Ashby"),
    ("member set bram freya groups=upper-team --plan", 0, "set groups of Freya Ford"),
    ("member set bram note='Prefers mornings' --plan", 0, "Set note of Bram Ashby"),
    ("member set bram --plan", 2, "Say which member, and what to set"),
    # moments
    ("assign surveyor bram --for 30d --plan", 0, "through "),
    ("assign surveyor bram for 2w --plan", 0, "through "),
    ("assign surveyor bram until tomorrow --plan", 0, "through "),
    ("assign surveyor bram until in 3 weeks --plan", 0, "through "),
    ("assign surveyor bram until P1M --plan", 0, "through "),
    ("assign surveyor bram until 2031-03-31 --plan", 0, "through 31 Mar 2031"),
    ("assign surveyor bram from 2031-01-01 for 30d --plan", 0, "from 1 Jan 2031 through 31 Jan 2031"),
    ("assign surveyor bram --for 6h --plan", 0, "T"),
    ("may bram post.write in river-talk on next friday", 0, "Yes"),
    ("assign surveyor bram --until 12 --plan", 2, "write 2026-12-01"),
    ("assign surveyor bram --until 1/2/2031 --plan", 2, "could be meant in more than one way"),
    ("assign surveyor bram --until soonish --plan", 2, "Cannot read 'soonish' as a date. Write 2026-12-01"),
    ("assign surveyor bram --for 30 --plan", 2, "no stretch of time"),
    ("assign surveyor bram --for 30d --until 2031-01-01 --plan", 2, "not both"),
    # in another order, with too few words
    ("may bram post.write notices", 2, "ask-above may bram post.write in notices"),
    ("may bram notices post.write", 2, "ask-above may bram post.write in notices"),
    ("may bram ashby post.write", 2, "ask-above may 'bram ashby' post.write"),
    ("may bram post in notices", 2, "Which of them is meant by 'post'?"),
    ("may bram notices", 2, "'notices' is a place; say a capability here, and where after it: in notices."),
    ("may notices post.write", 2, "'notices' is a place"),
    ("may bram moderate", 2, "ask-above may bram moderate TARGET"),
    ("may bram unassign host", 2, "of MEMBER"),
    ("who post.write notices", 2, "ask-above who post.write in notices"),
    ("compare bram", 2, "Compare 'bram' with whom?"),
    ("rank move host --plan", 2, "--top, --bottom, --up and --down"),
    ("rank rename host --plan", 2, "Give a new title, or --key KEY."),
    ("may brm post.write", 2, "Nearest: bram"),
    ("may bram post.wirte", 2, "Nearest: post.write"),
    ("assign surveyr bram --plan", 2, "Nearest: surveyor"),
    ("member put bram uper-team --plan", 2, "Nearest: upper-team"),
    ("group remove upper-team --plan", 2, "The charter still names Upper reach team"),
    # commands that there are not
    ("revoke host bram", 2, "Say: ask-above unassign RANK MEMBER"),
    ("handover petra", 2, "Say: ask-above member hand-over petra"),
    ("hand-over petra", 2, "Say: ask-above member hand-over petra"),
    ("remove bram", 2, "member retire MEMBER"),
    ("retire bram", 2, "Say: ask-above member retire bram"),
    ("restore bram", 2, "Say: ask-above member restore bram"),
    ("ban bram", 2, "Say: ask-above member lock bram"),
    ("roles", 2, "Say: ask-above ladder"),
    ("channels", 2, "Say: ask-above place list"),
    ("init", 2, "Say: ask-above new DIR"),
    ("history", 2, "Missing argument 'MEMBER'"),
    ("members", 2, "Say: ask-above member list"),
    ("can bram post.write", 1, "No: Bram Ashby may not use post.write on the whole site"),
    ("grant host kit.lend", 2, "Say: ask-above rank grant RANK CAPABILITY"),
    ("member delete bram", 2, "Say: ask-above member retire"),
    ("rank delete host", 2, "Say: ask-above rank remove"),
    ("rank allow host kit.lend", 2, "Say: ask-above rank grant"),
    ("place deny notices host post.write", 2, "Say: ask-above place override"),
    ("charter show rules", 2, "Say: ask-above charter get"),
    ("group put bram upper-team", 2, "Say: ask-above member put"),
    ("chekc", 2, "Nearest: check"),
    # somebody new, by what one has of them; words that say nothing; one thing after the other
    ("member add 'Anna Bell' anna@choir.example --plan", 0, "Add Anna Bell (active)"),
    ("member add Ben 'Ben Low' --plan", 0, "Its key is ben"),
    ("member add ben ben@choir.example 'Ben Low' --plan", 0, "Add Ben Low (active)"),
    ("member add ben 'Ben Low' --name 'Ben Lowe' --plan", 2, "Is it 'Ben Lowe' or 'Ben Low'? Say it once."),
    ("member invite Cleo cleo@choir.example --plan", 0, "Invite Cleo"),
    ("member invite Cleo --plan", 2, "Where does the invitation go? ask-above member invite cleo ADDRESS"),
    ("assign surveyor to 'Bram Ashby' --plan", 0, "Assign Surveyor to Bram Ashby"),
    ("assign bram surveyor --plan", 0, "Taken as: surveyor bram. The rank comes first."),
    ("unassign host from dara in commons --plan", 0, "Unassign Board host from Dara Fenwick in Common room"),
    ("who can photo.upload in photo-wall", 0, "members may use photo.upload in Photo wall"),
    ("who is host", 0, "3 of 60 members"),
    ("may host moderate founding-friend using member.mute in river-talk", 1, "Board host may not moderate Founding"),
    ("place add 'Tide talk'", 2, "Which kind of place is it? This community has"),
    ("place override notices host allow post.write --plan", 0, "Board host"),
    ("place gate rota only upper-team --plan", 0, "Patrol rota"),
    ("rank add host", 2, "There is a rank or group 'host' already."),
    ("member put dara tove into upper-team --plan", 0, "Upper reach team"),
    ("member list status pending", 0, "3 of 60 members"),
    ("journal bram", 0, ""),
    ("journal nobody-here", 2, "There is no member 'nobody-here'"),
    ("describe bramm", 2, "Nearest: bram"),
    ("describe reed", 2, "tomas"),
    ("member list group 'Upper reach team'", 0, "members"),
    ("member list holding 'Board host'", 0, "3 of 60 members"),
    ("place add 'Tide talk' board only 'Upper reach team' --plan", 0, "Add the place Tide talk"),
    (
        "may bram enter landowners",
        2,
        "To ask whether they may enter a place: ask-above may bram place.see in landowners",
    ),
    ("report", 2, "Which file? ask-above report report.html"),
    ("assign clerk bram --plan", 2, "There is no rank 'clerk'. All of them: ask-above ladder."),
    ("who certify in upper-gauges", 0, "members may use reading.certify in Upper gauges"),
    ("export people.csv", 2, "export writes a folder, not one file: ask-above export people"),
    ("place add Notices board --plan", 2, "There is a place 'notices' already"),
    ("place add 'river talk' board --plan", 2, "There is a place 'river-talk' already."),
    ("rank copy surveyor 'Junior surveyor' --plan", 0, "Add the rank Junior surveyor as a copy of Surveyor"),
    ("rank add Coach under warden --plan", 0, "Add the rank Coach"),
    ("may bram mute dara", 2, "ask-above may bram moderate dara --using member.mute"),
    ("where can bram post.write", 0, "Bram Ashby may use post.write in"),
    ("journal since yesterday", 0, ""),
    ("expectations", 2, "Say: ask-above charter get expectations"),
    ("member add 'Lyn Cope' lyn@lib.example pending", 2, "--status pending"),
    ("place gate rota 'Upper reach team' --plan", 0, "Patrol rota"),
    ("place add 'Tide talk' board for 'Upper reach team' --plan", 0, "Add the place Tide talk"),
    ("assign surveyor bram for a week --plan", 0, "Assign Surveyor to Bram Ashby"),
    ("impact", 2, "Compared with what? A folder, a number of the journal"),
    ("undo last", 2, "so there is nothing to undo"),
    # what has no end is told with what has one; a capability by the words that describe it
    ("member lock bram for a week", 2, "A lock has no end: it lasts until ask-above member restore"),
    ("member lock bram --until friday", 2, "ask-above assign RANK MEMBER --until WHEN"),
    ("member put dara upper-team until friday", 2, "it lasts until ask-above member take"),
    ("may bram 'publish an entry' in journal", 2, "Nearest: post.publish"),
    ("who 'close a thread' in river-talk", 2, "Nearest: thread."),
    ("rank grant host photo", 2, "Nearest: photo."),
    # a first name, or one word of a title, in a change as in a question
    ("assign surveyor Fenwick --plan", 2, "There is no member 'Fenwick'. Nearest: dara"),
    ("member put reed upper-team --plan", 2, "Nearest: tomas"),
    ("assign lead bram --plan", 2, "There is no rank 'lead'. Nearest: reach-lead"),
    ("place override talk host allow post.write --plan", 2, "Nearest: river-talk"),
    ("member put bram upper --plan", 2, "Nearest: upper-team"),
    # what is said twice: a list is joined, of two values none is dropped without a word
    ("place add 'Tide talk' board --only upper-team --only host --plan", 0, "Steward and Board host (3 members) gain"),
    ("place gate rota --any upper-team --only=host --teaser --plan", 0, "Patrol rota"),
    (
        "may bram post.write --at notices in journal",
        2,
        "--at is given twice, as 'notices' and as 'journal'. Say it once.",
    ),
    ("may bram post.write --at notices --at=notices", 1, "Bram Ashby may not"),
    ("assign surveyor bram --why reason --why another --plan", 2, "--why is given twice"),
    ("place override notices host --allow kit.lend --bar kit.lend", 2, "from kit.lend in Notices cannot both stand."),
    ("rank add boss --above steward --below host --plan", 2, "are two spots. Say one of them."),
    ("who post.write at notices --anywhere", 2, "--anywhere and a place exclude each other."),
    ("fit post.write in notices --never place.see", 1, "nobody may use post.write without place.see"),
    ("fit reading.post in notices", 1, "reading.post does not apply in Notices"),
    ("fit post.write --never post.write", 1, "post.write is both needed and never to be held"),
    ("audit actions.csv.gz --usage --format csv", 2, "--usage does not fit into one table"),
    ("member retire bram 'Bram Ashby' --plan", 0, "Retire Bram Ashby"),
    ("assign host to bram, otto and tove in commons --plan", 0, "Assign Board host to Bram Ashby, Otto Kessler and"),
    ("describe host and volunteer", 0, "Volunteer (volunteer)"),
    ("rank grant host post.write and kit.lend --plan", 0, "Grant post.write and kit.lend to Board host"),
    ("rank grant host post.write post.write --plan", 0, "Grant post.write to Board host"),
    # what shows or does something of its own looks at nothing else, so nothing else is dropped beside it
    ("member list --waiting --as otto", 2, "--as does not go with --waiting."),
    ("roster --networks 2", 2, "--networks does not go with the roster itself."),
    ("roster --soon --waiting", 2, "--waiting does not go with --soon."),
    ("cover post.write --enter", 2, "'post.write' does not go with --enter."),
    ("journal 2 --edits", 2, "'2' does not go with --edits."),
    ("grid --plan", 2, "--plan does not go with a grid."),
    ("new x --name X --owner Ann --zone UTC --kind club --highest left", 2, "--highest does not go with a prepared"),
    ("import --anew --rank host", 2, "--rank does not go with --anew."),
    ("member show bram --everything --format csv", 2, "--everything does not fit into one table"),
    # a variable of a script that is not set shows, opens and changes nothing more than was meant
    ("member list --as ''", 2, "--as is followed by nothing. Say what, or leave it out."),
    ("place add hut board --only= --plan", 2, "--only is followed by nothing."),
    ("may bram post.write at ''", 2, "--at is followed by nothing."),
    ("place like alder-board '' --plan", 2, "SET is empty. Say what, or leave it out."),
    ("rank grant host '' --plan", 2, "CAPABILITY is empty."),
    ("rank move host --top --bottom --plan", 2, "--top and --bottom exclude each other. Give one of them."),
    ("place move notices --into field --keep --as-section --plan", 2, "--keep and --as-section exclude each other"),
    # a question as one puts it, whole
    ("who can mute in river talk", 0, "members may use member.mute in River talk"),
    ("who 'publish entries'", 2, "Nearest: post.publish"),
    ("who moderates dara", 0, "members may moderate Dara Fenwick"),
    ("who can see landowner contacts", 2, "ask-above who place.see in landowners"),
    ("who can moderate dara in river-talk", 0, "members may moderate Dara Fenwick in River talk"),
    ("what can dara do in notices", 0, "as Dara Fenwick finds it"),
    ("why can dara not post.write in lower gauges", 1, "No: Dara Fenwick may not use post.write in Lower gauges"),
    ("why cannot dara reading.post in lower-gauges", 1, "The place Lower gauges denies reading.post to Volunteer"),
    ("may everyone post.write in welcome", 0, "'everyone' is taken as the rank member"),
    ("may dara mute in river-talk", 0, "Yes: Dara Fenwick may use member.mute in River talk"),
    ("may dara write in notices", 1, "may not use post.write in Notices"),
    ("may bram post.write on the front page", 1, "may not use post.write in Front page"),
    ("may bram post in notices", 2, "Which of them is meant by 'post'?"),
    ("compare dara with bram", 0, "Dara Fenwick and Bram Ashby, side by side"),
    ("compare dara and bram", 0, "Dara Fenwick and Bram Ashby, side by side"),
    ("describe member", 0, "Member (member): 11th of 12 ranks"),
    ("describe member:bram", 0, "Bram Ashby (bram)"),
    ("powers call", 0, "Power to call, whole site"),
    ("who --risk high", 0, "Capabilities of high risk"),
    ("roster --soon", 0, "within 30 days"),
    ("roster --waiting", 0, "Pending and invited members: 4"),
    ("member list --waiting", 0, "Pending and invited members: 4"),
    ("member list fenw", 0, "Dara Fenwick"),
    ("member list --in field", 0, "Petra Lind"),
    ("tour bram --at field", 0, "Field work"),
    # a change as one puts it
    ("assign surveyor bram --for 2 weeks --plan", 0, "Assign Surveyor to Bram Ashby on the whole site through"),
    ("assign surveyor bram until end of june --plan", 0, "through 30 Jun"),
    ("assign surveyor bram --until end of june --plan", 0, "through 30 Jun"),
    ("assign surveyor bram until the end of the month --plan", 0, "through"),
    ("assign host 'front page' --plan", 2, "'front page' is a place; say it after 'in': in front-page."),
    ("assign journal dara --plan", 2, "'journal' is a place."),
    ("unassign all bram --plan", 0, "Unassign Board host from Bram Ashby"),
    ("rank move host up --plan", 0, "Move Board host above Founding friend"),
    ("rank up host --plan", 0, "Move Board host above Founding friend"),
    ("rank host under editor --plan", 0, "Move Board host below Journal editor"),
    ("rank duplicate host junior-host --plan", 0, "as a copy of Board host"),
    ("rank copy host helper --without place.pin --plan", 0, "withhold place.pin from helper"),
    ("rank add Trainee --top --plan", 0, "Add the rank Trainee"),
    ("rank set host description='Keeps order' --plan", 2, "Nearest: about"),
    ("rank set host colour=teal --plan", 2, "Nearest: color"),
    ("rank set host parent=volunteer --plan", 2, "Nearest: builds-on"),
    ("place set journal description=x --plan", 2, "Nearest: about"),
    ("member set bram address=b@river.example --plan", 2, "Nearest: email"),
    ("rank grant host 'post.*' --plan", 0, "--pattern grants later capabilities too"),
    ("rank grant host 'post.*' --pattern --plan", 0, "Grant post.* to Board host"),
    ("group remove upper-team lower-team --plan", 2, "Upper reach team"),
    ("member put dara upper-team lower-team --plan", 0, "Put Dara Fenwick into"),
    ("member add 'Plan bot' kind=bot --plan", 0, "Add Plan bot (active)"),
    ("member invite bo@x.example --rank host --plan", 0, "Invite bo; assign Board host to bo"),
    ("lock dara for a week", 2, "Say: ask-above member lock dara for a week"),
    ("move river talk to field work --plan", 2, "--keep"),
    ("check --fix", 2, "check changes nothing. It shows the commands"),
    ("place remove upper-section --plan", 2, "There is no place 'upper-section'"),
    ("help programs", 0, "Answer other programs over HTTP"),
    ("help may", 0, "Answer whether someone may do something, and why."),
]


def test_there_are_a_hundred() -> None:
    assert len(TYPED) >= 100


@pytest.mark.parametrize(
    ("typed", "status", "said"),
    # a quarter of them in the fast pass
    [pytest.param(*each, id=each[0], marks=[pytest.mark.slow] if n % 4 else []) for n, each in enumerate(TYPED)],
)
def test_what_people_type_is_done_or_the_right_sentence_is_named(typed: str, status: int, said: str) -> None:
    import shlex

    done = run(*shlex.split(typed), cwd=DEMO)
    shown = done.stdout + done.stderr
    assert said in " ".join(shown.split()), shown
    assert (done.returncode == 2) is (status == 2), shown


def test_every_sentence_that_is_named_begins_with_a_command_that_is_there() -> None:
    known = {*COMMANDS} | {"--help", "--version"}
    for word, said in MEANT.items():
        for each in said.replace(", ", " or ").split(" or "):
            assert each.split()[0] in known, word
    for group, words in UNDER.items():
        for word in words:
            meant = sentence(group, word)
            assert meant is not None
            assert run(*meant.split()[:2], "--help").returncode == 0, meant


# -- names, from Python too


class TestNames:
    def test_a_name_that_several_have_is_asked_about(self) -> None:
        c = community(
            rank("w", "post.write"),
            members=[member("a1", name="Ann Reed"), member("a2", name="ann  reed")],
            places=[place("x", title="Board", places=[place("y", title="board")])],
        )
        with pytest.raises(AmbiguousNameError, match=r"more than one member: a1 \(Ann Reed\), a2"):
            c.member("Ann Reed")
        with pytest.raises(AmbiguousNameError, match="more than one place"):
            c.may("a1", "post.write", at="Board")

    def test_a_key_is_meant_whatever_else_has_that_name(self) -> None:
        c = community(rank("w"), members=[member("ann", name="Bo"), member("bo", name="Ann")])
        assert c.member("bo").key == "bo"
        with pytest.raises(AmbiguousNameError):
            c.member("Bo")

    def test_where_a_word_is_two_things_it_is_said_which_was_taken(self) -> None:
        c = community(rank("warden", "post.write"), members=[member("warden")])
        assert c.names.meant("warden").kind == "member"
        assert c.names.meant("warden").note == "'warden' is taken as the member warden; for the rank say rank:warden"

    def test_edits_take_names_and_a_table_of_questions_takes_keys_alone(self, here: Path) -> None:
        import pandas as pd

        c = Community.open(here)
        assert (
            c.plan(Assign("Bram Ashby", "Surveyor", "Field work")).what == "assign Surveyor to Bram Ashby in Field work"
        )
        assert c.plan(Say("River Talk", "Surveyor+", "deny", ["place.pin"])).what.startswith(
            "deny place.pin to Surveyor"
        )
        with pytest.raises(UnknownNameError):
            c.may_many(pd.DataFrame({"member": ["Bram Ashby"], "capability": ["place.pin"], "place": ["notices"]}))

    def test_moments_are_iso_text_too(self) -> None:
        c = Community.demo()
        assert c.may("bram", "post.write", at="river-talk", when="2026-12-01T18:30")
        assert c.who("post.write", at="river-talk", when="2026-12-01").member.tolist()


def test_who_acts_is_taken_from_the_environment_and_an_empty_one_is_an_error(here: Path) -> None:
    acted = run("assign", "surveyor", "tove", "--plan", cwd=here, ASK_ABOVE_AS="Petra Lind")
    assert "As Petra Lind" in acted.stdout
    assert run("assign", "surveyor", "tove", "--plan", cwd=here, ASK_ABOVE_AS="").returncode == 2
    assert "As maintainer of the files" in run("assign", "surveyor", "tove", "--plan", cwd=here).stdout


@pytest.mark.slow
def test_groups_and_keys_are_changed_everywhere_they_are_named(here: Path) -> None:
    c = Community.open(here)
    answers = {key: c.where(key, "post.write") for key in c.register.members}
    for typed in ("group rename upper-team --key top-team", "place rename river-talk --key talk"):
        assert run(*typed.split(), "--yes", cwd=here).returncode == 0
    after = Community.open(here)
    assert "top-team" in after.member("petra").groups
    renamed = {"river-talk": "talk"}
    assert {k: [renamed.get(p, p) for p in v] for k, v in answers.items()} == {
        key: after.where(key, "post.write") for key in after.register.members
    }
    assert "river-talk" not in (here / "charter.yaml").read_text("utf-8").replace("River-talk", "")
    for _ in range(2):
        assert run("undo", "--yes", cwd=here).returncode == 0
    assert (here / "charter.yaml").read_bytes() == (DEMO / "charter.yaml").read_bytes()


def test_members_are_put_into_a_group_and_taken_out_and_keep_the_others(here: Path) -> None:
    c = Community.open(here)
    c.plan(MemberGroups("elin", put=("Lower reach team",), take=("samplers",))).apply()
    assert Community.open(here).member("elin").groups == ("upper-team", "lower-team")
    assert Community.open(here).plan(MemberGroups("elin", put=("lower-team",))).is_empty
    with pytest.raises(Exception, match="still names"):
        Community.open(here).plan(GroupRemove("upper-team"))


# -- beginnings


@pytest.mark.parametrize("kind", KINDS)
def test_a_beginning_is_well_formed_and_without_advice_and_nobody_climbs(kind: str, tmp_path: Path) -> None:
    made = run(
        "new",
        str(tmp_path / "site"),
        "--kind",
        kind,
        "--title",
        'Our "site": 1',
        "--owner",
        "Zoë Ünal",
        "--zone",
        "UTC",
    )
    assert made.returncode == 0, made.stderr
    assert "ask-above check" in made.stdout
    c = Community.open(tmp_path / "site")
    assert (c.charter.title, c.charter.owner, c.member("zoe").name) == ('Our "site": 1', "zoe", "Zoë Ünal")
    assert c.unmet() == []
    assert [piece.what for piece in c.advice().pieces] == []
    assert len(c.charter.expectations) >= 3
    assert c.climbs()["high"].tolist() == [0] * len(c.charter.ranks)
    for capability in c.charter.catalogue.capabilities.values():
        assert len(capability.about) > 8
    again = run("new", str(tmp_path / "site"), "--kind", kind, "--title", "x", "--owner", "y", "--zone", "UTC")
    assert again.returncode == 2
    assert "nothing was written" in again.stderr


@pytest.mark.slow
def test_on_a_terminal_it_asks_for_what_is_not_given_until_it_is_known(tmp_path: Path) -> None:
    answers = "Our choir\nNell Harper\n\nEurope/Londn\nEurope/London\n4\n"
    code, out = asked(answers, "new", "choir", cwd=tmp_path)
    assert code == 0, out
    assert "There is no time zone 'Europe/Londn'. Nearest: Europe/London." in out
    c = Community.open(tmp_path / "choir")
    assert (c.charter.title, c.charter.owner, c.charter.rules.timezone) == ("Our choir", "nell", "Europe/London")
    assert "treasurer" in c.charter.ranks


def test_without_a_terminal_it_says_what_is_missing_and_writes_nothing(tmp_path: Path) -> None:
    done = run("new", str(tmp_path / "site"), "--kind", "club")
    assert (done.returncode, "--title, --owner, --zone" in done.stderr) == (2, True)
    assert not (tmp_path / "site").exists()
    wrong = run("new", str(tmp_path / "a"), "--kind", "club", "--title", "A", "--owner", "B", "--zone", "Europe/Londn")
    assert "Nearest: Europe/London" in wrong.stderr


@pytest.mark.slow
def test_each_cell_of_a_sheet_has_a_list_to_choose_from(tmp_path: Path) -> None:
    import openpyxl
    from odf.opendocument import load
    from odf.table import ContentValidation, TableCell

    for ending in (".xlsx", ".ods"):
        assert run("grid", "--sheet", str(tmp_path / f"g{ending}"), cwd=DEMO).returncode == 0
    page = openpyxl.load_workbook(tmp_path / "g.xlsx").active
    (listed,) = page.data_validations.dataValidation
    assert '"yes,no,as it comes' in listed.formula1
    document = load(tmp_path / "g.ods")
    (choice,) = document.getElementsByType(ContentValidation)
    assert choice.getAttribute("condition").startswith('of:cell-content-is-in-list("yes";"no";"as it comes"')
    chosen = [each for each in document.getElementsByType(TableCell) if each.getAttribute("contentvalidationname")]
    assert len(chosen) == 41 * 12


@pytest.mark.parametrize("ending", [".csv", ".xlsx", ".ods"])
def test_a_table_that_one_has_becomes_a_charter(ending: str, tmp_path: Path) -> None:
    lines = [
        ["", "Chair", "Helper", "Member"],
        ["Talk", "", "", ""],
        ["Write posts", "x", "✓", "yes"],
        ["Remove posts", "1", "X", "no"],
        ["Give ranks", "x", "", ""],
        ["people.export", "", "", ""],
    ]
    file = tmp_path / f"plan{ending}"
    from ask_above.files.sheets import Layout, write_sheet

    write_sheet(file, lines, Layout(), "Plan")
    done = run("new", str(tmp_path / "choir"), "--grid", str(file), *BEGUN)
    assert done.returncode == 0, done.stderr
    c = Community.open(tmp_path / "choir")
    assert [rank.title for rank in c.charter.ranks.values()] == ["Chair", "Helper", "Member"]
    grid = c.grid()
    assert [bool(grid.loc["talk.remove-posts", key]) for key in ("chair", "helper", "member")] == [True, True, False]
    assert c.charter.ranks["member"].held_by == "members"
    assert c.advice().pieces == ()


def test_what_an_act_takes_in_a_charter_from_a_table_is_found_by_the_ways(tmp_path: Path) -> None:
    (tmp_path / "plan.csv").write_text(",Chair,Helper,Member\nWrite,x,x,x\nLend,x,x,\nSilence somebody,x,,\n", "utf-8")
    folder = str(tmp_path / "c")
    assert run("new", folder, "--grid", str(tmp_path / "plan.csv"), *BEGUN).returncode == 0
    for each in (["member", "add", "Ann Bell"], ["member", "add", "Ben Low"], ["assign", "chair", "ann-bell"]):
        assert run(*each, "--yes", "--community", folder).returncode == 0
    asked = ["may", "ann-bell", "moderate", "ben-low", "--community", folder]
    said = run(*asked, "--ways")
    ways = [line.split("→ ask-above ")[1].split() for line in said.stdout.splitlines() if "→ ask-above" in line]
    assert ways[0][-1].endswith("silence-somebody"), "what the fewest carry comes first"
    assert ways[1][-1].endswith("lend")
    assert len(ways) == 2, "what every member can do is no answer"
    assert run(*ways[0], "--yes", "--community", folder).returncode == 0
    assert run(*asked).returncode == 0


def test_what_is_no_tick_is_refused_and_nothing_is_written(tmp_path: Path) -> None:
    (tmp_path / "plan.csv").write_text(",A,B\nWrite,perhaps,x\n", "utf-8")
    done = run("new", str(tmp_path / "c"), "--grid", str(tmp_path / "plan.csv"), *BEGUN)
    assert "Line 2: 'perhaps' is no tick." in done.stderr
    assert not (tmp_path / "c").exists()


# -- the grid as a sheet


class TestSheet:
    @pytest.mark.parametrize("ending", [".csv", ".xlsx", ".ods"])
    @pytest.mark.parametrize("where", [[], ["--at", "Notices"]], ids=["what ranks carry", "a place"])
    def test_written_and_taken_back_untouched_nothing_changes(self, here: Path, ending: str, where: list[str]) -> None:
        assert run("grid", "--sheet", f"grid{ending}", *where, cwd=here).returncode == 0
        assert "The sheet has no changes" in run("grid", "--take", f"grid{ending}", cwd=here).stdout

    @pytest.mark.slow
    def test_a_cell_that_is_filled_in_is_a_change_with_its_effect(self, here: Path) -> None:
        run("grid", "--sheet", "grid.xlsx", cwd=here)
        book = openpyxl.load_workbook(here / "grid.xlsx")
        page = book.active
        assert page is not None
        assert page.freeze_panes == "D4"
        assert page.row_dimensions[2].hidden
        assert page.data_validations.dataValidation[0].formula1 == '"yes,no,as it comes,(yes),(no)"'
        columns = {cell.value: cell.column for cell in page[3]}
        for row in page.iter_rows(min_row=4):
            if row[1].value == "kit.lend":
                row[columns["Board host"] - 1].value = "x"
            if row[1].value == "photo.upload":
                row[columns["Volunteer"] - 1].value = "as it comes"
        book.save(here / "grid.xlsx")
        planned = run("grid", "--take", "grid.xlsx", "--plan", cwd=here).stdout
        assert "+ kit.lend on the whole site" in " ".join(planned.split())
        assert run("grid", "--take", "grid.xlsx", "--yes", "--force", "--why", "a sheet", cwd=here).returncode == 0
        after = Community.open(here).charter.ranks
        assert "kit.lend" in after["host"].grants.words
        assert "photo.upload" not in after["volunteer"].grants.words

    @pytest.mark.slow
    def test_a_sheet_from_an_older_state_says_so_and_takes_only_what_was_filled_in(self, here: Path) -> None:
        run("grid", "--sheet", "grid.csv", cwd=here)
        Community.open(here).plan(Grant("host", ["kit.lend"])).apply()
        self._fill(here, "Surveyor", "thread.close", "yes")
        done = run("grid", "--take", "grid.csv", "--yes", "--force", "--why", "x", cwd=here)
        assert "have been made since this sheet was written" in " ".join(done.stderr.split())
        ranks = Community.open(here).charter.ranks
        assert "kit.lend" in ranks["host"].grants.words  # what the sheet does not hold is not touched
        assert "thread.close" in ranks["surveyor"].grants.words

    def test_at_a_place_it_is_what_the_place_says(self, here: Path) -> None:
        run("grid", "--sheet", "grid.csv", "--at", "river-talk", cwd=here)
        self._fill(here, "Member", "post.write", "no")
        assert "Deny post.write to Member in River talk" in run("grid", "--take", "grid.csv", "--plan", cwd=here).stdout
        elsewhere = run("grid", "--take", "grid.csv", "--at", "notices", "--plan", cwd=here)
        assert "The sheet is of River talk, not of Notices. Leave --at out." in elsewhere.stderr
        self._fill(here, "Member", "post.publish", "yes")
        self._fill(here, "Member", "post.review", "no")
        refused = run("grid", "--take", "grid.csv", "--plan", cwd=here)
        assert "and to deny post.write and post.review to Member in River talk cannot both stand" in refused.stderr

    def test_what_cannot_be_understood_is_all_told_and_nothing_is_done(self, here: Path) -> None:
        run("grid", "--sheet", "grid.csv", cwd=here)
        self._fill(here, "Member", "post.write", "perhaps")
        self._fill(here, "Steward", "post.write", "no")
        done = run("grid", "--take", "grid.csv", "--yes", cwd=here)
        assert done.returncode == 2
        assert "'perhaps' is neither yes, no" in done.stderr
        assert "Steward may do everything" in done.stderr
        assert not (here / "register.db").exists()

    @pytest.mark.parametrize("ending", [".csv", ".xlsx", ".ods"])
    def test_titles_are_for_people_and_keys_say_which_rank_is_meant(self, tmp_path: Path, ending: str) -> None:
        """One rank's title is another's key, and two have one title: nothing is swapped."""
        self._mill(tmp_path)
        assert run("grid", "--sheet", f"grid{ending}", cwd=tmp_path).returncode == 0
        assert "The sheet has no changes" in run("grid", "--take", f"grid{ending}", cwd=tmp_path).stdout

    def test_a_name_that_is_one_rank_s_key_and_another_s_title_is_asked_about(self, tmp_path: Path) -> None:
        self._mill(tmp_path)
        (tmp_path / "own.csv").write_text("what,warden,host\nlog.add,x,\n")
        done = run("grid", "--take", "own.csv", "--yes", cwd=tmp_path)
        assert done.returncode == 2
        assert "'warden' is the key of one rank and the title of host" in " ".join(done.stderr.split())

    def test_one_s_own_table_is_taken_by_key_or_sentence_and_its_headings_are_passed_over(self, tmp_path: Path) -> None:
        self._mill(tmp_path)
        charter = tmp_path / "charter.yaml"
        charter.write_text(charter.read_text().replace("{key: miller, title: Third", "{key: miller, title: Miller"))
        lines = ["Who may what,,", ",Miller,third", "The log,,", "Add to the log,x,x", "log.mend,x,", "Odd words,x,"]
        (tmp_path / "own.csv").write_text("\n".join(lines[:-1]) + "\n")
        done = run("grid", "--take", "own.csv", "--yes", "--force", "--why", "a table", cwd=tmp_path)
        assert done.returncode == 0, done.stderr
        ranks = Community.open(tmp_path).charter.ranks
        assert {key: rank.grants.words for key, rank in ranks.items()} == {
            "host": ("log.add",),
            "warden": ("log.mend",),
            "miller": ("log.add", "log.mend"),
            "third": ("log.add",),
        }
        (tmp_path / "own.csv").write_text("\n".join(lines) + "\n")
        assert "there is no capability 'Odd words'" in run("grid", "--take", "own.csv", cwd=tmp_path).stderr

    def test_what_a_sheet_says_twice_and_not_alike_is_a_fault(self, tmp_path: Path) -> None:
        self._mill(tmp_path)
        (tmp_path / "own.csv").write_text("what,miller\nlog.add,x\nAdd to the log,no\nlog.mend,x\nlog.mend,yes\n")
        done = run("grid", "--take", "own.csv", "--yes", cwd=tmp_path)
        assert done.returncode == 2
        assert "Lines 2 and 3 differ on log.add for miller: 'x' and 'no'." in " ".join(done.stderr.split())
        assert "log.mend for" not in done.stderr

    @pytest.mark.parametrize("ending", ["xlsx", "ods"])
    def test_a_merged_cell_and_a_formula_without_a_value_are_told_with_their_address(
        self, tmp_path: Path, ending: str
    ) -> None:
        self._mill(tmp_path)
        if ending == "xlsx":
            book = openpyxl.Workbook()
            page: Any = book.active
            for line in (["Who may what"], ["what", "miller", "third"], ["log.add", "x", ""], ["log.mend", "=1", "x"]):
                page.append(line)
            page.merge_cells("A1:C1")  # a title over all of it is none of our business
            page.merge_cells("B3:C3")
            book.save(tmp_path / "own.xlsx")
        else:
            self._ods(tmp_path / "own.ods")
        done = run("grid", "--take", f"own.{ending}", "--yes", cwd=tmp_path)
        said = " ".join(done.stderr.split())
        assert done.returncode == 2
        assert "B4 holds a formula without its value" in said
        assert f"{'B3:C3' if ending == 'xlsx' else 'B3'} is merged out of several cells" in said
        assert said.count("merged") == 1

    @staticmethod
    def _ods(file: Path) -> None:
        from odf.opendocument import OpenDocumentSpreadsheet
        from odf.table import CoveredTableCell, Table, TableCell, TableRow
        from odf.text import P

        document: Any = OpenDocumentSpreadsheet()
        page = Table(name="Own")
        document.spreadsheet.addElement(page)
        for words in (["Who may what"], ["what", "miller", "third"], ["log.add", "x", None], ["log.mend", "=1", "x"]):
            row = TableRow()
            page.addElement(row)
            for n, word in enumerate(words):
                wide = (
                    {"numbercolumnsspanned": 2, "numberrowsspanned": 1}
                    if n + 1 < len(words) and words[n + 1] is None
                    else {}
                )
                cell = CoveredTableCell() if word is None else TableCell(valuetype="string", **wide)
                if word == "=1":
                    cell = TableCell(formula="of:=1")
                elif word:
                    cell.addElement(P(text=word))
                row.addElement(cell)
        document.save(str(file))

    @staticmethod
    def _mill(folder: Path) -> None:
        (folder / "charter.yaml").write_text(
            """charter: 1
key: mill
owner: ada
capabilities: {Work: {log.add: Add to the log, log.mend: Mend the log}}
ranks:
  - {key: host, title: Warden, grants: [log.add]}
  - {key: warden, title: Host, grants: [log.mend]}
  - {key: miller, title: Third, grants: []}
  - {key: third, title: Third}
"""
        )
        (folder / "members.csv").write_text("key\nada\n")

    @staticmethod
    def _fill(folder: Path, title: str, capability: str, said: str) -> None:
        with (folder / "grid.csv").open(newline="", encoding="utf-8") as file:
            rows = list(csv.reader(file))
        column = rows[2].index(title)
        next(row for row in rows if len(row) > 1 and row[1] == capability)[column] = said
        with (folder / "grid.csv").open("w", newline="", encoding="utf-8") as file:
            csv.writer(file).writerows(rows)


def test_a_place_given_another_key_keeps_its_assignments_and_expectations() -> None:
    c = Community.demo()
    given = [each for each in c.register.assignments if each.place == "commons"]
    assert given
    plan = Community.open(DEMO).plan(PlaceRename("commons", new_key="talk"))
    assert len([each for each in plan.after.register.assignments if each.place == "talk"]) == len(given)
    assert not plan.effect.shifts


@pytest.mark.slow
def test_where_the_charter_cannot_be_read_any_more_one_command_goes_back(here: Path) -> None:
    assert "no earlier state of the files is known" in run("undo", "--edits", "--yes", cwd=here).stderr
    Community.open(here).plan(Grant("host", ["kit.lend"])).apply()
    left = (here / "charter.yaml").read_bytes()
    (here / "charter.yaml").write_bytes(left.replace(b"ranks:", b"rnaks:") + b"  : [\n")
    for typed in ("check", "ladder", "assign surveyor tove --plan"):
        done = run(*typed.split(), cwd=here)
        assert "ask-above undo --edits" in done.stdout + done.stderr, typed
    assert "kept beside" not in run("undo", "--edits", "--plan", cwd=here).stdout
    done = run("undo", "--edits", "--yes", cwd=here)
    assert "what it held is in charter.put-aside.yaml" in done.stdout
    assert (here / "charter.yaml").read_bytes() == left
    assert b"rnaks" in (here / "charter.put-aside.yaml").read_bytes()
    assert Community.open(here).rank("host")
    assert "Nothing was edited" in run("undo", "--edits", "--yes", cwd=here).stdout


def test_who_can_enter_each_closed_place_is_one_table() -> None:
    c = Community.demo()
    data = json.loads(run("cover", "--enter", "--format", "json", cwd=DEMO).stdout)
    gated = [key for key, place in c.charter.places.items() if place.gate]
    assert [row["place"] for row in data] == gated
    for row in data:
        listed = set(row["who"].split(";"))
        for key, person in c.register.members.items():
            answer = c.may(key, "place.see", at=row["place"])
            shut = any(step.code == "gate-closed" for step in answer.steps)
            assert (key in listed) is (person.status == "active" and not shut), (key, row["place"])
    assert "Landowner contacts" in run("cover", "--enter", cwd=DEMO).stdout


def test_where_the_charter_lists_its_kinds_any_other_is_a_fault() -> None:
    text = (
        "charter: 1\nkey: x\nkinds: [room, section]\n"
        "capabilities: {A: {a.b: {about: B, kinds: [room, site]}, a.c: {about: C, kinds: [roon]}}}\n"
        "ranks: [{key: r}]\nplaces: [{key: p, kind: room}, {key: q, kind: rom}]\n"
    )
    with pytest.raises(FaultyFilesError) as found:
        Community.from_texts({"charter.yaml": text})
    said = [(fault.code, fault.nearest, fault.line) for fault in found.value.faults]
    assert said == [("unknown-kind", ("room",), 4), ("unknown-kind", ("room",), 6)]
    right = Community.from_texts({"charter.yaml": text.replace("rom}", "room}").replace("roon", "room")})
    assert right.charter.kinds == ("room", "section")


@pytest.mark.slow
def test_check_says_who_gained_and_lost_by_an_edit_by_hand_and_so_does_the_journal(here: Path) -> None:
    Community.open(here).plan(Grant("host", ["kit.lend"])).apply()
    assert "Edited by hand" not in run("check", cwd=here).stdout
    text = (here / "charter.yaml").read_text("utf-8")
    (here / "charter.yaml").write_text(
        text.replace("grants: [place.see]", "grants: [place.see, photo.feature]"), "utf-8"
    )
    said = " ".join(run("check", cwd=here).stdout.split())
    assert "Edited by hand since the last change, in charter.yaml:" in said
    assert "photo.feature" in said.partition("Edited by hand")[2]
    assert "+ photo.feature" in said
    Community.open(here).plan(Grant("member", ["poll.start"])).apply()
    entry = Community.open(here).home.store.entries()[-2]
    assert entry.kind == "hand"
    assert any("photo.feature" in line for line in entry.effect)


# -- lists of people from elsewhere


class TestImport:
    LIST = (
        "First name;Last name;E-Mail;Member since;Team;Shoe size\n"
        "Ida;Reed;ida@choir.example;31.12.2025;Upper reach team;40\n"
        "Jo;Bell;jo@choir.example;1.2.2026;lower-team, Upper Reach Team;41\n"
        "Jo;Bell;jo@choir.example;1.2.2026;lower-team, Upper Reach Team;41\n"
    )

    def write(self, here: Path, text: str, encoding: str = "utf-8") -> None:
        (here / "list.csv").write_text(text, encoding)

    def take(self, here: Path, *options: str) -> str:
        done = run("import", "list.csv", "--status", "active", *options, cwd=here)
        return " ".join((done.stdout + done.stderr).split())

    def test_columns_separators_dates_and_groups_are_recognised_and_told(self, here: Path) -> None:
        self.write(here, self.LIST)
        planned = self.take(here, "--map", "Shoe size=", "--plan")
        for said in (
            "E-Mail → email, Member since → joined, Team → groups, Shoe size → left out.",
            "The cells are separated by semicolons.",
            "1 row said the same as another, and count once.",
            "Dates were read as day, month, year.",
            "Ida Reed ida@choir.example 2025-12-31 Upper reach team",
            "2 new members",
        ):
            assert said in planned
        assert "2 new members" in self.take(here, "--map", "Shoe size=", "--save-map", "mine.map", "--yes")
        jo = Community.open(here).member("Jo Bell")
        assert (jo.joined, jo.groups) == ("2026-02-01", ("lower-team", "upper-team"))
        # the same file again changes nothing, and the mapping was kept
        assert "Nothing changes" in self.take(here, "--map", "mine.map", "--link", "--yes")

    def test_a_mapping_is_kept_once_the_list_was_taken_and_never_over_another_file(self, here: Path) -> None:
        self.write(here, self.LIST)
        keep = ("--map", "Shoe size=", "--save-map", "mine.map")
        self.take(here, *keep, "--plan")
        assert not (here / "mine.map").exists()
        assert "is there already" in self.take(here, "--map", "Shoe size=", "--save-map", "signins.csv", "--yes")
        assert not (here / "register.db").exists()
        self.take(here, *keep, "--yes")
        assert (here / "mine.map").read_text() == "Shoe size=\n"

    def test_a_column_that_nobody_knows_is_a_fault_that_says_how_to_map_it(self, here: Path) -> None:
        self.write(here, self.LIST)
        assert '--map "Shoe size=" leaves it out' in self.take(here, "--yes")
        assert not (here / "register.db").exists()
        assert "there is no field 'nmae'" in self.take(here, "--map", "Shoe size=nmae", "--yes").lower()

    def test_dates_that_could_be_two_days_are_refused(self, here: Path) -> None:
        self.write(here, "name,joined\nIda Reed,1/2/2026\n")
        assert "could be two days" in self.take(here, "--yes")

    def test_another_coding_is_read_and_told(self, here: Path) -> None:
        self.write(here, "name,email\nZoë Ünal,zoe@choir.example\n", "cp1252")
        assert "read as Windows-1252" in self.take(here, "--yes")
        assert Community.open(here).member("zoe uenal").name == "Zoë Ünal"

    def test_who_is_likely_somebody_here_is_a_fault_until_somebody_says_so(self, here: Path) -> None:
        self.write(here, "name,email\nTove Eddy-Holm,tove@wren-valley.example\nTove Eddy,\n")
        said = self.take(here, "--plan")
        assert "Tove Eddy-Holm is likely Tove Eddy (tove)" in said
        assert "--link to link them" in said
        self.write(here, "name,email\nTove Eddy-Holm,tove@wren-valley.example\n")
        assert "0 new members, 1 changed" in self.take(here, "--link", "--plan")
        self.write(here, "key,name,email\ntove,Tove Eddy-Holm,\n")
        assert "0 new members, 1 changed" in self.take(here, "--plan")

    def test_those_elsewhere_known_by_number_are_recognised(self, here: Path) -> None:
        self.write(here, "membership number,name\n42,Ida Reed\n")
        self.take(here, "--yes")
        self.write(here, "membership number,name\n42,Ida Harper\n")
        assert "0 new members, 1 changed" in self.take(here, "--yes")
        assert Community.open(here).member("ida-reed").name == "Ida Harper"

    def test_those_who_are_absent_are_told_or_retired_and_never_half_the_site_nor_the_owner(self, here: Path) -> None:
        c = Community.open(here)
        active = [m for m in c.register.members.values() if m.status == "active" and m.kind == "person"]
        self.write(here, "key\n" + "".join(f"{m.key}\n" for m in active[: len(active) // 2]))
        assert "that looks like half a file" in self.take(here, "--absent", "retire", "--yes")
        gone = next(m for m in reversed(active) if m.key != c.charter.owner)
        self.write(here, "key\n" + "".join(f"{m.key}\n" for m in active if m.key not in (gone.key, c.charter.owner)))
        told = self.take(here, "--absent", "tell", "--plan")
        assert f"does not name 1 of {sum(m.status == 'active' for m in c.register.members.values())}" in told
        assert "Nothing changes" in told
        self.take(here, "--absent", "retire", "--yes", "--force", "--why", "a list")
        after = Community.open(here)
        assert after.member(gone.key).status == "retired"
        assert after.member(c.charter.owner or "").status == "active"

    def test_names_are_told_to_those_alone_who_may_see_them(self, here: Path) -> None:
        self.write(here, "name\nBram Ashby\n")
        for who, seen in (("ines", True), ("dara", False)):
            said = self.take(here, "--absent", "tell", "--plan", "--as", who)
            assert f"Bram Ashby is likely {'Bram Ashby (bram)' if seen else 'somebody who is here'}" in said
            assert ("Olaf Tarn" in said.partition("The file does not name")[2].partition(".")[0]) is seen
            assert "The file does not name" in said


# -- what to type next


def test_a_no_names_the_command_that_says_what_would_turn_it(here: Path) -> None:
    done = run("may", "Dara Fenwick", "assign", "Surveyor", "to", "tove", cwd=here)
    line = done.stderr.splitlines()[-1]
    assert line == "What would allow it: ask-above may dara assign Surveyor --to tove --ways"
    assert "fewest side effects first" in run(*line.partition("ask-above ")[2].split(), cwd=here).stdout
    assert "What would turn it" not in run("may", "ada", "place.see", cwd=here).stderr


@pytest.mark.slow
def test_handing_over_says_what_is_kept_and_what_to_look_at(here: Path) -> None:
    with (here / "assignments.csv").open("a") as file:
        file.write("ines,surveyor,,2020-06-01,2021-06-01,ines,\n")
    assert run("assign", "host", "ines", "--at", "river-talk", "--yes", cwd=here).returncode == 0
    said = run("member", "hand-over", "olaf", "--plan", cwd=here).stdout
    assert "Ines Moor keeps Steward, Founding friend and Board host in River talk." in said
    for line in said.splitlines():
        if line.strip().startswith(("→ ask-above", "ask-above")):
            words = line.partition("ask-above ")[2].split("  ")[0].split()
            again = run(*words, *(["--plan"] if words[0] == "unassign" else []), cwd=here)
            assert again.returncode != 2, again.stderr


def test_a_line_without_its_colon_is_reported_on_its_own_line(here: Path) -> None:
    charter = here / "charter.yaml"
    lines = charter.read_text().splitlines()
    at = lines.index("title: Wren Valley River Watch")
    lines[at] = "title Wren Valley River Watch"
    charter.write_text("\n".join(lines))
    said = run("check", cwd=here).stdout
    assert f"charter.yaml, line {at + 1}, column 1" in said
    assert "1 fault. Correct it and try again." in said


# -- what holds of every command


def commands(group: click.Group, *words: str) -> Iterator[tuple[tuple[str, ...], click.Command]]:
    context = click.Context(group)
    for name in group.list_commands(context):
        command = group.get_command(context, name)
        if isinstance(command, click.Group):
            yield from commands(command, *words, name)
        elif command is not None:
            yield (*words, name), command


def test_what_ends_is_said_by_its_end_or_by_how_long_it_lasts() -> None:
    ends = [(words, opts(command)) for words, command in commands(main) if "--until" in opts(command)]
    assert len(ends) > 4
    assert [words for words, known in ends if "--for" not in known] == []


def opts(command: click.Command) -> set[str]:
    return {name for param in command.params for name in param.opts}


PAIRS = ["rank add helper {}", "rank set host {}", "rank copy host helper {}", "place add tide board {}"]
PAIRS += [
    "place set rota {}",
    "group add night {}",
    "group set upper-team {}",
    "member add ida {}",
    "member set bram {}",
]


@pytest.mark.parametrize("typed", PAIRS)
def test_a_field_is_said_as_a_pair_or_as_an_option(typed: str) -> None:
    field = "note" if typed.startswith("member") else "about"
    one, other, third = (
        run(*typed.format(said).split(), "--plan", cwd=DEMO)
        for said in (f"{field}=Often", f"--{field} Often", f"--{field}=Often")
    )
    assert one.returncode == 0, one.stderr
    assert (one.stdout, one.stderr) == (other.stdout, other.stderr) == (third.stdout, third.stderr)
    twice = run(*typed.format(f"--{field} Often {field}=Seldom").split(), "--plan", cwd=DEMO)
    assert f"{field} is given twice, as 'Seldom' and as 'Often'. Say it once." in twice.stderr
    without = run(*typed.format(f"--{field}").split(), "--plan", cwd=DEMO)
    assert f"--{field} needs a value: {field}=VALUE" in without.stderr


def test_the_kind_of_a_place_is_said_in_any_of_three_ways() -> None:
    shown = [
        run("place", "add", "tide", *said, "--plan", cwd=DEMO)
        for said in (["board"], ["kind=board"], ["--kind", "board"])
    ]
    assert [done.returncode for done in shown] == [0, 0, 0]
    assert len({done.stdout for done in shown}) == 1
    assert run("place", "add", "tide", "board", "kind=journal", "--plan", cwd=DEMO).returncode == 2


@pytest.mark.parametrize(
    ("name", "key"),
    [
        ("Ida Reed", "ida"),
        ("Bram Reed", "bram-reed"),  # somebody else is bram
        ("Host Reed", "host-reed"),  # a rank is host
        ("Site Reed", "site-reed"),  # no member can be site
        ("Site", "m-site"),
        ("Bram Ashby", ""),
        ("bram  ASHBY", ""),
    ],
)
def test_somebody_new_gets_a_key_that_nobody_has(name: str, key: str) -> None:
    for words in (["add", name], ["invite", name, "new@river.example"]):
        done = run("member", *words, "--plan", cwd=DEMO)
        if key:
            assert (done.returncode, f"Its key is {key}." in done.stderr) == (0, True), done.stderr
        else:  # one and the same, or another of that name: only a key says so
            assert f"There is a member '{name}' already. Another of that name needs a key: KEY '{name}'" in done.stderr
    assert run("member", "add", "other", "Bram Ashby", "--plan", cwd=DEMO).returncode == 0
