"""A service under broken requests and under load: no fault of its own, and no memory that only grows.

Run: python soak/serving.py [BROKEN] [MINUTES]; by default 20,000 broken requests, and an hour of questions while the
community changes every second. Prints what was answered, and the memory of the process now and then.
"""

from __future__ import annotations

import http.client
import json
import re
import shutil
import sys
import time
from collections import Counter
from pathlib import Path
from random import Random
from tempfile import TemporaryDirectory
from threading import Thread
from typing import Any

sys.path.insert(0, str(Path(__file__).parent.parent / "tests"))

from ask_above import Community
from ask_above.change import Assign, Unassign
from asking import server
from conftest import DEMO

PATHS = (
    "/access/v1/evaluation",
    "/access/v1/evaluations",
    "/access/v1/search/subject",
    "/access/v1/search/resource",
    "/access/v1/search/action",
    "/changes?since=0",
    "/scim/v2/Users",
    "/metrics",
    "/nowhere",
)
GOOD: dict[str, Any] = {
    "subject": {"type": "member", "id": "dara", "properties": {}},
    "action": {"name": "post.write", "properties": {}},
    "resource": {"type": "place", "id": "notices", "properties": {"author": "bram"}},
    "context": {"time": "2026-11-26T12:00:00Z", "explain": "all"},
    "evaluations": [{"action": {"name": "moderate"}, "resource": {"type": "member", "id": "bram"}}],
    "options": {"evaluations_semantic": "deny_on_first_deny"},
    "page": {"token": "x", "limit": 3},
}
ODD: tuple[Any, ...] = (
    None, True, -1, 1e400, 10**30, "", "\u0000", "x" * 5000, "\ud83d\ude00", [], {}, [[[]]], {"id": {"id": {}}},
    "../../etc/passwd", "rank:member", "site", ["dara"], "2026-13-45", "дара", "%00", "' OR 1=1 --",
)  # fmt: skip


def broken(rng: Random) -> bytes:
    """Return a body that is wrong somewhere: a field of another type, gone or twice, or bytes that are no JSON."""
    data = json.loads(json.dumps(GOOD))
    for _ in range(rng.randint(1, 4)):
        here: Any = data
        while True:
            key = rng.choice(list(here)) if isinstance(here, dict) and here else None
            if key is None:
                break
            if isinstance(here[key], dict) and here[key] and rng.random() < 0.7:
                here = here[key]
                continue
            if rng.random() < 0.2:
                del here[key]
            else:
                here[key] = rng.choice(ODD)
            break
    raw = json.dumps(data).encode()
    if rng.random() < 0.2:
        cut = rng.randrange(len(raw))
        raw = raw[:cut] + bytes(rng.randrange(256) for _ in range(rng.randint(0, 20))) + raw[cut + 5 :]
    if rng.random() < 0.01:
        raw = b"[" * rng.randint(1000, 200_000)
    return raw


def break_it(host: str, port: int, count: int) -> Counter[int]:
    rng, found = Random(1), Counter[int]()
    connection = http.client.HTTPConnection(host, port, timeout=30)
    for _ in range(count):
        method = rng.choice(("POST", "POST", "POST", "GET", "PUT", "DELETE", "PATCH"))
        kind = rng.choice(("application/json", "application/json", "text/plain", "", "application/scim+json"))
        try:
            connection.request(method, rng.choice(PATHS), broken(rng), {"Content-Type": kind})
            reply = connection.getresponse()
            reply.read()
            found[reply.status] += 1
        except (http.client.HTTPException, OSError):
            found[0] += 1
            connection.close()
    return found


def memory(pid: int) -> float:
    """Return what a process holds, in megabytes."""
    said = re.search(r"VmRSS:\s+(\d+)", Path(f"/proc/{pid}/status").read_text())
    return int(said[1]) / 1024 if said else 0.0


def change(folder: Path, stop: list[bool]) -> None:
    n = 0
    while not stop:
        edit = Assign("tove", "surveyor") if n % 2 == 0 else Unassign("tove", "surveyor")
        Community.open(folder).plan(edit).apply()
        n += 1
        time.sleep(1)


def ask(host: str, port: int, count: list[int], stop: list[bool]) -> None:
    rng, connection = Random(2), http.client.HTTPConnection(host, port, timeout=30)
    community = Community.demo()
    members, places = [*community.register.members], [*community.charter.places]
    names = community.charter.catalogue.keys
    while not stop:
        path = rng.choice(PATHS[:5] if rng.random() < 0.1 else PATHS[:1])
        said: dict[str, Any] = {
            "subject": {"type": "member", "id": rng.choice(members)},
            "action": {"name": rng.choice(names)},
            "resource": {"type": "place", "id": rng.choice(places)},
        }
        connection.request("POST", path, json.dumps(said), {"Content-Type": "application/json"})
        reply = connection.getresponse()
        reply.read()
        count[reply.status // 100] += 1


def main() -> None:
    requests, minutes = int(sys.argv[1]) if len(sys.argv) > 1 else 20_000, float((sys.argv[2:] or ["60"])[0])
    with TemporaryDirectory() as name:
        folder = Path(name) / "river"
        shutil.copytree(DEMO, folder)
        with server("--quiet", cwd=folder) as url:
            host, port = url.removeprefix("http://").split(":")
            pid = next(
                int(each.name)
                for each in Path("/proc").iterdir()
                if each.name.isdigit() and f"--port\0{port}\0" in (each / "cmdline").read_text(errors="replace")
            )
            before = memory(pid)
            found = break_it(host, int(port), requests)
            print(f"{requests} broken requests: {dict(sorted(found.items()))}; {before:.0f} and {memory(pid):.0f} MB")
            stop, count = list[bool](), [0] * 6
            others = [
                Thread(target=change, args=(folder, stop)),
                Thread(target=ask, args=(host, int(port), count, stop)),
            ]
            for each in others:
                each.start()
            for n in range(max(1, round(minutes))):
                time.sleep(60 * minutes / max(1, round(minutes)))
                if n % 5 == 0 or n + 1 == round(minutes):
                    rest = sum(count) - count[2]
                    print(f"after {n + 1} minutes: {memory(pid):.1f} MB, {count[2]} answers, {rest} others", flush=True)
            stop.append(True)
            for each in others:
                each.join()


if __name__ == "__main__":
    main()
