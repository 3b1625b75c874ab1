"""An identity provider at a community of many members, one request after another.

Run: python soak/provisioning.py [MEMBERS] [WRITES]; by default 20,000 members and 200 writes, at the demo with so many
members more and at the standard community. Prints how long a write takes.
"""

from __future__ import annotations

import shutil
import statistics
import sys
import time
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))
sys.path.insert(0, str(Path(__file__).parent.parent / "benchmarks"))

from large_register import write

from ask_above import Community
from asking import Reply
from conftest import DEMO
from standard import Size
from test_provisioning import PATCH, Provider

_WELL = (200, 201, 204)


def demo(folder: Path, members: int) -> None:
    """Write the demo with so many members more, some of them helpers."""
    shutil.copytree(DEMO, folder)
    with (folder / "members.csv").open("a", encoding="utf-8") as file:
        file.writelines(f"extra-{n},Extra {n},extra{n}@river.example,,active,,,\n" for n in range(members))


def standard(folder: Path, members: int) -> None:
    """Write the standard community with so many members; one of them is its owner."""
    write(folder, Size(members=members), more="owner: m0\n")
    with (folder / "assignments.csv").open("a", encoding="utf-8") as file:
        file.write("m0,rank-0,,,\n")


def patched(provider: Provider, path: str, operation: Any) -> Reply:
    return provider.send("PATCH", path, {"schemas": [PATCH], "Operations": [operation]})


def writes(provider: Provider, count: int, group: str) -> list[float]:
    """Send so many writes of every kind that a provider sends; returns the seconds that each took."""
    took = []
    for n in range(count):
        name = f"new{n // 5}@elsewhere.example"
        start = time.perf_counter()
        match n % 5:
            case 0:
                done = provider.add(name, displayName=f"New {n}", emails=[{"value": name}])
                key = done.data["id"]
            case 1:
                done = patched(provider, f"/Users/{key}", {"op": "replace", "path": "displayName", "value": "Else"})
            case 2:
                one = {"op": "add", "path": "members", "value": [{"value": key}]}
                done = patched(provider, f"/Groups/{group}", one)
            case 3:
                done = patched(provider, f"/Users/{key}", {"op": "replace", "path": "active", "value": False})
            case _:
                done = provider.send("DELETE", f"/Users/{key}")
        took.append(time.perf_counter() - start)
        if done.status not in _WELL:
            raise SystemExit(f"write {n} was answered with {done.status}: {done.body!r}")
    return took


def main() -> None:
    members, count = [*map(int, sys.argv[1:3]), *(20_000, 200)[len(sys.argv) - 1 :]]
    for what, make, owner, group in (
        ("demo", demo, "ines", "group:samplers"),
        ("standard", standard, "m0", "group:group-1"),
    ):
        with TemporaryDirectory() as name:
            folder = Path(name) / what
            make(folder, members)
            provider = Provider(folder, owner)
            start = time.perf_counter()
            provider.send("GET", "/Users?count=100")
            print(f"{what}: the first page after {time.perf_counter() - start:.2f} s")
            start = time.perf_counter()
            took = writes(provider, count, group)
            kinds = ["POST", "PATCH a name", "PATCH a group", "PATCH active", "DELETE"]
            for n, kind in enumerate(kinds):
                some = sorted(took[n + 5 :: 5])
                print(f"{what}: {kind}: median {statistics.median(some) * 1000:.0f} ms, at most {some[-1] * 1000:.0f}")
            print(f"{what}: {count} writes in {time.perf_counter() - start:.1f} s", flush=True)
            print(f"{what}: {len(Community.open(folder).register.members)} members afterwards")


if __name__ == "__main__":
    main()
