"""Make the files of a new community from a prepared beginning."""

from __future__ import annotations

import json
import re
from importlib.resources import files
from typing import Final, NamedTuple

from ask_above.people.recognising import key_from

KINDS: Final = {
    "rooms": "rooms to talk in",
    "journal": "a journal written by several",
    "course": "a course with groups",
    "club": "a club with sections",
    "records": "a members' site with a record of people",
    "shop": "a shop's back office",
}
"""The prepared beginnings, each in a few words."""

_MARK = re.compile(r"<<(\w+)>>")


class Answers(NamedTuple):
    """What a beginning has to know; ``owner`` is the full name of the member who answers for the site."""

    title: str
    owner: str
    zone: str
    email: str = ""

    @property
    def key(self) -> str:
        """The key of the community."""
        return key_from(self.title) or "our-site"

    @property
    def owner_key(self) -> str:
        """The key of the owner: the first name, in plain letters."""
        return key_from(self.owner.split()[0] if self.owner.split() else "") or "owner"


def charter(kind: str, answers: Answers) -> str:
    """Return the charter of a beginning."""
    text = (files("ask_above.beginnings") / f"{kind}.yaml").read_text("utf-8")
    quoted = json.dumps(answers.title, ensure_ascii=False)
    said = {"title": quoted, "key": answers.key, "owner": answers.owner_key, "zone": answers.zone}
    first, _, rest = text.partition("\n")
    return first.replace("<<title>>", answers.title) + "\n" + _MARK.sub(lambda m: said[m[1]], rest)


def members(answers: Answers, day: str) -> str:
    """Return the file of members, with the owner in it, who joined on a day."""
    import csv
    import io

    from ask_above.files.cells import guarded
    from ask_above.people.reading import MEMBER_COLUMNS

    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(MEMBER_COLUMNS)
    row = {
        "key": answers.owner_key,
        "name": answers.owner,
        "email": answers.email,
        "kind": "person",
        "status": "active",
        "joined": day,
    }
    writer.writerow([guarded(row.get(column, "")) for column in MEMBER_COLUMNS])
    return out.getvalue()


def assignments() -> str:
    """Return the file of assignments, empty: the owner stands above all without being given a rank."""
    from ask_above.people.reading import ASSIGNMENT_COLUMNS

    return ",".join(ASSIGNMENT_COLUMNS) + "\n"
