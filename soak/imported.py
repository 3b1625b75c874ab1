"""What a list leaves when it is imported, held to a second reading: each row is somebody, and nobody else is touched.

Run: python soak/imported.py COUNT [FIRST]; so many communities, from the seed FIRST on.
"""

from __future__ import annotations

import csv
import io
import sys
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from random import Random

sys.path.insert(0, str(Path(__file__).parent.parent))

from soak.synced import State, main, state, texts

from ask_above import AskAboveError
from ask_above.change.importing import Import
from ask_above.files.people_lists import read_people
from ask_above.workspace.memory import MemoryStorage
from ask_above.workspace.plans import plan

FIELDS = ("name", "email", "status", "groups", "external_id", "user_name", "note", "phone")
Row = dict[str, str]


def some_list(rng: Random, keys: list[str]) -> list[Row]:
    """Return rows of some columns, in which cells may be empty, about people who may be here."""
    columns = rng.sample(FIELDS, rng.randrange(1, 6))
    columns = ["key", *columns] if rng.random() < 0.4 else ["name", *columns]
    rows = []
    for _ in range(rng.randrange(1, 4)):
        n, other = rng.randrange(9), rng.randrange(6)
        cells = {
            "key": rng.choice([rng.choice(keys), f"new{n}"]),
            "name": rng.choice([f"Person {n}", f"Mem {other}"]),
            "email": rng.choice([f"e{n}@x.example", f"M{other}@X.EXAMPLE"]),
            "status": rng.choice(["active", "locked", "retired", "pending", "invited"]),
            "groups": rng.choice(["upper", "lower;upper", "lower"]),
            "external_id": f"X{other}",
            "user_name": rng.choice([f"u{n}", f"U{n}", rng.choice(keys)]),
            "note": f"note {n}",
            "phone": f"+44 {n}",
        }
        rows.append({column: cells[column] if rng.random() < 0.75 else "" for column in columns})
    return rows


def imported(home: MemoryStorage, rows: list[Row], *, link: bool) -> str:
    """Import rows; returns why that was refused, nothing where it was made."""
    out = io.StringIO()
    writer = csv.DictWriter(out, rows[0])
    writer.writeheader()
    writer.writerows(rows)
    read, _ = read_people("list.csv", out.getvalue().encode(), {})
    try:
        plan(home, [Import(read, "active", link=link)], by=None, why="a list").apply(force=True)
    except AskAboveError as error:
        return str(error)
    return ""


def whom(row: Row, before: State, after: State) -> Iterator[str]:
    """Yield the members whom a row may mean, by what was so before it or is now, and who are as it says."""
    for key, (member, _) in after.items():
        was = before[key][0] if key in before else member
        known = {"key": {key}, "name": {was.name, member.name}}
        for field in ("email", "external_id", "user_name"):
            known[field] = {getattr(each, field).casefold() for each in (was, member)} - {""}
        known["user_name"].add(key)
        by = ("key",) if row.get("key") else ("external_id", "user_name", "email", "name")
        meant = any(row.get(field, "") in known[field] or row.get(field, "").casefold() in known[field] for field in by)
        said = {field: cell for field, cell in row.items() if cell and field != "key"}
        groups = set(said.pop("groups", ";".join(member.groups)).split(";")) - {""}
        if meant and groups == set(member.groups) and all(getattr(member, f) == cell for f, cell in said.items()):
            yield key


def differences(rows: list[Row], before: State, after: State) -> Iterator[str]:
    """Yield rows that are nobody, members whom no row means, and what was lost."""
    meant: set[str] = set()
    for row in filter(lambda row: any(row.values()), rows):
        keys = set(whom(row, before, after))
        meant |= keys
        if not keys:
            yield f"{row} is nobody"
    for key, (member, given) in after.items():
        if key not in before and key.startswith("member"):
            yield f"{key} is new, and has no key of what the list says of them: {member}"
        if key not in meant and (member, given) != before.get(key):
            yield f"{key} was touched: {before.get(key)}, {member}"
        for field in FIELDS if key in before else ():
            if getattr(before[key][0], field) and not getattr(member, field):
                yield f"{key} has lost {field}"
    names = Counter(name for key, (member, _) in after.items() for name in {key, member.user_name.casefold()} - {""})
    yield from (f"{name} are two" for name, count in names.items() if count > 1)


def as_it_is(seed: int) -> Iterator[str]:
    """Yield what six lists leave that they do not say, each the second time too."""
    rng = Random(seed)
    home = MemoryStorage(texts(rng))
    for step in range(6):
        rows, link, before = some_list(rng, [*home.read().register.members]), rng.random() < 0.5, state(home)
        refused = imported(home, rows, link=link)
        after = state(home)
        if refused:
            if after != before:
                yield f"{seed}, step {step}: half of {rows} was taken, and it is refused: {refused}"
            continue
        yield from (f"{seed}, step {step}: {said}" for said in differences(rows, before, after))
        imported(home, rows, link=link)
        if state(home) != after:
            yield f"{seed}, step {step}: {rows} a second time is not as the first"


if __name__ == "__main__":
    sys.exit(main(as_it_is))
