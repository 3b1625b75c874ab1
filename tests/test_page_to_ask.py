"""The report as a page that is asked: every answer in it is the community's, and a hand finds its way to each."""

from __future__ import annotations

import json
import shutil
from collections.abc import Iterator
from pathlib import Path
from random import Random
from typing import TYPE_CHECKING, Any
from urllib.parse import urlencode

import pytest

from ask_above import Community
from ask_above.ask import page_answers
from ask_above.ask.tables import power_cells
from ask_above.charter.rules import BETWEEN_RANKS, Act
from ask_above.decide.profile import Asked, ask_anybody
from ask_above.show.report import report
from commands import run
from conftest import DEMO as DEMO_FOLDER
from generated import generate
from page_reader import PageReader
from seeds import seeds
from standard import Size, charter, register
from test_report_in_a_browser import POOR_CONTRAST

if TYPE_CHECKING:
    from selenium.webdriver import Chrome

DEMO = Community.demo()


def persons(c: Community) -> Iterator[tuple[str, Asked]]:
    at = c.names.moment()
    for who in (*c.register.members, *(f"rank:{key}" for key in c.charter.ranks), "visitor"):
        yield who, c.decider.asked(who, at)
    yield "new member", ask_anybody(c.decider.compiled)


def held_to_the_community(c: Community, page: str) -> int:
    """Compare every answer, the tree of places and power over ranks; return how many answers there were."""
    read, count, rows = PageReader(page), 0, set[int]()
    for who, asked in persons(c):
        label, row = read.persons[who][2], read.persons[who][5]
        for n, place in enumerate(c.charter.places):
            for capability in c.charter.catalogue.keys:
                answer = c.decider.may(asked, capability, n)
                found = read.answer(who, capability, place)
                assert found.allowed is answer.allowed, (who, capability, place)
                count += 1
                if row not in rows:  # those of one row read the same words, with their own names
                    assert found.reason == answer.reason, (who, capability, place)
                    assert not found.steps or found.steps == [step.text for step in answer.steps]
        rows.add(row)
        assert label == asked.label
        if who == "new member":
            continue
        for stop in c.tour(who).stops:
            assert read.state(who, stop.place) == stop.state, (who, stop.place)
            assert read.changes(who, stop.place) == (stop.more, stop.less), (who, stop.place)
    assert held_to_power(c, read) or not read.data["powers"]["acts"]
    return count


def held_to_power(c: Community, read: PageReader) -> int:
    """Compare who may act on whom, with why not; return how many cells there were."""
    count = 0
    for act in BETWEEN_RANKS:
        if act not in read.data["powers"]["acts"]:
            continue
        cells = power_cells(c.decider, Act(act), 0, c.names.moment())
        for number, cell in enumerate(cells):
            why = [step.text for step in cell.against[:4]]
            assert read.power(act, *divmod(number, len(c.charter.ranks))) == why, (act, cell)
            count += 1
    return count


@pytest.fixture(scope="module")
def text() -> str:
    return DEMO.report()


@pytest.mark.slow
def test_every_answer_of_the_demo_stands_in_its_page(text: str) -> None:
    assert held_to_the_community(DEMO, text) == (60 + 12 + 2) * 20 * 41
    assert len(text.encode()) < 1_000_000
    # a rank is told with every step
    assert PageReader(text).answer("rank:volunteer", "reading.post", "lower-gauges").steps


@pytest.mark.slow
@pytest.mark.parametrize("seed", seeds(12))
def test_every_answer_of_a_random_community_stands_in_its_page(seed: int) -> None:
    c = generate(Random(seed)).open()
    assert held_to_the_community(c, c.report())


@pytest.mark.slow
def test_for_a_member_it_names_whom_they_may_see() -> None:
    assert not DEMO.may("bram", "contact.see.all")
    page = DEMO.report(viewer="bram")
    assert "Made for Bram Ashby" in page
    assert "Dara Fenwick" not in page
    assert "dara" in PageReader(page).persons
    assert DEMO.may("ada", "contact.see.all")
    assert "Dara Fenwick" in DEMO.report(viewer="ada")


@pytest.mark.slow
def test_without_members_it_answers_for_ranks() -> None:
    page = DEMO.report(members=False)
    assert held_to_power(DEMO, PageReader(page)) == 3 * 12 * 12
    assert [key for key in PageReader(page).persons if not key.startswith("rank:")] == ["new member", "visitor"]
    assert not any(member.called in page for member in DEMO.register.members.values())


@pytest.mark.slow
def test_what_is_too_large_is_left_out_and_said() -> None:
    whole = len(DEMO.report().encode())
    fewer = report(DEMO, "html", budget=whole - 1)
    assert "Left out to keep the page small: members." in fewer
    assert "dara" not in PageReader(fewer).persons
    assert len(PageReader(fewer).places) == 20
    fewest = report(DEMO, "html", budget=1000)
    assert "members, and 7 places." in fewest
    assert "lower-gauges" in PageReader(fewest).places
    assert "photo-wall" not in PageReader(fewest).places


@pytest.mark.slow
def test_more_forms_than_have_a_number_leave_reasons_out_and_no_answer(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(page_answers, "_MOST_NUMBERS", 64)
    read, reasons = PageReader(DEMO.report(members=False)), 0
    for who, asked in persons(DEMO):
        for n, place in enumerate(DEMO.charter.places if who in read.persons else ()):
            for capability in DEMO.charter.catalogue.keys:
                answer, found = DEMO.decider.may(asked, capability, n), read.answer(who, capability, place)
                assert (found.allowed, found.reason or answer.reason) == (answer.allowed, answer.reason)
                reasons += found.reason is not None
    assert reasons


@pytest.mark.slow
def test_of_very_many_places_it_answers_for_the_first_and_says_so(monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(page_answers, "_MOST_CELLS", 200_000)
    size = Size(ranks=20, capabilities=50, places=300, overrides=1_500, members=20, profiles=10)
    c = Community(charter(size), register(size))
    page = c.report()
    read = PageReader(page)
    assert len(read.places) == 200_000 // (20 * 50)
    assert f"{300 - len(read.places)} places." in page
    rng, now = Random(3), c.names.moment()
    for _ in range(500):
        who, place = f"rank:{rng.choice([*c.charter.ranks])}", rng.choice([*read.places])
        capability = rng.choice(c.charter.catalogue.keys)
        answer = c.decider.may(c.decider.asked(who, now), capability, c.decider.compiled.place_at[place])
        found = read.answer(who, capability, place)
        assert found.allowed is answer.allowed, (who, capability, place)
        assert found.reason in (None, answer.reason)


@pytest.mark.slow
def test_since_a_change_it_says_who_gained_and_lost_what(tmp_path: Path) -> None:
    demo = tmp_path / "river"
    shutil.copytree(DEMO_FOLDER, demo)
    assert run("rank", "grant", "host", "post.edit.all", "--yes", cwd=demo).returncode == 0
    done = run("report", "page.html", "--since", "0", cwd=demo)
    assert done.returncode == 0, done.stderr
    page = (demo / "page.html").read_text("utf-8")
    assert "Changes since change 0" in page
    assert "Board host (2 members) gained" in page
    assert "after change 2" in page
    assert run("report", "page.md", "--since", "0", cwd=demo).returncode == 0
    assert "- Board host (2 members) gained: post.edit.all in Alder board" in (demo / "page.md").read_text("utf-8")
    hidden = DEMO.after(charter=Community.open(demo).charter).report(members=False, since=DEMO)
    assert "post.edit.all" in hidden[hidden.index('id="since"') : hidden.index('id="ladder"')]


# -- in a browser


def opened(browser: Chrome, page: str, **state: str) -> None:
    browser.get("about:blank")
    browser.get(f"{page}#{urlencode(state)}")


def said(browser: Chrome, id_: str) -> str:
    """What stands in a part of the page once all that was begun is done."""
    browser.execute_async_script("const done = arguments[0]; setTimeout(() => setTimeout(done, 30), 30)")
    return " ".join(
        (browser.execute_script("return document.getElementById(arguments[0]).innerText", id_) or "").split()
    )


def typed(browser: Chrome, field: str, value: str) -> None:
    box = browser.find_element("id", field)
    box.clear()
    box.send_keys(value + "\t")


@pytest.fixture(scope="module")
def page(tmp_path_factory: pytest.TempPathFactory, text: str) -> str:
    file = tmp_path_factory.mktemp("page") / "page.html"
    file.write_text(text, "utf-8")
    return file.as_uri()


@pytest.mark.slow
class TestInABrowser:
    def test_what_is_typed_is_answered_as_the_community_does(self, browser: Chrome, page: str) -> None:
        rng, c = Random(5), DEMO
        for who in rng.sample([*c.register.members, "rank:host", "rank:volunteer", "visitor"], 5):
            place, capability = rng.choice([*c.charter.places]), rng.choice(c.charter.catalogue.keys)
            browser.get("about:blank")
            browser.get(page)
            typed(browser, "ask-as", "a visitor" if who == "visitor" else who)
            typed(browser, "ask-at", c.charter.places[place].title)
            typed(browser, "ask-may", capability)
            answer = c.decider.may(
                c.decider.asked(who, c.names.moment()), capability, c.decider.compiled.place_at[place]
            )
            whole = said(browser, "answer")
            assert whole.startswith(f"{answer.account.sentence} {answer.reason}"), (who, capability, place)

    def test_own_and_any_are_asked_apart(self, browser: Chrome, page: str) -> None:
        opened(browser, page, **{"as": "dara", "at": "notices", "may": "post.edit", "own": "1"})
        assert said(browser, "answer").startswith("Yes: Dara Fenwick may use post.edit.own in Notices")
        browser.find_element("css selector", "#ask-own option[value='0']").click()
        assert said(browser, "answer").startswith("No: Dara Fenwick may not use post.edit.all in Notices")

    def test_a_place_is_walked_to_by_keys_and_back_goes_back(self, browser: Chrome, page: str) -> None:
        opened(browser, page, **{"as": "rank:volunteer"})
        stops = {stop.place: stop for stop in DEMO.tour("rank:volunteer").stops}
        count = len(DEMO.charter.places)
        buttons = browser.find_elements("css selector", "#tree button")
        assert len(buttons) == count
        buttons[0].click()
        for _ in range(count - 1):
            browser.switch_to.active_element.send_keys("\ue015")  # down
        last = [*stops][-1]
        assert f"at={last}" in browser.current_url
        assert said(browser, "place-here").startswith(DEMO.charter.places[last].title)
        browser.back()
        assert f"at={[*stops][-2]}" in browser.current_url
        assert "What this place takes away" not in said(browser, "place-here")
        opened(browser, page, **{"as": "rank:volunteer", "at": "lower-gauges"})
        assert "What this place takes away Field work enter a reading reading.post" in said(browser, "place-here")

    def test_two_people_stand_side_by_side(self, browser: Chrome, page: str) -> None:
        opened(browser, page, **{"as": "dara", "beside": "petra", "at": "river-talk"})
        both = said(browser, "place-here")
        one = {
            key for key in DEMO.charter.catalogue.keys if DEMO.decider.usable(*asked("dara", "river-talk")) & bit(key)
        }
        other = {
            key for key in DEMO.charter.catalogue.keys if DEMO.decider.usable(*asked("petra", "river-talk")) & bit(key)
        }
        only, rest = both[both.index("Only Dara") :].split("Both")
        assert {key for key in DEMO.charter.catalogue.keys if f" {key}" in only} == one - other
        assert one & other == {key for key in DEMO.charter.catalogue.keys if f" {key}" in rest}

    def test_a_rank_s_power_is_listed_with_each_reason(self, browser: Chrome, page: str) -> None:
        opened(browser, page)
        ranks = [*DEMO.charter.ranks]
        browser.find_element("css selector", f"#power-rank option[value='{ranks.index('host')}']").click()
        listed = said(browser, "power-list")
        for target in ranks:
            title = DEMO.charter.ranks[target].title
            answer = DEMO.may_moderate("rank:host", f"rank:{target}")
            assert title in listed
            assert answer or answer.reason in listed, (target, listed)

    def test_what_nothing_is_called_is_said(self, browser: Chrome, page: str) -> None:
        opened(browser, page, **{"as": "daraa", "at": "atlantis"})
        assert "“daraa”" in said(browser, "ask-unknown")
        assert "“atlantis”" in said(browser, "ask-unknown")
        typed(browser, "ask-as", "nobody of that name")
        assert "names nothing here" in said(browser, "ask-unknown")

    def test_what_needs_a_look_leads_to_where_it_is_seen(self, browser: Chrome, page: str) -> None:
        opened(browser, page)
        links = browser.find_elements("css selector", ".looks a.asks")
        assert len(links) >= 5
        browser.execute_script("arguments[0].click()", links[0])
        assert said(browser, "answer").startswith("No: Volunteer may not use reading.post in Lower gauges")

    @pytest.mark.parametrize("ground", ["light", "dark"])
    def test_what_is_answered_can_be_read_and_named(self, browser: Chrome, page: str, ground: str) -> None:
        features = [{"name": "prefers-color-scheme", "value": ground}]
        browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})
        opened(browser, page, **{"as": "rank:volunteer", "at": "lower-gauges", "may": "reading.post"})
        browser.execute_script("for (const each of document.querySelectorAll('#asked details')) each.open = true")
        assert browser.execute_script(POOR_CONTRAST) == []
        browser.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": []})
        for each in browser.find_elements("css selector", "#ask input, #asked button, #asked a, #asked summary"):
            assert each.accessible_name or not each.is_displayed()

    @pytest.mark.parametrize("width", [360, 1280, 2000])
    def test_it_fits_a_phone_and_a_wide_screen(self, browser: Chrome, page: str, width: int) -> None:
        size = {"width": width, "height": 800, "deviceScaleFactor": 1, "mobile": False}
        browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        opened(browser, page, **{"as": "dara", "at": "river-talk", "beside": "petra", "may": "post.write"})
        wide = browser.execute_script("return document.documentElement.scrollWidth")
        browser.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
        assert wide <= width

    def test_without_scripts_it_reads_as_before(self, browser: Chrome, page: str) -> None:
        browser.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": True})
        try:
            browser.get(page)
            assert not browser.find_element("id", "ask").is_displayed()
            assert not browser.find_element("id", "asked").is_displayed()
            assert not browser.find_element("id", "power-rank").is_displayed()
            assert browser.find_element("id", "ladder").is_displayed()
            assert not any(each.is_displayed() for each in browser.find_elements("css selector", "a.asks"))
        finally:
            browser.execute_cdp_cmd("Emulation.setScriptExecutionDisabled", {"value": False})

    def test_hostile_names_are_names_wherever_they_are_asked_about(self, browser: Chrome, tmp_path: Path) -> None:
        evil = "</script><img src=x onerror=\"document.title='taken'\"><b style='color:red'>\" ' & ${1} ` \u202e\u2066"
        c = DEMO
        ranks = {k: rank._replace(title=f"{evil} {k}") for k, rank in c.charter.ranks.items()}
        places = {k: place._replace(title=f"{evil} {k}") for k, place in c.charter.places.items()}
        people = {k: member._replace(name=f"{evil} {k}") for k, member in c.register.members.items()}
        c = Community(c.charter._replace(ranks=ranks, places=places), c.register.changed(people))
        page = c.report()
        # what turns the direction of reading is written out
        assert "\u202e" not in page + json.dumps(PageReader(page).data, ensure_ascii=False)
        (tmp_path / "evil.html").write_text(page, "utf-8")
        browser.get_log("browser")  # type: ignore[no-untyped-call]
        for state in (
            {"as": "dara", "at": "notices", "may": "post.write"},
            {"as": "rank:host", "beside": "petra"},
            {"as": evil},
        ):
            opened(browser, (tmp_path / "evil.html").as_uri(), **state)
            assert browser.title == "Wren Valley River Watch: who may do what"
            assert browser.execute_script("return document.images.length") == 0
            assert not browser.execute_script("return document.querySelectorAll('[style]').length")
        opened(browser, (tmp_path / "evil.html").as_uri(), **{"as": "dara", "at": "notices", "may": "post.write"})
        assert f"{evil} dara".split()[0] in said(browser, "answer")
        assert [each for each in browser.get_log("browser") if each["level"] != "INFO"] == []  # type: ignore[no-untyped-call]

    def test_no_request_leaves_it_and_its_policy_lets_nothing_in(self, browser: Chrome, page: str) -> None:
        browser.get_log("performance")  # type: ignore[no-untyped-call]
        opened(browser, page, **{"as": "dara", "at": "notices", "may": "post.write"})
        events = [json.loads(each["message"])["message"] for each in browser.get_log("performance")]  # type: ignore[no-untyped-call]
        urls = [e["params"]["request"]["url"] for e in events if e["method"] == "Network.requestWillBeSent"]
        assert [url for url in urls if not url.startswith(("file:", "data:", "about:"))] == []
        browser.get_log("browser")  # type: ignore[no-untyped-call]
        # a script or a style that somebody managed to bring in is not run
        browser.execute_script(_BROUGHT_IN)
        assert browser.title == "Wren Valley River Watch: who may do what"
        assert browser.execute_script("return getComputedStyle(document.body).display") != "none"
        refused = [each["message"] for each in browser.get_log("browser")]  # type: ignore[no-untyped-call]
        assert sum("Content Security Policy" in message for message in refused) == 2

    def test_a_large_page_answers_within_a_blink(self, browser: Chrome, tmp_path: Path) -> None:
        size = Size(ranks=30, capabilities=80, places=300, overrides=1500, members=1000, profiles=200)
        c = Community(charter(size), register(size))
        file = tmp_path / "large.html"
        file.write_text(c.report(), "utf-8")
        assert file.stat().st_size < 8_000_000
        who, place = [*c.register.members][7], [*c.charter.places][150]
        browser.get(file.as_uri())
        taken: Any = browser.execute_script(_TIMES, who, place, c.charter.catalogue.keys[40])
        # measured against drawing the page from nothing, in the same run
        assert max(taken["walk"], taken["place"], taken["ask"]) < taken["whole"], taken


def asked(who: str, place: str) -> tuple[Asked, int]:
    return DEMO.decider.asked(who, DEMO.names.moment()), DEMO.decider.compiled.place_at[place]


def bit(key: str) -> int:
    return DEMO.decider.compiled.catalogue.bit[key]


_BROUGHT_IN = """
const script = document.createElement("script");
script.textContent = "document.title = 'taken'";
document.body.append(script);
const style = document.createElement("style");
style.textContent = "body { display: none }";
document.head.append(style);
"""
_TIMES = """
const [who, place, capability] = arguments;
const timed = act => {
  const start = performance.now();
  act();
  document.body.offsetHeight;
  return performance.now() - start;
};
const go = hash => {
  history.replaceState(null, "", "#" + hash);
  dispatchEvent(new HashChangeEvent("hashchange"));
};
const found = {};
document.body.style.display = "none"; document.body.offsetHeight;
found.whole = timed(() => { document.body.style.display = ""; });
const best = act => Math.min(...[1, 2, 3].map(n => timed(() => act(n))));
found.walk = best(n => go(n % 2 ? `as=${who}` : "as=visitor"));
found.place = best(n => go(`as=${who}&at=${n % 2 ? place : "site"}`));
found.ask = best(n => go(`as=${who}&at=${place}&may=${capability}&n=${n}`));
return found;
"""
